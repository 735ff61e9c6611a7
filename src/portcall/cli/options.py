"""Options that commands share, and what they stand for."""

from __future__ import annotations

from ipaddress import IPv4Address
from pathlib import Path

import click

from portcall.cli.say import ADAPTER, SITE, note
from portcall.core.adapters.adapter import Adapter
from portcall.core.counted import counted
from portcall.core.finding import Line
from portcall.core.plan.reading import PlanError
from portcall.core.plan.rows import Plan
from portcall.core.trouble import BadInput
from portcall.jobs.workstation import adapters, rights
from portcall.site.folder import Site, this_site

json_option = click.option("--json", "as_json", is_flag=True, help="Print JSON instead.")

adapter_option = click.option(
    "--adapter",
    "adapter_name",
    metavar="NAME",
    help="The adapter with the plant's cable; else that of PORTCALL_ADAPTER, of site.toml, the "
    "matched one, or the only wired one that fits.",
)

group_option = click.option(
    "--group",
    metavar="GROUP",
    help="The planned devices of this group, as the plan's column group has it.",
)

capture_option = click.option(
    "--capture",
    metavar="FILE",
    help="Write what is sent and heard to FILE, as pcapng.",
)


def chosen_adapter(name: str | None, target: IPv4Address | None = None) -> Adapter:
    """The adapter to use; says which when nobody named it. Raises NotPossibleHere."""
    site = this_site()
    adapter = adapters.chosen_adapter(name, site, note, target)
    works_on(adapter.name, site)
    return adapter


def works_on(adapter: str, site: Site) -> None:
    """Have every document say on which adapter and at which site this command works."""
    meta = click.get_current_context().meta
    meta[ADAPTER], meta[SITE] = adapter, site.label


def say_what_rights_are_missing() -> None:
    """Say first what an ordinary user's look leaves out, and the line that does not."""
    if rights.lacks_raw_ethernet():
        note(
            "as an ordinary user: who answers no IP is not found, and nobody is asked outside this "
            f"computer's subnets; all of it: {rights.with_rights()}"
        )


def begin_capture(adapter: Adapter, file: str | None) -> None:
    """Until the command ends, write what passes the adapter to a file. Raises NotPossibleHere."""
    if file is not None:
        from portcall.jobs.record.capture import capturing

        click.get_current_context().with_resource(capturing(adapter, Path(file), note))


def plan_that_is_there(site: Site) -> Plan:
    """The site's plan, which has rows. Raises BadInput."""
    plan = site.plan()
    if not plan.devices:
        raise BadInput(
            "there is no plan.csv in this folder or above it; begin one", Line("plan take")
        )
    return plan


def plan_if_sound(site: Site) -> Plan:
    """The site's plan, or an empty one when it is broken, which is said then."""
    try:
        return site.plan()
    except PlanError as error:
        mistakes = counted(len(error.problems), "mistake")
        note(f"the plan is left out, it has {mistakes}: portcall plan check")
        return Plan()
