"""The rungs of doors: whether they open, and what is said behind them."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from types import MappingProxyType

from portcall.core.printable import decoded
from portcall.core.talk.door_knock import DoorState
from portcall.core.why.evidence import (
    Situation,
    Trial,
    WordSeen,
)
from portcall.core.why.ladder import (
    Cause,
    Goal,
    Rung,
    Step,
    broken,
    holds,
    not_asked,
    undecided,
)
from portcall.core.wire import modbus

_LONGEST_WORD = 60


def judge_door(
    goal: Goal,
    here: Situation,
    trial: Trial,
    names: Mapping[int, str],
    before: Mapping[int, str] = MappingProxyType({}),
) -> Step:
    """Whether the door that was named is open; without one, which are.

    ``before`` are doors that the record has seen open, and when that was.
    """
    shut = [port for port in before if trial.doors.get(port, DoorState.OPEN) is not DoorState.OPEN]
    if goal.port is None and shut:
        port = shut[0]
        door = f"{names.get(port, '')} (port {port})".strip()
        is_open = f"; open: {listed(trial.open_doors)}" if trial.open_doors else ""
        return undecided(
            Rung.DOOR,
            f"{door} was open on {before[port]}, and is {trial.doors[port].value} now{is_open}",
            f"{goal.name} answers, and {door} does not open, which was open on {before[port]}.",
            (Cause.DOOR_SILENT, Cause.DOOR_CLOSED),
            f"portcall why {goal.name} {port}",
            passable=True,
        )
    if goal.port is None:
        if trial.open_doors:
            shown = ", ".join(f"{names.get(p, '')} {p}".strip() for p in trial.open_doors)
            return holds(Rung.DOOR, f"open: {shown}")
        tried = len(trial.doors)
        return not_asked(
            Rung.DOOR,
            f"none was named, and none of the {tried} usual ones is open",
        )
    port, door = goal.port, goal.door_words
    state = trial.doors.get(port, DoorState.SILENT)
    others = [each for each in trial.settled_doors if each != port]
    if state is DoorState.OPEN:
        return holds(Rung.DOOR, f"{door} is open")
    if state is DoorState.REFUSED:
        return broken(
            Rung.DOOR,
            f"{door} is refused",
            Cause.DOOR_CLOSED,
            f"{goal.name} is there, and refuses {door}: nothing serves it there.",
            "check that this service is switched on in the device, and its port",
            *([f"open are: {listed(trial.open_doors)}"] if trial.open_doors else []),
        )
    if port in trial.ports_in:
        return broken(
            Rung.DOOR,
            f"the answer of {door} came to {here.adapter.name}, and to no program",
            Cause.FIREWALL_IN,
            f"This computer's own firewall drops the answers of {goal.name} from {door}.",
            "look for the rule that does: nft list ruleset",
        )
    if trial.seen_out is not None and port not in trial.ports_out:
        return broken(
            Rung.DOOR,
            f"what was sent to {door} did not leave {here.adapter.name}",
            Cause.FIREWALL_OUT,
            f"This computer's own firewall does not let out what is meant for {door}.",
            "look for the rule that does: nft list ruleset",
        )
    if port in trial.forbidden:
        return undecided(
            Rung.DOOR,
            f"{door} is refused, and no refusal came from {goal.address} itself",
            f"A filter refuses {door} of {goal.name}, in the device or on the way; what serves it "
            "was not reached.",
            (Cause.DOOR_SILENT, Cause.DOOR_CLOSED),
            "look for a firewall in the device, or between here and there",
        )
    beside = f", while port {listed(others[:3])} answers" if others else ""
    return broken(
        Rung.DOOR,
        f"{door} is silent{beside}",
        Cause.DOOR_SILENT,
        f"{goal.name} is there, and nothing comes back from {door}: something drops it, in the "
        "device or on the way.",
        "look for a firewall in the device, or between here and there",
        "check that the device lets this computer's address in",
    )


def judge_word(goal: Goal, here: Situation, words: Sequence[WordSeen]) -> Step:
    """Whether the protocol that belongs there is spoken behind the doors."""
    if not words:
        return not_asked(Rung.WORD, "no door was open")
    if goal.port is not None:
        return _word_of(goal, here, words[0])
    said = [word for word in words if word.identity]
    if said:
        return holds(Rung.WORD, "; ".join(_said(here, word) for word in said[:2]))
    odd = next((word for word in words if word.known and word.raw), None)
    if odd is not None:
        return _word_of(goal, here, odd)
    known = next((word for word in words if word.known), None)
    if known is not None and _is_silent_modbus(known):
        return not_asked(Rung.WORD, f"{known.name} (port {known.port}) is open; {_NO_UNIT}")
    if known is not None:
        return _word_of(goal, here, known)
    return not_asked(Rung.WORD, "no protocol known there")


def _said(here: Situation, word: WordSeen) -> str:
    """What it says of itself; a mask that is not the planned one does no harm to who got here."""
    row = here.row
    planned = str(row.interface.netmask) if row is not None and not row.mask_assumed else ""
    differs = word.mask and planned and word.mask != planned
    odd = f", its mask is {word.mask}, planned is {planned}" if differs else ""
    return f"{word.name}: {word.identity}{odd}"


def _word_of(goal: Goal, here: Situation, word: WordSeen) -> Step:
    door = f"{word.name} (port {word.port})"
    if word.identity:
        return holds(Rung.WORD, _said(here, word))
    if not word.known:
        greeting = f'; it greets with "{_shown(word.raw)}"' if word.raw else ""
        return not_asked(Rung.WORD, f"what port {word.port} speaks is not known here{greeting}")
    if word.raw:
        return broken(
            Rung.WORD,
            f'{door} is open, and says "{_shown(word.raw)}"',
            Cause.SPEAKS_OTHERWISE,
            f"What answers at {door} of {goal.name} does not speak {word.name}.",
            "check that this is the device meant, and which port the service has",
        )
    if _is_silent_modbus(word):
        return undecided(
            Rung.WORD,
            f"{door} is open, and says nothing for {word.silent:.1f} s",
            f"{door} of {goal.name} takes connections, and {_NO_UNIT}. Either others are behind "
            "it, or it is busy or hangs.",
            (Cause.SPEAKS_OTHERWISE, Cause.DOOR_SILENT),
            f"portcall find {goal.address} shows more of it",
            "close other programs that talk to it, and type this again",
        )
    how = (
        "closes the connection without a word"
        if word.closed
        else f"says nothing for {word.silent:.1f} s"
    )
    return undecided(
        Rung.WORD,
        f"{door} is open, and {how}",
        f"{door} of {goal.name} takes connections and {how}. Either it is busy or hangs, or it "
        "speaks something else.",
        (Cause.SPEAKS_OTHERWISE, Cause.DOOR_SILENT),
        "close other programs that talk to it, and type this again",
        "wait a minute, and type this again: a device that is busy may answer then",
    )


_NO_UNIT = "no unit that was asked answers, as with a gateway that has others"


def _is_silent_modbus(word: WordSeen) -> bool:
    """Whether a Modbus server answers nothing: so do gateways of units that they do not have
    (MODBUS Messaging on TCP/IP Implementation Guide V1.0b, §4.4.2.1)."""
    return word.port == modbus.PORT and not word.closed and not word.raw and not word.identity


def _shown(raw: bytes) -> str:
    return decoded(raw[:_LONGEST_WORD], _LONGEST_WORD)


def listed(ports: Iterable[int]) -> str:
    """Ports as a sentence names them."""
    return ", ".join(str(port) for port in ports)
