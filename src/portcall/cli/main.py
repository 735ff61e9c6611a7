"""The ``portcall`` command: its list of commands, and how every one of them ends.

A command's module is imported when the command is called, and not before: ``--version`` and
completion stay quick.
"""

from __future__ import annotations

import io
import os
import signal
import sys
from collections.abc import Sequence
from pathlib import Path
from typing import NoReturn

import click
from click.shell_completion import CompletionItem

from portcall import __version__
from portcall.cli.lazy import LazyGroup
from portcall.core.system_words import speak_of
from portcall.core.trouble import BadInput, NotPossibleHere, Trouble
from portcall.site.logbook.heard import listen
from portcall.system import ENDINGS, SYSTEM
from portcall.system.terminals import begin, press_ctrl_c

_COMPLETE_VARIABLE = "_PORTCALL_COMPLETE"
"""By which a shell asks what it may complete."""

YES, NO, BAD_INPUT, NOT_POSSIBLE, INTERRUPTED = 0, 1, 2, 3, 130

GROUPS = {
    # In the order of the work; what is typed every day comes first.
    "The first five": {
        "adapters": "This computer's adapters: link, addresses, what is in the way.",
        "find": "Find and identify what is on the wire.",
        "visit": "Be in a device's subnet until you leave; then all is as it was.",
        "assign": "Give planned devices their addresses by BOOTP and DHCP.",
        "verify": "Hold the plan against what is really on the wire.",
    },
    "This computer": {
        "match": "Put this computer into a device's subnet.",
        "restore": "Put this computer's adapters back as they were.",
        "setup": "Give this program its rights once, so that no line needs sudo; undo.",
        "completion": "Have the shell complete commands, adapters and planned names.",
    },
    "The wire and the plan": {
        "listen": "Send nothing: who asks, who announces itself, which subnets are heard.",
        "free": "The next addresses that nobody has, on the wire or in the plan.",
        "plan": "The plan: which device shall have which address.",
        "catalog": "Names for what devices say only in numbers: descriptions you can add.",
    },
    "One device": {
        "move": "Bring devices from the address they have to the planned one.",
        "keep": "Tell devices to keep their address when the power goes.",
        "swap": "Put a new device in the place of one that died.",
        "blink": "Have a device show itself, to find it in the cabinet.",
        "open": "Open a device's page, or a shell on it, once it is seen to answer.",
    },
    "Why it does not answer": {
        "reach": "Ping devices: loss and times.",
        "trace": "Show the way to a device, hop by hop.",
        "why": "Say why a device is not reachable, rung by rung, and what to do.",
    },
    "The record": {
        "status": "How far the site is, from its logbook; nothing is sent.",
        "compare": "What changed between two looks.",
        "logbook": "What was seen and done at this site, by whom and when.",
        "note": "Write down what you did or saw at a device, with a picture.",
        "sketch": "Draw the site: switches, subnets, and each device with name and address.",
        "report": "The hand-over record: devices, proofs, changes, room for signatures.",
    },
    "To practise, and to read": {
        "demo": "The whole job on the practice plant, in under a minute.",
        "plant": "The practice plant: simulated devices to try all this on.",
        "help": "Explain what is no command: files, plan columns, exit codes, faults, privileges.",
    },
}

COMMANDS = {name: told for group in GROUPS.values() for name, told in group.items()}

_END_BY_THE_SIGNAL = {"plant", "demo"}
"""They change nothing of this computer, and what they started ends with them."""

_REMIND_AFTER = {
    "adapters",
    "match",
    "find",
    "assign",
    "keep",
    "move",
    "swap",
    "reach",
    "verify",
    "why",
}


class CommandList(LazyGroup):
    """The commands, each in a module that is named after it."""

    modules = {name: f"portcall.cli.{name}" for name in COMMANDS}  # noqa: RUF012

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        """Find the command; for one that is none, name those that are spelt nearly so."""
        name = args[0]
        if name not in COMMANDS and not name.startswith("-"):
            from difflib import get_close_matches

            close = get_close_matches(name, COMMANDS, n=3)
            meant = f"; did you mean {' or '.join(close)}?" if close else ""
            raise click.UsageError(f"{name}: is no command{meant}", ctx)
        return super().resolve_command(ctx, args)

    def shell_complete(self, ctx: click.Context, incomplete: str) -> list[CompletionItem]:
        """Complete the name of a command, without importing any of them, or an option."""
        fitting = [
            CompletionItem(name, help=summary)
            for name, summary in COMMANDS.items()
            if name.startswith(incomplete)
        ]
        return fitting + click.Command.shell_complete(self, ctx, incomplete)

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """The list in ``--help``, without importing any of them."""
        widest = max(map(len, COMMANDS))
        for title, group in GROUPS.items():
            with formatter.section(title):
                formatter.write_dl([(f"{name:<{widest}}", told) for name, told in group.items()])


@click.command(
    cls=CommandList,
    invoke_without_command=True,
    context_settings={"help_option_names": ["-h", "--help"]},
)
@click.version_option(__version__, message="portcall %(version)s")
@click.pass_context
def portcall(context: click.Context) -> int | None:
    """Find the devices on a plant network, give them their addresses, prove they are reachable.

    What tells something takes --json. Each ends with 0 when the answer is yes, 1 when it is no, 2
    when what was typed or written is wrong, 3 when this computer cannot do it.

    "portcall" alone, at a site, says where you stand and what is next. Nothing to hand? "portcall
    demo" shows the whole job on a simulated plant.
    """
    listen(_say_damaged)
    if context.invoked_subcommand is not None:
        return None
    from portcall.cli.standing import say_where_one_stands

    if not say_where_one_stands():
        click.echo(context.get_help())
    return YES


