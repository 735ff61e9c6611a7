"""Echoes summed up: the table, its JSON, and what the pattern says."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from ipaddress import IPv4Address

import click
from rich.text import Text

from portcall.cli.say import milliseconds, print_json, wants_json
from portcall.cli.table import Columns, Remark, Tone, cell, print_rows, remark_of
from portcall.core.finding import values_as_json
from portcall.core.reach.echo_facts import Target, address_of
from portcall.core.reach.series import Series
from portcall.core.reach.statistics import Reachability
from portcall.core.talk.conversation import Endpoint

Names = Mapping[IPv4Address, str]


def name_of(target: Target, names: Names) -> str:
    """The name of a target: its planned name or its address, with its door."""
    address = address_of(target)
    name = names.get(address, str(address))
    return f"{name}:{target.port}" if isinstance(target, Endpoint) else name


def print_results(
    adapter: str | None,
    results: Sequence[Reachability],
    names: Names,
    series: Sequence[Series] = (),
    other_ways: Names | None = None,
) -> None:
    """The table, or one document; with ``series``, what their patterns say, too.

    ``other_ways`` are the adapters by which other programs reach some of the addresses.
    """
    found = _patterns(series, names) if series else []
    if wants_json():
        document: dict[str, object] = {
            "adapter": adapter,
            "targets": [_document(result, other_ways or {}) for result in results],
        }
        if series:
            document["patterns"] = found
        print_json(document)
        return
    print_rows(_layout(), results, lambda result: _cells(result, names), _reason)
    print_patterns(found)


def print_patterns(found: Sequence[Mapping[str, object]]) -> None:
    """A sentence for each pattern."""
    for each in found:
        click.echo(str(each["sentence"]))


def _patterns(series: Sequence[Series], names: Names) -> list[dict[str, object]]:
    from portcall.core.reach.patterns import patterns

    found = patterns(series, lambda target: name_of(target, names))
    return [
        {
            "pattern": each.kind,
            "targets": [_where(target) for target in each.targets],
            "period_s": each.period,
            "sentence": each.sentence
            if len(each.targets) > 1
            else f"{name_of(each.targets[0], names)}: {each.sentence}",
        }
        for each in found
    ]


def _where(target: Target) -> str:
    return f"{target.address}:{target.port}" if isinstance(target, Endpoint) else str(target)


def _layout() -> Columns:
    return Columns(
        "address",
        "door",
        "name",
        "answered",
        "lost",
        "shortest",
        "median",
        "longest",
        drops=("door", "median", "longest", "shortest"),
        shrinks="name",
    )


def _cells(result: Reachability, names: Names) -> Sequence[Text]:
    target = result.target
    address = address_of(target)
    return (
        cell(address, "bold"),
        cell(target.port if isinstance(target, Endpoint) else None),
        cell(names.get(address)),
        cell(f"{result.received} of {result.sent}" if result.sent else "not asked"),
        cell(
            f"{result.loss:.0%}" if result.sent else None,
            "red" if result.received < result.sent else "",
        ),
        cell(milliseconds(result.shortest)),
        cell(milliseconds(result.middle)),
        cell(milliseconds(result.longest)),
    )


def _reason(result: Reachability) -> Sequence[Remark]:
    """Why answers are missing; grey where most came back."""
    tone = Tone.BROKEN if result.sent and not result.answers else Tone.TO_DO
    if result.known is not None:
        return (remark_of(result.known, tone),)
    return (Remark(result.reason, tone),) if result.reason else ()


def _document(result: Reachability, other_ways: Names) -> dict[str, object]:
    def ms(seconds: float | None) -> float | None:
        return None if seconds is None else round(seconds * 1000, 3)

    target = result.target
    return {
        "address": str(address_of(target)),
        "door": target.port if isinstance(target, Endpoint) else None,
        "sent": result.sent,
        "received": result.received,
        "shortest_ms": ms(result.shortest),
        "median_ms": ms(result.middle),
        "p99_ms": ms(result.high),
        "longest_ms": ms(result.longest),
        "reason": result.because,
        "code": result.known.code if result.known else None,
        "values": values_as_json(result.known) if result.known else {},
        "other_programs_leave_by": other_ways.get(address_of(target)),
    }
