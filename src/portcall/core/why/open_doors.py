"""The rungs of doors: whether they open, and what is said behind them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from types import MappingProxyType

from portcall.core.finding import Finding, Line
from portcall.core.printable import DeviceText, decoded
from portcall.core.talk.door_knock import DoorState
from portcall.core.why import sentences as say
from portcall.core.why.evidence import Situation, Trial, WordSeen
from portcall.core.why.ladder import (
    Advice,
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
    if goal.port is None:
        return _any_door(goal, trial, names, before)
    port, door = goal.port, goal.door_words
    state = trial.doors.get(port, DoorState.SILENT)
    if state is DoorState.OPEN:
        return holds(Rung.DOOR, say.IS_OPEN(door=door, port=port))
    if state is DoorState.REFUSED:
        do: list[Advice] = [say.SERVICE_ON()]
        if trial.open_doors:
            do.append(say.OPEN_ARE(open=trial.open_doors))
        return broken(
            Rung.DOOR,
            say.IS_REFUSED(door=door, port=port),
            Cause.DOOR_CLOSED,
            say.REFUSES_DOOR(goal=goal.name, door=door),
            *do,
        )
    return _no_door(goal, port, here, trial)


def _any_door(
    goal: Goal, trial: Trial, names: Mapping[int, str], before: Mapping[int, str]
) -> Step:
    """No door was named: which are open, and whether one is not that was."""
    shut = [port for port in before if trial.doors.get(port, DoorState.OPEN) is not DoorState.OPEN]
    if shut:
        port = shut[0]
        door = f"{names.get(port, '')} (port {port})".strip()
        return undecided(
            Rung.DOOR,
            say.WAS_OPEN(
                door=door, before=before[port], state=trial.doors[port], open=trial.open_doors
            ),
            say.OPENS_NO_MORE(goal=goal.name, door=door, before=before[port]),
            (Cause.DOOR_SILENT, Cause.DOOR_CLOSED),
            Line("why", goal.name, port),
            passable=True,
        )
    if trial.open_doors:
        shown = [f"{names.get(port, '')} {port}".strip() for port in trial.open_doors]
        return holds(Rung.DOOR, say.OPEN(doors=shown, ports=trial.open_doors))
    return not_asked(Rung.DOOR, say.NONE_OPEN(tried=len(trial.doors)))


def _no_door(goal: Goal, port: int, here: Situation, trial: Trial) -> Step:
    """The door that was named neither opened nor refused."""
    door, name = goal.door_words, here.adapter.name
    if port in trial.ports_in:
        return broken(
            Rung.DOOR,
            say.DOOR_ANSWER_DROPPED(door=door, port=port, adapter=name),
            Cause.FIREWALL_IN,
            say.DOOR_DROPPED_HERE(goal=goal.name, door=door),
            say.LOOK_AT_RULES(),
        )
    if trial.seen_out is not None and port not in trial.ports_out:
        return broken(
            Rung.DOOR,
            say.DOOR_NOT_SENT(door=door, port=port, adapter=name),
            Cause.FIREWALL_OUT,
            say.DOOR_NOT_LET_OUT(door=door),
            say.LOOK_AT_RULES(),
        )
    if port in trial.forbidden:
        return undecided(
            Rung.DOOR,
            say.DOOR_FORBIDDEN(door=door, port=port, address=goal.address),
            say.FILTER_REFUSES(goal=goal.name, door=door),
            (Cause.DOOR_SILENT, Cause.DOOR_CLOSED),
            say.LOOK_FOR_FIREWALL(),
        )
    others = [each for each in trial.settled_doors if each != port]
    return broken(
        Rung.DOOR,
        say.IS_SILENT(door=door, port=port, beside=others[:3]),
        Cause.DOOR_SILENT,
        say.SOMETHING_DROPS(goal=goal.name, door=door),
        say.LOOK_FOR_FIREWALL(),
        say.LETS_ADDRESS_IN(),
    )


def judge_word(goal: Goal, here: Situation, words: Sequence[WordSeen]) -> Step:
    """Whether the protocol that belongs there is spoken behind the doors."""
    if not words:
        return not_asked(Rung.WORD, say.NO_WORD())
    if goal.port is not None:
        return _word_of(goal, here, words[0])
    told = [word for word in words if word.identity]
    if told:
        return holds(Rung.WORD, say.SAYS(words=[_of_itself(here, word) for word in told[:2]]))
    odd = next((word for word in words if word.known and word.raw), None)
    if odd is not None:
        return _word_of(goal, here, odd)
    known = next((word for word in words if word.known), None)
    if known is not None and _is_silent_modbus(known):
        return not_asked(Rung.WORD, say.NO_UNIT(door=_door_of(known)))
    if known is not None:
        return _word_of(goal, here, known)
    return not_asked(Rung.WORD, say.PROTOCOL_UNKNOWN())


def _of_itself(here: Situation, word: WordSeen) -> Finding:
    """Its own words; a mask other than the planned one does no harm to whoever got here."""
    row = here.row
    planned = row.interface.netmask if row is not None and not row.mask_assumed else None
    return say.SAYS_OF_ITSELF(
        name=word.name,
        identity=word.identity,
        differs=bool(word.mask and planned and word.mask != planned),
        mask=word.mask,
        planned_mask=planned,
    )


def _door_of(word: WordSeen) -> str:
    return f"{word.name} (port {word.port})"


def _word_of(goal: Goal, here: Situation, word: WordSeen) -> Step:
    door = _door_of(word)
    if word.identity:
        return holds(Rung.WORD, say.SAYS(words=[_of_itself(here, word)]))
    raw = _shown(word.raw)
    if not word.known:
        return not_asked(Rung.WORD, say.WORD_UNKNOWN(port=word.port, raw=raw))
    if word.raw:
        return broken(
            Rung.WORD,
            say.OTHER_WORDS(door=door, raw=raw),
            Cause.SPEAKS_OTHERWISE,
            say.DOES_NOT_SPEAK(door=door, goal=goal.name, name=word.name),
            say.RIGHT_DEVICE(),
        )
    silence = say.NO_WORDS(door=door, closed=word.closed, silent=word.silent)
    either = (Cause.SPEAKS_OTHERWISE, Cause.DOOR_SILENT)
    if _is_silent_modbus(word):
        return undecided(
            Rung.WORD,
            silence,
            say.NO_UNIT_ANSWERS(door=door, goal=goal.name),
            either,
            say.SHOWS_MORE(find=Line("find", goal.address)),
            say.CLOSE_OTHERS(),
        )
    return undecided(
        Rung.WORD,
        silence,
        say.TAKES_AND_SILENT(door=door, goal=goal.name, closed=word.closed, silent=word.silent),
        either,
        say.CLOSE_OTHERS(),
        say.WAIT_A_MINUTE(),
    )


def _is_silent_modbus(word: WordSeen) -> bool:
    """Whether a Modbus server answers nothing: so do gateways of units that they do not have
    (MODBUS Messaging on TCP/IP Implementation Guide V1.0b, §4.4.2.1)."""
    return word.port == modbus.PORT and not word.closed and not word.raw and not word.identity


def _shown(raw: bytes) -> DeviceText:
    return decoded(raw[:_LONGEST_WORD], _LONGEST_WORD)
