"""What is inside a device as a tree: each part with what it is and how it was told."""

from __future__ import annotations

from collections.abc import Sequence

from rich.text import Text
from rich.tree import Tree

from portcall.cli.table import console
from portcall.core.find.device import Device
from portcall.core.find.protocols import PROTOCOLS
from portcall.core.find.sighting import Field, FoundPart, PartState
from portcall.core.part_path import PartKind, PartPath, in_words
from portcall.core.plan.rows import Plan, PlannedDevice

_SLOW = 1.0
"""Seconds that an answer took that are worth a word: it works, and is slow."""

_TONES = {PartState.NO_LINK: "yellow", PartState.SILENT: "yellow"}

_ABSENT = {
    PartState.NOT_THERE: "not there",
    PartState.SILENT: "no answer, and nothing says why",
    PartState.ITSELF: "no units: the device itself answers, as it does without a number",
}


def print_inside(device: Device, plan: Plan, name: str, units: Sequence[int]) -> None:
    """The tree of one device's parts, below its card; a line where nothing was told.

    ``units`` are those that were to be asked.
    """
    if not device.parts:
        console().print(Text("of its inside nothing was told: no interface, no rack, no unit"))
        return
    tree = Tree(Text(f"inside {name}", "bold"))
    nodes: dict[PartPath, Tree] = {}
    widest = max(len(str(part.path.steps[-1])) for part in device.parts)
    for part in device.parts:
        if part.is_there:
            around = _node(tree, nodes, part.path)
            nodes[part.path] = around.add(_line(part, widest, _row(plan, device, part)))
    absent = _absent(device.parts)
    for path, groups in absent.items():
        for words in groups:
            _node(tree, nodes, path.below(PartKind.SLOT, 0)).add(Text(words, "dim"))
    seen = {part.path.number for part in device.parts if part.path.kind is PartKind.UNIT}
    unasked = [unit for unit in units if unit not in seen]
    if seen and unasked and not _is_one_device(device.parts):
        tree.add(Text(f"{_several(PartKind.UNIT, unasked)}: not asked", "yellow"))
    console().print(tree, soft_wrap=True)


def _is_one_device(parts: Sequence[FoundPart]) -> bool:
    """Whether every unit that was asked is the device itself: more of them need not be asked."""
    units = [part for part in parts if part.path.kind is PartKind.UNIT]
    return all(part.state is PartState.ITSELF for part in units)


def _node(tree: Tree, nodes: dict[PartPath, Tree], path: PartPath) -> Tree:
    """The node that a part hangs on: of the part around it, or of the rack that it is in."""
    if len(path.steps) == 1:
        return tree
    around = PartPath(path.steps[:-1])
    if around not in nodes:
        above = _node(tree, nodes, around)
        nodes[around] = above.add(Text(str(around.steps[-1]), "italic"))
    return nodes[around]


def _row(plan: Plan, device: Device, part: FoundPart) -> PlannedDevice | None:
    return plan.row_of_part(device.mac, device.addresses, part.path)


def _line(part: FoundPart, widest: int, row: PlannedDevice | None) -> Text:
    line = Text()
    line.append(f"{part.path.steps[-1]!s:<{widest}}", "bold")
    words: list[tuple[str, str]] = []
    if row is not None:
        words.append((row.name, "bold"))
    words += [(text, "") for text in _told(part)]
    if part.evidence is not None:
        words.append((part.evidence.sentence, _TONES.get(part.state, "")))
    if part.seconds >= _SLOW:
        words.append((f"slow: an answer took {part.seconds:.1f} s", "yellow"))
    if not words:
        words.append(("there", ""))
    words.append((PROTOCOLS[part.method].shown, "dim"))
    line.append("  ")
    line.append_text(Text(", ").join(Text(text, style) for text, style in words))
    return line


def _told(part: FoundPart) -> list[str]:
    """The values of a part, those that tell it from others first."""
    values = [text for field in (Field.PRODUCT, Field.MAKER) if (text := part.value(field))]
    described = part.value(Field.DESCRIPTION)
    if described and not values:
        values.append(described)
    serial, firmware = part.value(Field.SERIAL), part.value(Field.FIRMWARE)
    values += [f"serial {serial}"] if serial else []
    values += [f"firmware {firmware}"] if firmware else []
    for field in (Field.STATION, Field.BATTERY):
        if value := part.value(field):
            values.append(f"{field} {value}")
    if part.path.kind is PartKind.PORT:
        name = part.value(Field.NAME)
        values += [name] if name else []
        values += [", ".join(map(str, part.interfaces)) or "no address"]
        values += map(str, part.macs)
        obtains = part.value(Field.OBTAINS)
        values += [f"its address {obtains}"] if obtains and part.interfaces else []
    return values


def _absent(parts: Sequence[FoundPart]) -> dict[PartPath, list[str]]:
    """The parts that are not there, in short, by what they would be in."""
    groups: dict[tuple[PartPath, PartKind, str], list[int]] = {}
    for part in parts:
        if not part.is_there:
            around, words = PartPath(part.path.steps[:-1]), f"{_ABSENT[part.state]}{_because(part)}"
            groups.setdefault((around, part.path.kind, words), []).append(part.path.number)
    found: dict[PartPath, list[str]] = {}
    for (around, kind, words), numbers in groups.items():
        found.setdefault(around, []).append(f"{_several(kind, numbers)}: {words}")
    return found


def _several(kind: PartKind, numbers: list[int]) -> str:
    return f"{kind}{'s' if len(numbers) > 1 else ''} {in_words(numbers)}"


def _because(part: FoundPart) -> str:
    """Who says that a part is not there."""
    values = part.evidence.values if part.evidence is not None else {}
    if isinstance(exception := values.get("exception"), int):
        return f", the gateway says (Modbus exception {exception:02X})"
    if part.state is PartState.NOT_THERE and "status" in values:
        return ", the rack says"
    return ""
