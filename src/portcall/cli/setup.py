"""``portcall setup``."""

from __future__ import annotations

import sys

import click

from portcall.cli.main import NO, YES
from portcall.cli.options import json_option
from portcall.cli.say import note, print_json, wants_json
from portcall.cli.table import Columns, cell, print_rows
from portcall.core.trouble import BadInput, NotPossibleHere
from portcall.jobs.workstation import setup
from portcall.jobs.workstation.rights import is_root


@click.command("setup")
@click.option("--yes", is_flag=True, help="Do it, without asking.")
@click.option("--undo", is_flag=True, help="Take it all back.")
@click.option(
    "--group", metavar="GROUP", help="Who may run the copy; else the group of who called sudo."
)
@json_option
def setup_command(yes: bool, undo: bool, group: str | None) -> int:
    """Give this program its rights once, so that no line needs sudo.

    They go to a copy of the Python interpreter beside the program, which one group may run; the
    interpreter that everybody runs gets none. Who is in that group can run any Python program with
    these rights. It takes root once; as anybody else, what is set up is shown, and the line that
    does it.

    \b
    portcall setup
    portcall setup --group plant
    portcall setup --undo
    """
    if undo and (yes or group):
        raise BadInput("--undo takes back what was done", "--yes and --group are for doing it")
    of = setup.installed()
    if undo:
        return _undo(of)
    if yes and not is_root():
        words = ["--yes", *(["--group", group] if group else [])]
        raise NotPossibleHere(f"that needs root: {setup.line_as_root(of, *words)}")
    done = setup.state(of)
    whose = setup.chosen_group(group) if is_root() else None
    if yes and whose is None:
        raise BadInput("root needs no rights", "whose group may run this program? --group GROUP")
    if not wants_json():
        _show(of, done)
    if whose is not None and (done.missing or done.group != whose[1]):
        number, name = whose
        note(
            f"who is in the group {name} will be able to run {of.copy} with these rights; nobody "
            "else but root can run this program then"
        )
        if yes or (not wants_json() and sys.stdin.isatty() and click.confirm("do it?", err=True)):
            setup.set_up(of, number)
            of = setup.installed()
            done = setup.state(of)
            back = setup.line_as_root(of, "--undo")
            note(f"done: {of.script} runs by {of.copy}; back: {back}")
    elif done.missing:
        words = ["--group", group or "GROUP"] if group or is_root() else []
        note(f"to do it: {setup.line_as_root(of, *words)}")
    if wants_json():
        _print(of, done)
    return NO if done.missing else YES


def _show(of: setup.Installed, done: setup.SetupState) -> None:
    rows = [(right.name, right.purpose, right.is_held) for right in setup.rights()]
    columns = Columns("right", "is needed for", "this process has it")
    print_rows(
        columns, rows, lambda row: [cell(row[0]), cell(row[1]), cell("yes" if row[2] else "no")]
    )
    if not done.missing:
        click.echo(f"set up: {of.script} runs by {of.copy}, for the group {done.group}")
        return
    click.echo("not set up" if not of.is_set_up and not done.group else "set up, and not right:")
    if of.is_set_up or done.group:
        for each in done.missing:
            click.echo(f"  {each}")


def _undo(of: setup.Installed) -> int:
    if not is_root() and (of.is_set_up or of.copy.exists()):
        raise NotPossibleHere(f"that needs root: {setup.line_as_root(of, '--undo')}")
    was = setup.undo(of)
    after = setup.installed()
    if wants_json():
        _print(after, setup.state(after))
    else:
        note(
            f"{after.script} runs by {after.interpreter} again, and {after.copy} is gone"
            if was
            else "nothing was set up"
        )
    return YES


def _print(of: setup.Installed, done: setup.SetupState) -> None:
    rights = [
        {"name": right.name, "for": right.purpose, "held": right.is_held}
        for right in setup.rights()
    ]
    print_json(
        {
            "program": str(of.script),
            "interpreter": str(of.interpreter),
            "copy": str(of.copy),
            "set_up": not done.missing,
            "group": done.group,
            "missing": list(done.missing),
            "rights": rights,
            "line": setup.line_as_root(of),
        }
    )
