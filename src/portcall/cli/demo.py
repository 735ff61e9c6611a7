"""``portcall demo``."""

from __future__ import annotations

import sys

import click

from portcall.plant import require_namespaces
from portcall.site.matches import STATE_VARIABLE


@click.command("demo")
def demo_command() -> int:
    """The whole job on the practice plant, narrated: each command line, and its real output.

    Takes under a minute, asks nothing, touches nothing of this computer's network.

    \b
    portcall demo
    portcall demo --help
    """
    require_namespaces()
    from portcall.plant.run import Guest, run_in_plant
    from portcall.plant.scenario import shipped_scenario

    story = (sys.executable, "-m", "portcall.cli.views.story")
    return run_in_plant(shipped_scenario(), Guest(story, STATE_VARIABLE, in_site=True))
