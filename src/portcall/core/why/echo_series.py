"""The rung of echoes: how many come back, how late, and how long they may be."""

from __future__ import annotations

from collections.abc import Sequence
from statistics import median

from portcall.core.why.evidence import (
    FEW_LOST,
    EchoSeen,
    Situation,
    Trial,
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
from portcall.core.why.open_doors import listed

SLOW = 0.3
"""Seconds of an echo that are worth a word."""


def judge_echo(goal: Goal, here: Situation, trial: Trial, seen: EchoSeen | None) -> Step:
    """Whether echoes come back, all of them, also large ones; ``seen`` when the first ones did."""
    if seen is None or not trial.answered:
        return _no_echo(goal, trial)
    lost = seen.sent - seen.received
    middle = f"median {median(seen.times) * 1000:.2f} ms" if seen.times else ""
    facts = [f"{seen.received} of {seen.sent} echoes, {middle}"]
    if seen.ttl is not None:
        facts.append(f"time to live {seen.ttl}")
    if seen.times and median(seen.times) >= SLOW:
        facts.append("slow, as over a radio or to a device that sleeps")
    if lost >= FEW_LOST and seen.is_limited:
        facts.append(f"{seen.slow_received} of {seen.slow_sent} at one a second")
        return holds(Rung.ECHO, f"{', '.join(facts)}: it answers only so many a second")
    if lost >= FEW_LOST:
        return broken(
            Rung.ECHO,
            ", ".join(facts),
            Cause.LOSSY,
            f"{lost} of {seen.sent} echoes of {goal.name} were lost: the connection is bad.",
            "check cable and plugs between here and there; look for half duplex",
            f"portcall reach {goal.name} --watch shows whether there is a pattern in it",
            passable=True,
        )
    if seen.large_sent and not seen.large_received:
        return _large(goal, here, seen, facts)
    if seen.large_sent:
        facts.append(f"{seen.large_received} of {seen.large_sent} with {seen.large} octets")
    return holds(Rung.ECHO, ", ".join(facts))


def _no_echo(goal: Goal, trial: Trial) -> Step:
    answers = _doors_words(goal, trial)
    if trial.no_echoes:
        return not_asked(Rung.ECHO, f"{trial.no_echoes}; {answers}")
    if trial.refused is not None:
        return broken(
            Rung.ECHO,
            f"sending echoes: {trial.refused}; {answers}",
            Cause.FIREWALL_OUT,
            f"This computer's own firewall does not let out echoes to {goal.name}; {answers}.",
            "look for the rule that does: nft list ruleset",
            passable=True,
        )
    if trial.echoes_in:
        return broken(
            Rung.ECHO,
            f"{trial.echoes_in} echoes came to the adapter, none to a program; {answers}",
            Cause.FIREWALL_IN,
            f"This computer's own firewall drops the echoes of {goal.name}; {answers}.",
            "look for the rule that does: nft list ruleset",
            passable=True,
        )
    return broken(
        Rung.ECHO,
        f"no answer to {trial.echoes} echoes; {answers}",
        Cause.PING_IGNORED,
        f"{goal.name} answers no echoes, and answers otherwise: {answers}. It can be worked with.",
        passable=True,
    )


def _doors_words(goal: Goal, trial: Trial) -> str:
    if trial.open_doors:
        return f"port {listed(trial.open_doors)} is open"
    if trial.settled_doors:
        return f"it refuses port {listed(trial.settled_doors)}"
    return "no door answers"


def _large(goal: Goal, here: Situation, seen: EchoSeen, facts: Sequence[str]) -> Step:
    """None of full length came back."""
    passed = f"; up to {seen.passed} octets pass" if seen.passed else ""
    evidence = f"{', '.join(facts)}; 0 of {seen.large_sent} with {seen.large} octets{passed}"
    told = seen.mtu_told
    if told is not None and told.mtu:
        return holds(
            Rung.ECHO, f"{evidence}; {told.by} says that the way takes {told.mtu}, and is heeded"
        )
    if seen.full_taken:
        return undecided(
            Rung.ECHO,
            f"{evidence}; a full segment by TCP was taken",
            f"{goal.name} takes long frames, and answers no long echoes. Either that is its way, "
            "or long frames of its own are lost on the way back.",
            (Cause.LARGE_LOST,),
            "open a page or a program of the device: if that hangs, long frames are lost",
            passable=True,
        )
    tried = "; a full segment by TCP was not taken" if seen.full_taken is False else ""
    return broken(
        Rung.ECHO,
        evidence + tried,
        Cause.LARGE_LOST,
        f"Small frames to {goal.name} pass, and those of {seen.large} octets do not{passed}: "
        "pages and downloads will hang.",
        "look for a radio, tunnel or switch on the way that takes no frames of full length",
        f"meanwhile: ip link set {here.adapter.name} mtu {seen.passed or 1000}; and back: "
        f"ip link set {here.adapter.name} mtu {here.adapter.mtu}",
        passable=True,
    )
