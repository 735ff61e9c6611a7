"""The rung of echoes: how many come back, how late, and how long they may be."""

from __future__ import annotations

from statistics import median

from portcall.core.finding import Finding, Line, Value
from portcall.core.why import sentences as say
from portcall.core.why.evidence import FEW_LOST, EchoSeen, Situation, Trial
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

SLOW = 0.3
"""Seconds of an echo that are worth a word."""


def judge_echo(goal: Goal, here: Situation, trial: Trial, seen: EchoSeen | None) -> Step:
    """Whether echoes come back, all of them, also large ones; ``seen`` when the first ones did."""
    if seen is None or not trial.answered:
        return _no_echo(goal, trial)
    lost = seen.sent - seen.received
    if lost >= FEW_LOST and not seen.is_limited:
        return broken(
            Rung.ECHO,
            _series(seen),
            Cause.LOSSY,
            say.ECHOES_LOST(lost=lost, sent=seen.sent, goal=goal.name),
            say.CHECK_PLUGS(),
            say.SHOWS_PATTERN(reach=Line("reach", goal.name, "--watch")),
            passable=True,
        )
    if seen.large_sent and not seen.large_received and lost < FEW_LOST:
        return _large(goal, here, seen)
    return holds(Rung.ECHO, _series(seen))


def _measured(seen: EchoSeen) -> dict[str, Value]:
    """The numbers of a series, which a program finds by the same names however it ended."""
    middle = median(seen.times) if seen.times else None
    return {
        "sent": seen.sent,
        "received": seen.received,
        "lost": seen.sent - seen.received,
        "median_ms": middle * 1000 if middle is not None else None,
        "ttl": seen.ttl,
        "slow": middle is not None and middle >= SLOW,
        "limited": seen.is_limited and seen.sent - seen.received >= FEW_LOST,
        "slow_sent": seen.slow_sent,
        "slow_received": seen.slow_received,
        "large": seen.large,
        "large_sent": seen.large_sent,
        "large_received": seen.large_received,
    }


def _series(seen: EchoSeen) -> Finding:
    return say.ECHOES(**_measured(seen))


def _no_echo(goal: Goal, trial: Trial) -> Step:
    name, otherwise = goal.name, _otherwise(trial)
    if trial.no_echoes:
        return not_asked(
            Rung.ECHO, say.ECHO_NOT_ASKED(no_echoes=trial.no_echoes, otherwise=otherwise)
        )
    if trial.refused is not None:
        return broken(
            Rung.ECHO,
            say.ECHO_REFUSED(refused=trial.refused, otherwise=otherwise),
            Cause.FIREWALL_OUT,
            say.ECHOES_NOT_LET_OUT(goal=name, otherwise=otherwise),
            say.LOOK_AT_RULES(),
            passable=True,
        )
    if trial.echoes_in:
        return broken(
            Rung.ECHO,
            say.ECHO_DROPPED(echoes_in=trial.echoes_in, otherwise=otherwise),
            Cause.FIREWALL_IN,
            say.ECHOES_DROPPED(goal=name, otherwise=otherwise),
            say.LOOK_AT_RULES(),
            passable=True,
        )
    return broken(
        Rung.ECHO,
        say.ECHO_SILENT(echoes=trial.echoes, otherwise=otherwise),
        Cause.PING_IGNORED,
        say.ANSWERS_OTHERWISE(goal=name, otherwise=otherwise),
        passable=True,
    )


def _otherwise(trial: Trial) -> Finding:
    if trial.open_doors:
        return say.DOORS_OPEN(open=trial.open_doors)
    if trial.settled_doors:
        return say.DOORS_REFUSED(refused_ports=trial.settled_doors)
    return say.NO_DOOR_ANSWERS()


def _large(goal: Goal, here: Situation, seen: EchoSeen) -> Step:
    """None of full length came back."""
    told = seen.mtu_told
    told = told if told is not None and told.mtu else None
    evidence = say.NO_LONG_ECHO(
        **_measured(seen),
        passed=seen.passed,
        mtu_by=told.by if told else None,
        mtu=told.mtu if told else None,
        full_taken=seen.full_taken is True and told is None,
        full_lost=seen.full_taken is False and told is None,
    )
    if told is not None:
        return holds(Rung.ECHO, evidence)
    if seen.full_taken:
        return undecided(
            Rung.ECHO,
            evidence,
            say.TAKES_LONG_FRAMES(goal=goal.name),
            (Cause.LARGE_LOST,),
            say.IF_THAT_HANGS(),
            passable=True,
        )
    adapter = here.adapter
    return broken(
        Rung.ECHO,
        evidence,
        Cause.LARGE_LOST,
        say.LONG_LOST(goal=goal.name, large=seen.large, passed=seen.passed),
        say.LOOK_FOR_NARROW(),
        say.SHORTER_FRAMES(adapter=adapter.name, passed=seen.passed or 1000, mtu=adapter.mtu),
        passable=True,
    )
