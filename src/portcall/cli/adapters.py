"""``portcall adapters``."""

from __future__ import annotations

import click

from portcall.cli.main import INTERRUPTED, YES
from portcall.cli.options import json_option
from portcall.cli.say import note, print_json, wants_json
from portcall.cli.table import wide_option
from portcall.cli.views.adapters import (
    print_change,
    print_change_as_json,
    print_workstation,
    workstation_document,
)
from portcall.jobs.workstation.adapters import workstation_now
from portcall.site.folder import this_site


@click.command("adapters")
@click.option("--watch", is_flag=True, help="Go on, and say what changes: pull the plug to see.")
@click.option(
    "--for",
    "seconds",
    metavar="SECONDS",
    type=click.FloatRange(0, 1e6, min_open=True),
    help="With --watch: stop after this time.",
)
@wide_option
@json_option
def adapters_command(watch: bool, seconds: float | None, wide: bool) -> int:
    """Show this computer's adapters: what each is, its link, its addresses, what is in the way.

    No link means: look at the cable before anything else. Which adapter has the cable? Run it with
    --watch, pull the plug, and see which one loses its link.

    \b
    portcall adapters
    portcall adapters --watch
    """
    if seconds is not None and not watch:
        raise click.UsageError("--for goes with --watch")
    workstation = workstation_now(this_site())
    if watch:
        if not wants_json():
            print_workstation(workstation, wide)
        return _watch(seconds)
    if wants_json():
        print_json(workstation_document(workstation))
    else:
        print_workstation(workstation, wide)
    return YES


def _watch(seconds: float | None) -> int:
    """Say what changes, until Ctrl-C or for some seconds."""
    from portcall.cli.running import run_until_interrupted
    from portcall.jobs.workstation.watching import watch_for

    note("watching; pull a plug to see whose it is; Ctrl-C ends it")
    tell = print_change_as_json if wants_json() else print_change
    _, interrupted = run_until_interrupted(lambda stop: watch_for(tell, seconds, stop))
    return INTERRUPTED if interrupted else YES
