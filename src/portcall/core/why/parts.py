"""The rung of a part: whether a unit, a module or an interface of the device answers.

The device itself has answered by then, at the door that leads to its parts. What is missing beside
a part that answers is that part; where no other one was heard, it may be the line that they share.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from portcall.core.find.sighting import Field, FoundPart, PartState
from portcall.core.finding import Finding, Line
from portcall.core.part_path import PartKind, PartPath
from portcall.core.why import part_sentences as say
from portcall.core.why.ladder import (
    Advice,
    Cause,
    Goal,
    Rung,
    Step,
    broken,
    holds,
    undecided,
)

_SLOW = 1.0
_MOST_BESIDE = 3
_MISSING = {
    PartKind.UNIT: Cause.UNIT_SILENT,
    PartKind.SLOT: Cause.SLOT_EMPTY,
    PartKind.PORT: Cause.PORT_NO_LINK,
}


@dataclass(frozen=True, slots=True)
class PartSeen:
    """A part as it was asked for, and those beside it that were asked to compare.

    ``waited`` is how many seconds an answer was waited for.
    """

    part: FoundPart | None
    others: Sequence[FoundPart] = ()
    waited: float = 0.0

    @property
    def answering(self) -> list[str]:
        """Those beside it that answer."""
        return [str(each.path) for each in self.others if each.is_there][:_MOST_BESIDE]


def judge_part(goal: Goal, seen: PartSeen) -> Step:
    """Whether the part is there."""
    assert goal.part is not None
    part = seen.part
    if part is None:
        return _untold(goal, goal.part)
    if part.state in (PartState.THERE, PartState.ITSELF):
        slow = part.seconds if part.seconds >= _SLOW else None
        told = say.PART_ANSWERS(part=str(part.path), says=_says(part), seconds=slow)
        return holds(Rung.PART, told)
    evidence = _evidence(part, seen)
    if part.path.kind is PartKind.PORT:
        out = say.PORT_OUT(part=str(part.path), goal=goal.name)
        return broken(Rung.PART, evidence, Cause.PORT_NO_LINK, out, say.PLUG_AT_PORT())
    if part.path.kind is PartKind.SLOT:
        return _slot(goal, part, evidence)
    return _unit(goal, part, seen, evidence)


def _untold(goal: Goal, part: PartPath) -> Step:
    """Nothing was heard of the part at all, good or bad: that says nothing of the part itself."""
    heard = say.NOT_TOLD(goal=goal.name, part=str(part))
    nothing = say.NOTHING_OF_IT(goal=goal.name, part=str(part))
    between = (_MISSING[part.kind],)
    return undecided(Rung.PART, heard, nothing, between, say.AGAIN(why=Line("why", goal.part_name)))


def _says(part: FoundPart) -> list[str]:
    told = [part.value(Field.PRODUCT), part.value(Field.SERIAL), part.value(Field.FIRMWARE)]
    return [text for text in told if text] or list(map(str, part.interfaces))


def _evidence(part: FoundPart, seen: PartSeen) -> Finding:
    others = seen.answering
    return say.PART_ABSENT(evidence=part.evidence, others=others, several=len(others) > 1)


def _unit(goal: Goal, part: FoundPart, seen: PartSeen, evidence: Finding) -> Step:
    number, words = part.path.number, str(part.path)
    find = Line("find", goal.name, "--inside")
    at_hand: list[Advice] = [
        say.AT_THE_INSTRUMENT(number=number),
        say.OTHER_NUMBER(find=find),
    ]
    both = (Cause.UNIT_SILENT, Cause.LINE_SILENT)
    if not seen.answering:
        tried = [str(each.path) for each in seen.others]
        either = say.LINE_OR_UNIT(part=words, goal=goal.name, tried=tried)
        return undecided(Rung.PART, evidence, either, both, say.AT_THE_LINE(), *at_hand)
    if part.state is PartState.SILENT:
        untold = say.UNIT_UNTOLD(goal=goal.name, part=words, seconds=seen.waited)
        return undecided(Rung.PART, evidence, untold, (Cause.UNIT_SILENT,), *at_hand)
    others = seen.answering
    several = len(others) > 1
    missing = say.UNIT_MISSING(part=words, goal=goal.name, others=others, several=several)
    return broken(Rung.PART, evidence, Cause.UNIT_SILENT, missing, *at_hand)


def _slot(goal: Goal, part: FoundPart, evidence: Finding) -> Step:
    do: list[Advice] = [
        say.AT_THE_RACK(),
        say.ALL_SLOTS(find=Line("find", goal.name, "--inside")),
    ]
    if part.state is PartState.SILENT:
        untold = say.SLOT_UNTOLD(goal=goal.name, part=str(part.path))
        return undecided(Rung.PART, evidence, untold, (Cause.SLOT_EMPTY,), *do)
    empty = say.SLOT_IS_EMPTY(goal=goal.name, slot=part.path.number)
    return broken(Rung.PART, evidence, Cause.SLOT_EMPTY, empty, *do)
