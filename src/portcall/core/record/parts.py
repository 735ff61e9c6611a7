"""The parts of a device, as JSON has them.

Those that are there stand in a list, one after the other; those that are not are counted, by their
numbers: of 247 units behind a gateway most are not there.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass
from typing import Any

from portcall.core.document import OddDocument, Part, a_mac, a_number, a_text, an_interface
from portcall.core.find.sighting import Field, FoundPart, PartState
from portcall.core.find.switch_tables import natural
from portcall.core.finding import values_as_json
from portcall.core.part_path import (
    PartKind,
    PartPath,
    in_words,
    parse_around,
    parse_numbers,
    parse_path,
)
from portcall.core.record.said import a_method, read_evidence, read_said, said_document
from portcall.core.trouble import BadInput

PARTS_KEY = '"not_there"'
"""What stands in the text of a look that asked what is inside some device."""

_MOST = 1024
_MOST_SAID = 64


def parts_document(parts: Sequence[FoundPart]) -> dict[str, Any]:
    """``parts`` and ``not_there`` of a device; empty where nobody asked what is inside."""
    if not parts:
        return {}
    there = [part_document(part) for part in parts if part.is_there]
    rest = (part for part in parts if not part.is_there)
    return {"parts": there, "not_there": list(_counted(rest))}


def part_document(part: FoundPart) -> dict[str, Any]:
    """One part, with all that was told of it."""
    return {
        "part": str(part.path),
        "state": part.state,
        "by": part.method,
        "interfaces": [str(each) for each in part.interfaces],
        "macs": [str(mac) for mac in part.macs],
        "said": [said_document(said) for said in part.said],
        "seconds": round(part.seconds, 3),
        **_evidence(part),
    }


def _evidence(part: FoundPart) -> dict[str, Any]:
    if part.evidence is None:
        return {"code": None, "values": {}, "evidence": None}
    return {
        "code": part.evidence.code,
        "values": values_as_json(part.evidence),
        "evidence": part.evidence.sentence,
    }


def _counted(parts: Iterable[FoundPart]) -> Iterator[dict[str, Any]]:
    groups: dict[tuple[PartPath, PartKind, PartState, str], list[int]] = {}
    for part in parts:
        key = (PartPath(part.path.steps[:-1]), part.path.kind, part.state, part.method)
        groups.setdefault(key, []).append(part.path.number)
    for (around, kind, state, method), numbers in groups.items():
        where = str(around) if around.steps else None
        told = {"kind": kind, "numbers": in_words(numbers), "state": state, "by": method}
        yield {"in": where, **told}


def read_parts(device: Part) -> list[FoundPart]:
    """The parts of a device from JSON; what is odd is left out."""
    found = [each for part in device.parts("parts", _MOST) if (each := _read(part)) is not None]
    for group in device.parts("not_there", _MOST):
        with suppress(OddDocument, BadInput):
            kind, method = group.take("kind", PartKind), group.take("by", a_method)
            state = group.take("state", PartState)
            around = parse_around(group.get("in", a_text, ""))
            for number in parse_numbers(group.take("numbers", a_text), kind)[:_MOST]:
                found.append(FoundPart(around.below(kind, number), state, method))
    return found[:_MOST]


def _read(part: Part) -> FoundPart | None:
    said = []
    for each in part.parts("said", _MOST_SAID):
        with suppress(OddDocument):
            said.append(read_said(each))
    try:
        return FoundPart(
            part.take("part", _path),
            part.take("state", PartState),
            part.take("by", a_method),
            tuple(said),
            tuple(part.each("interfaces", an_interface, _MOST_SAID)),
            tuple(part.each("macs", a_mac, _MOST_SAID)),
            evidence=read_evidence(part),
            seconds=part.get("seconds", a_number, 0.0),
        )
    except OddDocument:
        return None


def _path(value: object) -> PartPath:
    return parse_path(a_text(value))


@dataclass(frozen=True, slots=True)
class SeenPart:
    """A part as a look has it, for comparing."""

    state: PartState
    values: Mapping[str, str]

    @property
    def words(self) -> str:
        """What it is, in short."""
        return self.values.get("product") or self.values.get("name") or self.state.value


_COMPARED = (Field.MAKER, Field.PRODUCT, Field.SERIAL, Field.FIRMWARE, Field.NAME, Field.STATION)


def seen_parts(device: Part) -> dict[str, SeenPart]:
    """The parts of a device that a look asked for, by their paths."""
    found = {}
    for part in read_parts(device):
        values = {each.value: value for each in _COMPARED if (value := part.value(each))}
        if part.interfaces:
            values["address"] = ", ".join(map(str, part.interfaces))
        found[str(part.path)] = SeenPart(part.state, values)
    return found


def part_changes(
    was: Mapping[str, SeenPart], now: Mapping[str, SeenPart]
) -> Iterator[tuple[str, str, str]]:
    """What changed of the parts that both looks asked for: the part and what of it, was, is."""
    for path in sorted(was.keys() & now.keys(), key=natural):
        before, after = was[path], now[path]
        if before.state is not after.state:
            yield path, _standing(before), _standing(after)
            continue
        for what, value in after.values.items():
            if before.values.get(what, value) != value:
                yield f"{path} {what}", before.values[what], value


def _standing(part: SeenPart) -> str:
    return part.words if part.state is PartState.THERE else part.state.value
