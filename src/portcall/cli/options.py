"""Options that commands share, and what they stand for."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from contextlib import suppress
from ipaddress import IPv4Address
from pathlib import Path

import click

from portcall.cli.plug import person_at_the_cables
from portcall.cli.say import ADAPTER, JSON, SITE, note
from portcall.core.adapters.adapter import Adapter
from portcall.core.catalog.doors import parse_door
from portcall.core.counted import counted
from portcall.core.finding import Line
from portcall.core.plan.reading import PlanError
from portcall.core.plan.rows import Plan
from portcall.core.system_words import BySystem
from portcall.core.trouble import BadInput, NotPossibleHere
from portcall.jobs.record.by import By
from portcall.jobs.workstation import adapters, rights
from portcall.site.folder import Site, this_site
from portcall.site.visits import arrived, is_after_a_visit, this_visit

_NAMED_ADAPTER, _CAPTURE = "portcall.named_adapter", "portcall.capture"


def _noted(key: str) -> Callable[[click.Context, click.Parameter, object], None]:
    """A callback that notes an option in Click's context, for every part of this command."""

    def note_it(context: click.Context, option: click.Parameter, value: object) -> None:
        context.meta[key] = value

    return note_it


json_option = click.option(
    "--json",
    is_flag=True,
    expose_value=False,
    callback=_noted(JSON),
    help="Print JSON instead.",
)

adapter_option = click.option(
    "--adapter",
    metavar="NAME",
    expose_value=False,
    callback=_noted(_NAMED_ADAPTER),
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
    expose_value=False,
    callback=_noted(_CAPTURE),
    help="Write what is sent and heard to FILE, as pcapng.",
)


def named_adapter() -> str | None:
    """The adapter that was typed with ``--adapter``, or None."""
    name: str | None = click.get_current_context().meta.get(_NAMED_ADAPTER)
    return name


def capture_file() -> str | None:
    """The file that was typed with ``--capture``, or None."""
    file: str | None = click.get_current_context().meta.get(_CAPTURE)
    return file


def chosen_adapter(target: IPv4Address | None = None, harmless: bool = False) -> Adapter:
    """The adapter to work on; says which when nobody named it. Raises NotPossibleHere.

    ``target`` is who is to be reached by it; ``harmless`` what a default route would not care for.
    """
    site = this_site()
    person = person_at_the_cables()
    adapter = adapters.chosen_adapter(named_adapter(), site, note, target, harmless, person)
    works_on(adapter, site)
    return adapter


def works_on(adapter: Adapter, site: Site) -> None:
    """Have every document say on which adapter and at which site this command works; and until it
    ends, write what passes the adapter to the file that was typed. Raises NotPossibleHere."""
    context = click.get_current_context()
    context.meta[ADAPTER], context.meta[SITE] = adapter.name, site.label
    file = capture_file()
    if file is not None:
        from portcall.jobs.record.capture import capturing

        context.with_resource(capturing(adapter, Path(file), note))


_LONGEST_NUMBER = 6


def is_number(text: str) -> bool:
    """Whether this can be the number of a row; no list is so long that it has more digits."""
    return text.isascii() and text.isdecimal() and len(text) <= _LONGEST_NUMBER


def targets_meant(typed: Sequence[str], site: Site, plan: Plan, by: By) -> tuple[str, ...]:
    """What was typed, with each number of the last list as the device that it stands for.

    In a visit's shell, where nothing was typed, its device. A planned name that is a number is that
    name. Raises BadInput where a row is no longer what it was, and where nothing is meant.
    """
    if not typed:
        return (_visited(plan, by),)
    numbers = [text for text in typed if is_number(text) and plan.by_name(text) is None]
    if not numbers:
        return tuple(typed)
    from portcall.jobs.record.rows import meant_by

    adapter = None
    with suppress(NotPossibleHere):
        adapter = adapters.chosen_adapter(named_adapter(), site)
    stand_for = {each: meant_by(site, plan, adapter, int(each), by, note) for each in set(numbers)}
    return tuple(stand_for.get(text, text) for text in typed)


def target_meant(typed: str | None, site: Site, plan: Plan, by: By) -> str:
    """The same for the one target of a command."""
    return targets_meant(() if typed is None else (typed,), site, plan, by)[0]


def visits_a_device() -> bool:
    """Whether this is typed in the shell of a visit to a device."""
    around = this_visit()
    return around is not None and around.is_device


def target_and_door(
    target: str | None, door: str | None, site: Site, plan: Plan
) -> tuple[str, str | None]:
    """The same for a command that takes a DOOR, too: in a visit, the word of one is enough."""
    if door is None and target is not None and not is_number(target) and this_visit():
        from portcall.site.catalogs import read_catalogs

        doors = read_catalogs(site.folder).all_doors
        with suppress(BadInput):
            parse_door(target, doors)
            if plan.by_name(target) is None:
                target, door = None, target
    return target_meant(target, site, plan, By.ADDRESS), door


def _visited(plan: Plan, by: By) -> str:
    around = arrived()
    if around is None and is_after_a_visit():
        raise BadInput("the visit of this shell is over", "type exit, and visit again")
    if around is None or not around.is_device:
        raise click.UsageError("which TARGET? only in a visit to a device it may be left out")
    if by is By.ADDRESS or around.mac is None:
        return str(around.address)
    row = plan.by_name(around.name)
    return around.name if row is not None else str(around.mac)


def say_what_rights_are_missing() -> None:
    """Say first what an ordinary user's look leaves out, and the line that does not."""
    if rights.lacks_raw_ethernet():
        note(f"{_LEFT_OUT.here} {rights.with_rights()}")


_LEFT_OUT = BySystem(
    "as an ordinary user: who answers no IP is not found, and nobody is asked outside this "
    "computer's subnets; all of it:",
    "without frames: who has no address is not found, and nobody is asked outside this computer's "
    "subnets; all of it:",
)
"""What a look leaves out where this process may read no frames."""


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
