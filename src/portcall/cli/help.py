"""``portcall help``."""

from __future__ import annotations

from difflib import get_close_matches

import click

from portcall.cli.main import COMMANDS, YES
from portcall.cli.options import json_option
from portcall.cli.say import print_json, wants_json
from portcall.cli.topics import TOPICS, page
from portcall.core.printable import printable
from portcall.core.trouble import BadInput


@click.command("help")
@click.argument("words", nargs=-1, metavar="[TOPIC]")
@json_option
def help_command(words: tuple[str, ...]) -> int:
    """Explain TOPIC: what is no command, or a command. Without TOPIC, list what there is.

    \b
    portcall help exit-codes
    portcall help plan import
    """
    if not words:
        _list()
        return YES
    if len(words) == 1 and words[0] in TOPICS:
        text = page(words[0])
        if wants_json():
            print_json({"topic": words[0], "page": text})
        else:
            from portcall.cli.views.page import print_page

            print_page(text)
        return YES
    shown = _help_page(words)
    if wants_json():
        print_json({"topic": " ".join(words), "page": shown})
    else:
        click.echo(shown)
    return YES


def _list() -> None:
    if wants_json():
        print_json({"topics": [{"name": name, "about": about} for name, about in TOPICS.items()]})
        return
    formatter = click.get_current_context().make_formatter()
    with formatter.section("Topics, for portcall help TOPIC"):
        formatter.write_dl(list(TOPICS.items()))
    click.echo(formatter.getvalue().rstrip())
    click.echo("\nThe commands, and what each does: portcall --help, portcall COMMAND --help")


def _help_page(words: tuple[str, ...]) -> str:
    """The help page of a command, or of a command of its own. Raises BadInput."""
    context = click.get_current_context().find_root()
    command = context.command
    for word in words:
        known = command.get_command(context, word) if isinstance(command, click.Group) else None
        if known is None:
            shown = printable(" ".join(words), 60)
            names = [*TOPICS, *COMMANDS]
            close = [each for each in names if each.startswith(words[0])]
            close = close or get_close_matches(words[0], names, n=3)
            meant = f"did you mean {' or '.join(close)}?" if close else "portcall help lists them"
            raise BadInput(f"{shown}: is no topic and no command", f"{meant}")
        command, context = known, click.Context(known, info_name=word, parent=context)
    return command.get_help(context)
