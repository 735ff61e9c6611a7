"""The rungs of the device: what comes back, how much of it, and what is said behind its doors."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from statistics import median
from types import MappingProxyType

from portcall.core.address import assumed_network
from portcall.core.printable import decoded
from portcall.core.reach.echo_facts import Told
from portcall.core.talk.door_knock import DoorState
from portcall.core.why.evidence import (
    FEW_LOST,
    NOBODY,
    EchoSeen,
    FromInside,
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
from portcall.core.wire.dhcp import prefix_length

SLOW = 0.3
"""Seconds of an echo that are worth a word."""

_LONGEST_WORD = 60


def judge_way_back(
    goal: Goal, here: Situation, trial: Trial, inside: FromInside | None = None
) -> Step | None:
    """Whether answers come back to this computer's sockets.

    None: nothing does, and what an address nearer to the device's tells is wanted (``inside``).
    """
    name = here.adapter.name
    if trial.came_back:
        return holds(Rung.WAY_BACK, f"answers come back by {name}")
    if trial.refused is not None or trial.seen_out == 0:
        seen = trial.refused or f"nothing of what was sent left {name}"
        return _firewall_out(goal, f"sending to {goal.address}: {seen}")
    if trial.seen_in:
        return _dropped_here(goal, here, trial)
    if trial.elsewhere:
        return _came_elsewhere(goal, here, trial)
    believed = here.believed(trial.errors, goal.address)
    if believed is not None:
        return _undelivered(goal, here, believed)
    if here.way.router is None and inside is None:
        return None
    if inside is not None and inside.leaves_out(here.way.source, goal.address):
        return _mask(goal, here, inside)
    if inside is not None and inside.answered:
        return _answers_nearer(goal, here, inside)
    return _silence(goal, here, trial, inside)


def _firewall_out(goal: Goal, evidence: str) -> Step:
    return broken(
        Rung.WAY_BACK,
        evidence,
        Cause.FIREWALL_OUT,
        f"This computer's own firewall does not let out what is meant for {goal.name}.",
        "look for the rule that does: nft list ruleset",
        f"have that rule let {goal.address} through, and nothing else",
    )


def _dropped_here(goal: Goal, here: Situation, trial: Trial) -> Step:
    name = here.adapter.name
    evidence = f"{trial.seen_in} answers of {goal.address} came to {name}, and none to a program"
    if name in trial.strict and here.way.adapter != name:
        return _return_filtered(goal, name, evidence)
    return broken(
        Rung.WAY_BACK,
        evidence,
        Cause.FIREWALL_IN,
        f"This computer's own firewall drops the answers of {goal.name}.",
        "look for the rule that does: nft list ruleset",
        f"have that rule let {goal.address} through, and nothing else",
    )


def _came_elsewhere(goal: Goal, here: Situation, trial: Trial) -> Step:
    name, count = max(trial.elsewhere.items(), key=lambda pair: pair[1])
    evidence = f"{count} answers of {goal.address} came back by {name}, not by {here.adapter.name}"
    if name in trial.strict:
        return _return_filtered(goal, name, evidence)
    return undecided(
        Rung.WAY_BACK,
        evidence,
        f"{goal.name} answers by another adapter than it was asked by; programs that wait on "
        f"{here.adapter.name} do not hear it.",
        (Cause.RETURN_FILTERED, Cause.ROUTE_ELSEWHERE),
        f"pull the cable of {name} and type this again",
    )


def _return_filtered(goal: Goal, name: str, evidence: str) -> Step:
    return broken(
        Rung.WAY_BACK,
        f"{evidence}; the reverse-path filter of {name} is strict",
        Cause.RETURN_FILTERED,
        f"Answers of {goal.name} come in by {name}, where this computer does not expect them, and "
        "its reverse-path filter drops them.",
        f"sysctl -w net.ipv4.conf.{name}.rp_filter=2; and back: "
        f"sysctl -w net.ipv4.conf.{name}.rp_filter=1",
        "or have the router send them back by the way they came",
    )


_BY_A_FILTER = ("prohibited", "port unreachable", "protocol unreachable")
"""What no router says of an echo that it has no way for."""


def _undelivered(goal: Goal, here: Situation, error: Told) -> Step:
    who, said = error.by, error.said
    evidence = f'{who} says "{said}" after {error.seconds:.1f} s'
    if any(words in said for words in _BY_A_FILTER):
        return undecided(
            Rung.WAY_BACK,
            evidence,
            f"A filter at {who} forbids what is meant for {goal.name}; what is behind it was not "
            "reached.",
            (Cause.STOPS_AT_HOP, Cause.DOOR_SILENT),
            f"ask who looks after {who} to let this computer through to {goal.address}",
        )
    if said == NOBODY and here.way.router is not None:
        return broken(
            Rung.WAY_BACK,
            evidence,
            Cause.NOBODY_THERE,
            f"The router {who} finds nobody at {goal.address} on its own wire.",
            "check the device's power and its own cable",
        )
    if error.expired:
        return broken(
            Rung.WAY_BACK,
            evidence,
            Cause.STOPS_AT_HOP,
            f"What is meant for {goal.name} goes round in a circle between routers, until {who} "
            "gives it up.",
            f"portcall trace {goal.address} shows the circle; look at the routes of those in it",
        )
    return broken(
        Rung.WAY_BACK,
        evidence,
        Cause.STOPS_AT_HOP,
        f"The way to {goal.name} ends at {who}: {said}.",
        f"look at the routes of {who}: it knows no way to {assumed_network(goal.address)}, "
        "or its adapter there has no link",
    )


def _answers_nearer(goal: Goal, here: Situation, inside: FromInside) -> Step:
    """It answers an address nearer to its own, and its mask, if it was told, is not the reason."""
    told = f"; its mask is {inside.mask}, by {inside.by}" if inside.mask is not None else ""
    mask = () if inside.mask is not None and prefix_length(inside.mask) else (Cause.MASK,)
    return undecided(
        Rung.WAY_BACK,
        f"nothing comes back to {here.way.source}; {goal.address} answers {inside.address}, which "
        f"is nearer to it{told}",
        f"{goal.name} answers {inside.address} and not {here.way.source}. Either its mask leaves "
        "this computer out, or it lets only some addresses in, or it has an old MAC for "
        f"{here.way.source}.",
        (*mask, Cause.PING_IGNORED, Cause.DOOR_SILENT),
        f"read at the device, on its page or panel: its mask, and whom it lets in ({goal})",
        f"meanwhile it answers a computer that has {inside.address}",
    )


def _mask(goal: Goal, here: Situation, inside: FromInside) -> Step:
    facts = [f"nothing comes back to {here.way.source}"]
    if inside.answered:
        facts.append(f"{goal.address} answers {inside.address}, which is nearer to it")
    if inside.mask is not None:
        facts.append(f"its mask is {inside.mask}, by {inside.by}")
    planned = here.row.interface.netmask if here.row is not None else None
    shown = f"Its mask {inside.mask}" if inside.mask is not None else "Its mask"
    wanted = f"; planned is {planned}" if planned is not None else ""
    do = []
    if planned is not None and planned != inside.mask and inside.can_be_set:
        do.append(f"portcall move {goal.name}")
    elif planned is not None and planned != inside.mask:
        do.append(f"set its mask at its panel or on its page: {planned}")
    elif planned is not None:
        do.append(f"the plan leaves this computer out, too: portcall match {goal.name}")
    if inside.address is not None and inside.answered:
        do.append(f"meanwhile it answers a computer that has {inside.address}")
    return broken(
        Rung.WAY_BACK,
        "; ".join(facts),
        Cause.MASK,
        f"{goal.name} cannot answer this computer: {shown[0].lower()}{shown[1:]} leaves "
        f"{here.way.source} out, and it has no router{wanted}.",
        *do,
    )


def _by_the_device(goal: Goal) -> tuple[str, ...]:
    return (f"look at the device's own settings: mask and gateway, and whether it lets {goal} in",)


def _silence(goal: Goal, here: Situation, trial: Trial, inside: FromInside | None) -> Step:
    doors = f" and {len(trial.doors)} doors" if trial.doors else ""
    evidence = f"no answer to {trial.echoes} echoes{doors}"
    if trial.no_echoes:
        evidence = f"no answer of {len(trial.doors)} doors, and no echo was sent: {trial.no_echoes}"
    if here.way.router is not None:
        return undecided(
            Rung.WAY_BACK,
            f"{evidence}; no router says why",
            f"Nothing of {goal.name} comes back through router {here.way.router}. Either it is "
            "gone, which a router that has spoken to it notices late; or it has no gateway or a "
            "wrong mask; or something on the way drops it.",
            (Cause.NOBODY_THERE, Cause.MASK, Cause.STOPS_AT_HOP),
            f"portcall trace {goal.address} shows how far it comes",
            "type this from a computer on the device's own wire",
        )
    if trial.seen_out is None:
        return undecided(
            Rung.WAY_BACK,
            f"{evidence}; whether answers came to the adapter was not asked: run this with sudo",
            f"{goal.name} answers nothing that was asked.",
            (Cause.MASK, Cause.PING_IGNORED, Cause.DOOR_SILENT, Cause.FIREWALL_IN),
            f"sudo portcall why {goal.name}",
        )
    fixed = here.fixed.get(goal.address)
    if fixed is not None:
        return undecided(
            Rung.WAY_BACK,
            f"{evidence}; all of it was sent to {fixed}, as this computer's own table says",
            f"Nothing comes back from {goal.name}. Either it is not there, or the MAC {fixed}, "
            "which is fixed for it in this computer's own ARP table, is not its own.",
            (Cause.NOBODY_THERE, Cause.FIXED_NEIGHBOUR),
            f"look for the entry: ip neigh show {goal.address}",
            "compare it with the device's label",
        )
    asked = ""
    if inside is not None and inside.address is not None:
        asked = f", also not to {inside.address}, which is nearer to it"
    return undecided(
        Rung.WAY_BACK,
        evidence + asked,
        f"{goal.name} is on the wire, and answers nothing but ARP. Either it lets nothing in, or "
        "its mask or gateway is wrong, or it serves nothing that was asked for.",
        (Cause.MASK, Cause.PING_IGNORED, Cause.DOOR_SILENT),
        "name the door that it should have: portcall why " + f"{goal.name} PORT",
        *_by_the_device(goal),
    )


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
        return f"port {_listed(trial.open_doors)} is open"
    if trial.settled_doors:
        return f"it refuses port {_listed(trial.settled_doors)}"
    return "no door answers"


def _listed(ports: Iterable[int]) -> str:
    return ", ".join(str(port) for port in ports)


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
        is_open = f"; open: {_listed(trial.open_doors)}" if trial.open_doors else ""
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
            *([f"open are: {_listed(trial.open_doors)}"] if trial.open_doors else []),
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
    beside = f", while port {_listed(others[:3])} answers" if others else ""
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