def _say_damaged(folder: Path, sentences: Sequence[object]) -> None:
    """Whatever a command says that read this logbook rests on less than was written there."""
    from portcall.cli.say import note

    more = len(sentences) - 1
    rest = f" (and {more:,} more)" if more else ""
    note(f"the logbook is damaged: {sentences[0]}{rest}: portcall logbook check")


def _have_streams() -> None:
    """A closed stream (``>&-``) accepts everything that is written to it, and keeps nothing."""
    if sys.stdout is None:
        sys.stdout = open(os.devnull, "w", encoding="utf-8")  # noqa: SIM115
    if sys.stderr is None:
        sys.stderr = open(os.devnull, "w", encoding="utf-8")  # noqa: SIM115
    if sys.stdin is None:
        sys.stdin = open(os.devnull, encoding="utf-8")  # noqa: SIM115


def main() -> NoReturn:
    """Run a command line and end the process with the exit code that tells how it went."""
    _have_streams()
    begin()
    speak_of(SYSTEM)
    for stream in (sys.stdout, sys.stderr):
        # A terminal that cannot show a character shows another in its place.
        if isinstance(stream, io.TextIOWrapper):
            stream.reconfigure(errors="replace")
    sys.unraisablehook = say_again
    if _COMPLETE_VARIABLE in os.environ:
        from portcall.cli.completing import answer

        answered = answer(portcall, os.environ[_COMPLETE_VARIABLE])
        if answered is not None:
            click.echo(answered)
            sys.exit(YES)
    if len(sys.argv) > 1 and sys.argv[1] not in _END_BY_THE_SIGNAL:
        end_like_ctrl_c()
    code = _run()
    if len(sys.argv) > 1 and sys.argv[1] in _REMIND_AFTER:
        _remind()
    sys.exit(code)


def end_like_ctrl_c() -> None:
    """From now on, being told to end, or losing the terminal, ends this process as Ctrl-C does.

    A command that has changed something puts it back then. What was ignored stays ignored (nohup).
    """
    for number in ENDINGS:
        if signal.getsignal(number) is signal.SIG_DFL:
            signal.signal(number, lambda number, frame: signal.raise_signal(signal.SIGINT))


def say_again(dropped: sys.UnraisableHookArgs) -> None:
    """Send Ctrl-C once more when Python has dropped it.

    Python drops an exception that is raised in one of its own callbacks; Ctrl-C was meant for the
    command.
    """
    if not isinstance(dropped.exc_value, KeyboardInterrupt):
        sys.__unraisablehook__(dropped)
        return
    from threading import Timer

    Timer(0.02, press_ctrl_c).start()


def _run() -> int:
    try:
        result = portcall.main(prog_name="portcall", standalone_mode=False)
        sys.stdout.flush()
        return result if isinstance(result, int) else YES
    except click.ClickException as error:
        context = getattr(error, "ctx", None)
        how = f"{context.command_path if context else 'portcall'} --help"
        message = error.format_message().rstrip(".")
        if message.endswith("?"):
            return _fail(BadInput(f"{message} See {how}"), error.exit_code)
        return _fail(BadInput(message, f"see {how}"), error.exit_code)
    except BadInput as trouble:
        return _fail(trouble, BAD_INPUT)
    except NotPossibleHere as trouble:
        return _fail(trouble, NOT_POSSIBLE)
    except (click.Abort, KeyboardInterrupt):
        click.echo("interrupted", err=True)
        return INTERRUPTED
    except BrokenPipeError:
        _nobody_reads()
        return YES
    except OSError as error:
        # The operating system refused something that no command expected: no defect of ours.
        return _fail(NotPossibleHere(f"the operating system refuses: {error}"), NOT_POSSIBLE)


def _fail(trouble: Trouble, code: int) -> int:
    """Say what is wrong; to a program that wants JSON, in JSON as well."""
    from portcall.cli.say import wrapped

    click.echo(click.style(wrapped(f"portcall: {trouble}"), fg="red"), err=True)
    typed = sys.argv[1 : sys.argv.index("--") if "--" in sys.argv else None]
    if "--json" in typed:
        import json

        hint = str(trouble.do) if trouble.do is not None else None
        try:
            click.echo(json.dumps({"error": trouble.what, "hint": hint}, ensure_ascii=False))
        except BrokenPipeError:
            _nobody_reads()
    return code


def _nobody_reads() -> None:
    """The reader has seen enough: what Python would still flush goes nowhere."""
    os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())


def _remind() -> None:
    """Everyone forgets to put the computer back."""
    from portcall.site.matches import open_matches

    # What a visit added goes when it ends; one that was killed left it.
    matches = [each for each in open_matches() if each.visitor is None or each.is_forgotten]
    if not matches:
        return
    from portcall.jobs.workstation.adapters import adapters_now

    here = {each.mac: each.interfaces for each in adapters_now()}
    for match in matches:
        what = f"{match.adapter} {match.added}"
        if match.is_forgotten:
            click.echo(f"\nleft by a line that was killed: {what}: portcall restore", err=True)
        elif match.added in here.get(match.mac, ()):
            click.echo(f"\nstill matched: {what}; when done: portcall restore", err=True)
        elif match.mac not in here:
            click.echo(
                f"\nmatched, and its adapter is not here: {what}; plug it in again, and: portcall "
                "restore",
                err=True,
            )
        else:
            click.echo(
                f"\nmatched, and gone from this computer meanwhile: {what}; what else there is to "
                "put back: portcall restore",
                err=True,
            )
