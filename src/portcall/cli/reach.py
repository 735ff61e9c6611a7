"""``portcall reach``."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from contextlib import ExitStack, closing
from dataclasses import replace
from functools import partial
from ipaddress import IPv4Address
from pathlib import Path
from time import monotonic

import click

from portcall.cli.main import INTERRUPTED, NO, NOT_POSSIBLE, YES
from portcall.cli.options import (
    adapter_option,
    capture_file,
    capture_option,
    chosen_adapter,
    group_option,
    json_option,
    named_adapter,
    plan_if_sound,
    targets_meant,
)
from portcall.cli.recording import recorded
from portcall.cli.running import run_until_interrupted
from portcall.cli.say import note
from portcall.cli.views.reach import name_of, print_results
from portcall.cli.views.reach_watch import watch_view
from portcall.core.catalog.doors import parse_door
from portcall.core.counted import counted
from portcall.core.finding import Line
from portcall.core.plan.rows import Plan
from portcall.core.plan.targets import parse_targets, with_group
from portcall.core.reach.echo_facts import Fact, Target
from portcall.core.reach.ping import HEADERS, LONGEST, OCTETS
from portcall.core.reach.series import Series, series_of
from portcall.core.reach.statistics import summarise
from portcall.core.reach.watch import TargetWatch
from portcall.core.record.entry import Kind
from portcall.core.talk.conversation import Endpoint
from portcall.core.talk.pacer import HIGHEST_PACE, Pace
from portcall.core.trouble import BadInput, NotPossibleHere
from portcall.jobs.reach.asking import Rounds
from portcall.jobs.reach.reach import not_oneself, reach
from portcall.jobs.reach.watching import EchoWatch, Ends, by_the_calendar, wall_time
from portcall.jobs.record.by import By
from portcall.jobs.workstation.adapters import is_named
from portcall.jobs.workstation.ways import own_address_finding
from portcall.site.catalogs import read_catalogs
from portcall.site.echo_log import EchoLog, read_echoes
from portcall.site.folder import Site, this_site

_PLOTS = (".png", ".svg", ".pdf")
_MOST_KEPT = 2_000_000


@click.command("reach")
@click.argument("targets", nargs=-1, metavar="TARGET…")
@click.option(
    "--door",
    "doors",
    multiple=True,
    metavar="DOOR",
    help="Time connections to this port instead of echoes: 502, cip, web; several at once.",
)
@click.option(
    "--count",
    default=4,
    show_default=True,
    metavar="NUMBER",
    type=click.IntRange(1, 1000),
    help="How many echoes to each target.",
)
@click.option(
    "--interval",
    default=1.0,
    show_default=True,
    metavar="SECONDS",
    type=click.FloatRange(0.05, 3600),
    help="Seconds from one echo to the next.",
)
@click.option(
    "--wait",
    default=1.0,
    show_default=True,
    metavar="SECONDS",
    type=click.FloatRange(0.05, 60),
    help="Seconds until an echo counts as lost.",
)
@click.option(
    "--size",
    "sizes",
    multiple=True,
    metavar="OCTETS",
    type=click.IntRange(HEADERS, LONGEST),
    help="Octets of an echo's IPv4 packet; several are sent in turn.",
)
@click.option(
    "--pace",
    metavar="PACKETS",
    type=click.FloatRange(1, HIGHEST_PACE),
    help="Packets a second in all, at most; the site's, or 1000.",
)
@click.option(
    "--accept",
    default=95.0,
    show_default=True,
    metavar="PERCENT",
    type=click.FloatRange(0, 100, min_open=True),
    help="How many of 100 must come back from each target for the answer to be yes.",
)
@click.option("--watch", is_flag=True, help="Go on until Ctrl-C, and show the last minute.")
@click.option(
    "--for",
    "lasts",
    metavar="SECONDS",
    type=click.FloatRange(0.1),
    help="Watch for so many seconds.",
)
@click.option("--until-up", is_flag=True, help="Watch until every target answers.")
@click.option("--until-down", is_flag=True, help="Watch until one does not answer, twice.")
@click.option("--log", "log_file", metavar="FILE.csv", help="Add every echo to FILE.")
@click.option("--from", "from_file", metavar="FILE.csv", help="Read such a file, and send nothing.")
@click.option("--plot", "plot_file", metavar="FILE", help="Draw the times: .png, .svg or .pdf.")
@group_option
@adapter_option
@capture_option
@json_option
def reach_command(
    targets: tuple[str, ...],
    doors: tuple[str, ...],
    count: int,
    interval: float,
    wait: float,
    sizes: tuple[int, ...],
    pace: float | None,
    accept: float,
    watch: bool,
    lasts: float | None,
    until_up: bool,
    until_down: bool,
    log_file: str | None,
    from_file: str | None,
    plot_file: str | None,
    group: str | None,
) -> int:
    """Send echoes to each TARGET: an address, a range, a subnet or a planned name.

    Ends with 0 when at least 95 of 100 came back from every target, or as --accept says. When one
    does not answer, "portcall why TARGET" says more. Ctrl-C shows what there is.

    \b
    portcall reach dryer-plc fan-drive-1
    portcall reach 10.61.20.10-20 --watch --log night.csv
    """
    plot = _plot_path(plot_file)
    if from_file is not None:
        if targets or doors or log_file or watch or until_up or until_down:
            raise BadInput(
                "--from reads what was", "name no target, door, --log or --watch with it"
            )
        return _read_again(Path(from_file), plot, accept)
    site = this_site()
    plan = plan_if_sound(site)
    if targets or group is None:
        targets = targets_meant(targets, site, plan, By.ADDRESS)
    targets = with_group(targets, group, plan)
    addresses = [address for span in parse_targets(targets, plan) for address in span]
    _say_what_is_reached(targets, plan)
    ports = read_catalogs(site.folder).all_doors if doors else {}
    asked = _targets(addresses, [parse_door(door, ports) for door in doors])
    adapter = chosen_adapter(addresses[0])
    named = is_named(named_adapter(), site) or capture_file() is not None
    names = {row.address: row.name for row in plan}
    rounds = Rounds(adapter, asked, _pace(site, pace), interval, wait, sizes or (OCTETS,))
    if watch or lasts or until_up or until_down or log_file:
        ends = Ends(lasts, until_up, until_down)
        return _watch(site, rounds, ends, plan, log_file, plot, accept)
    reached, interrupted = run_until_interrupted(
        lambda stop: reach(rounds, plan, count, site, stop=stop, tell=note, is_named=named)
    )
    print_results(reached.adapter, reached.results, names, other_ways=reached.other_ways)
    _draw(plot, series_of(asked, map(by_the_calendar, reached.facts)), names)
    if interrupted:
        return INTERRUPTED
    if reached.own:
        return NOT_POSSIBLE
    return YES if all(result.came_back(accept) for result in reached.results) else NO


def _say_what_is_reached(targets: Sequence[str], plan: Plan) -> None:
    """Of a part that has no address, an echo tells nothing: it comes from its device."""
    for row in filter(None, map(plan.by_name, targets)):
        if row.has_no_address:
            told = f"{row.name} is {row.part} of {row.of}, which is what answers here"
            note(f"{told}; whether the part does: {Line('why', row.name)}")


def _watch(
    site: Site,
    rounds: Rounds,
    ends: Ends,
    plan: Plan,
    log_file: str | None,
    plot: Path | None,
    accept: float,
) -> int:
    """Watch until it ends; the exit code tells whether what was waited for has come."""
    own, _ = not_oneself(rounds.targets)
    if own:
        address, adapter = next(iter(own.items()))
        raise NotPossibleHere(f"{own_address_finding(address, adapter)}", "watch the others only")
    _say_if_too_many(len(rounds.targets), rounds.interval, rounds.pace.in_all)
    names = {row.address: row.name for row in plan}
    kept: list[Fact] = []
    with ExitStack() as stack:
        kept_in = Path(log_file) if log_file else _beside(plot)
        log = EchoLog(kept_in, names) if kept_in else None
        if log is not None:
            stack.enter_context(closing(log))
        view = stack.enter_context(watch_view(rounds.adapter.name, names))
        keep = partial(_keep, kept) if plot else None
        watching = EchoWatch(rounds, ends, plan, site, view.tell, view.refreshed, log, keep)
        view.show(watching)
        _, interrupted = run_until_interrupted(watching.run)
    view.print_end()
    _record(site, watching, names)
    try:
        _draw(plot, series_of(rounds.targets, kept), names)
    except Exception:
        if kept_in is not None:
            note(f"not drawn, and kept: portcall reach --from {kept_in} --plot FILE draws it")
        raise
    if kept_in is not None and not log_file:
        # The plot is drawn, so the data that was kept in case of failure can go.
        kept_in.unlink(missing_ok=True)
    if ends.until_up or ends.until_down:
        return YES if watching.has_come else INTERRUPTED if interrupted else NO
    return INTERRUPTED if interrupted else NO if watching.watch.is_lossy(accept) else YES


def _beside(plot: Path | None) -> Path | None:
    """Where a watch that is to be drawn keeps its echoes until it is drawn."""
    if plot is None:
        return None
    number = 1
    while (path := plot.with_name(f"{plot.stem}-echoes-{number}.csv")).exists():
        number += 1
    return path


def _record(site: Site, watching: EchoWatch, names: Mapping[IPv4Address, str]) -> None:
    """Write down what a watch came to."""
    watched = list(watching.watch.targets.values())
    sent, lost = sum(each.sent for each in watched), sum(each.lost for each in watched)
    targets = [{"target": name_of(each.target, names), **_course(each)} for each in watched]
    told = f"{counted(len(watched), 'target')}: {sent - lost} of {sent} came back"
    adapter = watching.rounds.adapter.name
    recorded(site, Kind.WATCH, told, {"targets": targets}, adapter=adapter)


def _course(each: TargetWatch) -> dict[str, object]:
    """The result for one target, and its course over time."""

    def ms(seconds: float | None) -> float | None:
        return None if seconds is None else round(seconds * 1000, 3)

    course, gap = each.course, each.worst_gap(monotonic())
    began = None if course.began is None else wall_time(course.began)
    return {
        "sent": each.sent,
        "lost": each.lost,
        "median_ms": ms(each.times.quantile(0.5)),
        "gap_s": None if gap is None else round(gap[0], 3),
        "began": None if began is None else began.isoformat(timespec="milliseconds"),
        "span_s": course.width,
        "spans": [
            [span.sent, span.lost, ms(span.shortest), ms(span.mean), ms(span.longest)]
            for span in course.spans
        ],
    }


def _pace(site: Site, in_all: float | None) -> Pace:
    return site.pace if in_all is None else replace(site.pace, in_all=in_all)


def _targets(addresses: Sequence[IPv4Address], ports: Sequence[int]) -> list[Target]:
    if not ports:
        return list(addresses)
    return [Endpoint(address, port) for address in addresses for port in ports]


def _keep(kept: list[Fact], fact: Fact) -> None:
    if len(kept) < _MOST_KEPT:
        kept.append(fact)


def _say_if_too_many(targets: int, interval: float, pace: float) -> None:
    takes = targets / pace
    if takes > interval:
        note(
            f"{targets} targets at {pace:g} packets a second: each is asked every {takes:.1f} s; "
            f"--pace {min(targets / interval * 1.2, HIGHEST_PACE):.0f} asks them more often"
        )


def _plot_path(file: str | None) -> Path | None:
    if file is None:
        return None
    path = Path(file)
    if path.suffix.lower() not in _PLOTS:
        raise BadInput(f"{file}: is no name for a drawing", "end it in .png, .svg or .pdf")
    _drawing()
    return path


def _drawing() -> None:
    """Raise NotPossibleHere when what draws is not installed: before anything is waited for."""
    from importlib.util import find_spec

    missing = [name for name in ("numpy", "scipy", "matplotlib") if find_spec(name) is None]
    if missing:
        raise NotPossibleHere(
            f"{', '.join(missing)}: not installed, and needed for this",
            "pip install 'portcall[patterns]'",
        )


def _read_again(path: Path, plot: Path | None, accept: float) -> int:
    _drawing()
    names, facts = read_echoes(path)
    if not facts:
        raise BadInput(f"{path}: has no echo that can be read")
    targets = list(dict.fromkeys(fact.target for fact in facts))
    results = summarise(targets, facts)
    series = series_of(targets, facts)
    print_results(None, results, names, series)
    _draw(plot, series, names)
    return YES if all(result.came_back(accept) for result in results) else NO


def _draw(plot: Path | None, series: Sequence[Series], names: Mapping[IPv4Address, str]) -> None:
    if plot is not None:
        from portcall.jobs.reach.plot import draw

        draw(plot, series, names)
        note(f"drawn: {plot}")
