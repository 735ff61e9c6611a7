"""No cause is named whose neighbours are not excluded, whatever was seen.

``MAY_BE_NAMED`` says it once more, by the evidence itself: it knows nothing of facts or grounds.
"""

from dataclasses import replace
from ipaddress import IPv4Address, IPv4Interface

import pytest
from hypothesis import given
from hypothesis import strategies as st
from test_ladder import (
    FAR,
    HERE,
    LAN0,
    OTHER,
    OWN,
    OWN_MAC,
    PLAN,
    PLC,
    PLC_MAC,
    ROUTER,
    ROW,
    USB0,
)

from portcall.core.adapters.way_out import WayOut
from portcall.core.address import AddressRange
from portcall.core.find.device import Asking, Device
from portcall.core.find.sighting import Method
from portcall.core.finding import Name
from portcall.core.reach.echo_facts import Undelivered
from portcall.core.talk.door_knock import DoorState
from portcall.core.talk.request import AddressProtocol
from portcall.core.why import below, echo_series, neighbour, open_doors, proxies, way_back
from portcall.core.why.evidence import (
    EchoSeen,
    FromInside,
    LinkSeen,
    Situation,
    Sought,
    Trial,
    WireSeen,
    WordSeen,
)
from portcall.core.why.facts import ClimbSeen, Fact, facts
from portcall.core.why.grounds import GROUNDS, weigh
from portcall.core.why.ladder import Cause, Goal

PORT = 44818
NEAR = IPv4Address("10.61.20.9")
LARGE = [AddressRange(IPv4Address("10.61.0.1"), IPv4Address("10.61.255.254"))]
MACS = st.lists(st.sampled_from((PLC_MAC, OTHER, OWN_MAC)), max_size=2, unique=True)
COUNT = st.one_of(st.none(), st.integers(0, 3))
NARROW, WIDE = IPv4Address("255.255.255.240"), IPv4Address("255.255.255.0")


@st.composite
def situations(draw) -> Situation:
    goal_is_far = draw(st.booleans())
    router = draw(st.sampled_from((None, ROUTER))) if goal_is_far else None
    name = draw(st.sampled_from(("usb0", "usb0", "lan0", None)))
    way = WayOut(name, OWN, router)
    adapter = draw(st.sampled_from((USB0, replace(USB0, addresses=(), routes=()))))
    row = draw(st.sampled_from((ROW, replace(ROW, mac=None), None)))
    fixed = draw(st.sampled_from(({}, {PLC: OTHER}, {ROUTER: OTHER})))
    other_way = draw(st.sampled_from((None, True, False)))
    return Situation(adapter, (LAN0, USB0), way, PLAN, row, None, fixed, other_way)


@st.composite
def wires(draw) -> WireSeen:
    if draw(st.integers(0, 4)) == 0:
        return WireSeen(None)
    answered = {address: draw(MACS) for address in (PLC, OWN, ROUTER, FAR)}
    alone = draw(st.dictionaries(st.sampled_from((PLC_MAC, OTHER)), st.just(OTHER), max_size=2))
    alone |= {PLC_MAC: PLC_MAC} if draw(st.booleans()) else {}
    by_kernel = draw(st.booleans())
    if by_kernel:
        answered = {address: macs[:1] for address, macs in answered.items()}
    return WireSeen(answered, by_kernel=by_kernel, alone=alone)


@st.composite
def trials(draw) -> Trial:
    watched = draw(st.booleans())
    ports = st.sets(st.sampled_from((PORT, 80)))
    said = st.sampled_from(
        ("host unreachable", "network unreachable", "port unreachable", "prohibited")
    )
    by = st.sampled_from((ROUTER, IPv4Address("198.51.100.9"), NEAR))
    told = st.builds(Undelivered, by, said, st.sampled_from((0.0, 2.0)), expired=st.booleans())
    return Trial(
        4,
        draw(st.integers(0, 1)),
        refused=draw(st.sampled_from((None, None, "the firewall forbids it"))),
        doors=draw(
            st.dictionaries(
                st.sampled_from((PORT, 80)),
                st.sampled_from((DoorState.OPEN, DoorState.REFUSED, DoorState.SILENT)),
            )
        ),
        errors=draw(st.lists(told, max_size=2)),
        stands_there=draw(st.sampled_from((None, ROUTER))),
        neighbour_known=draw(st.booleans()),
        seen_out=draw(st.integers(0, 3)) if watched else None,
        seen_in=draw(st.integers(0, 3)) if watched else None,
        echoes_in=draw(st.integers(0, 2)) if watched else 0,
        ports_out=draw(ports) if watched else set(),
        ports_in=draw(ports) if watched else set(),
        forbidden=draw(ports) if watched else set(),
        elsewhere={"lan0": 2} if watched and draw(st.booleans()) else {},
        strict=frozenset(draw(st.sets(st.sampled_from(("usb0", "lan0"))))),
    )


@st.composite
def echoes(draw) -> EchoSeen | None:
    received = draw(st.integers(1, 30))
    large = draw(st.integers(0, 3))
    slow = draw(st.sampled_from((0, 5)))
    return EchoSeen(
        30,
        received,
        [0.001] * received,
        64,
        3,
        large,
        1500,
        None if large else 971,
        draw(st.sampled_from((None, Undelivered(ROUTER, "fragmentation needed", mtu=1000)))),
        draw(st.sampled_from((None, True, False))),
        draw(st.booleans()),
        slow,
        draw(st.integers(0, slow)),
    )


DEVICES = st.lists(
    st.sampled_from(
        (
            Device(PLC_MAC, (NEAR,)),
            Device(PLC_MAC, asks=(Asking(AddressProtocol.BOOTP, 2, 0.0, 2.0),)),
            Device(PLC_MAC, methods=(Method.DCP,)),
            Device(OTHER, (NEAR,)),
        )
    ),
    max_size=2,
    unique_by=lambda device: device.mac,
)


@st.composite
def evidence(draw) -> ClimbSeen:
    here = draw(situations())
    address = PLC if here.way.router is None and draw(st.booleans()) else FAR
    goal = Goal(address, Name("dryer-plc"), draw(st.sampled_from((None, PORT))), "CIP")
    out = replace(USB0, link=draw(st.booleans()))
    trial = draw(trials())
    inside = FromInside(NEAR, draw(st.booleans()), draw(st.sampled_from((None, NARROW, WIDE))))
    word = WordSeen(
        PORT, "CIP", True, draw(st.sampled_from(("", "x"))), draw(st.binary(max_size=1))
    )
    return ClimbSeen(
        goal,
        LinkSeen(out, draw(st.integers(0, 1)), 1.0),
        here,
        draw(wires()),
        draw(st.booleans()),
        Sought(draw(st.one_of(st.none(), DEVICES)), too_large=draw(st.sampled_from(((), LARGE)))),
        trial,
        inside,
        draw(echoes()) if trial.answered else None,
        (word,),
        draw(st.booleans()),
    )


def named(seen: ClimbSeen) -> list[Cause]:
    """Every cause that a rung would name, each judged as if all below it held."""
    goal, here, wire, trial = seen.goal, seen.here, seen.wire, seen.trial
    steps = [
        below.judge_link(seen.link),
        below.judge_own_address(goal, here, wire),
        below.judge_way_out(goal, here, wire),
        neighbour.judge_neighbour(goal, here, wire, {}),
        way_back.judge_way_back(goal, here, trial, seen.inside),
        echo_series.judge_echo(goal, here, trial, seen.echo),
        open_doors.judge_door(goal, here, trial, {}),
        open_doors.judge_word(goal, here, seen.words),
        proxies.judge_programs(goal, [("http_proxy", "x")] * seen.proxies_for_pages, [80]),
    ]
    if not wire.macs(here.first(goal.address)) and wire.answers is not None:
        steps.append(neighbour.judge_nobody(goal, here, seen.sought, wire))
    found = facts(seen)
    weighed = [weigh(step, found, goal) for step in steps if step]
    for step in weighed:
        if step.conclusion is not None and step.conclusion.cause is None:
            assert step.conclusion.sentence.endswith(".")
            assert step.conclusion.do
    return [step.conclusion.cause for step in weighed if step.conclusion and step.conclusion.cause]


def watched(seen):
    return seen.trial.seen_out is not None


def macs(seen):
    return seen.wire.macs(seen.here.first(seen.goal.address))


def is_fixed(seen):
    return seen.here.first(seen.goal.address) in seen.here.fixed


def its_mac(seen):
    return seen.here.row.mac if seen.here.row else None


def nobody(seen):
    if seen.here.way.router is None:
        mac, found = its_mac(seen), seen.sought.devices
        missed = found is not None and mac not in [each.mac for each in found]
        missed = mac is None or (missed and not seen.sought.too_large)
        return not macs(seen) and not is_fixed(seen) and missed
    told = seen.here.believed(seen.trial.errors, seen.goal.address)
    times = [e.seconds for e in seen.trial.errors if (e.by, e.said) == (told.by, told.said)]
    return (
        told.said == "host unreachable" and seen.trial.stands_there == told.by and max(times) > 0.4
    )


def leaves_out(seen):
    at = IPv4Interface(f"{seen.goal.address}/{seen.inside.mask}") if seen.inside.mask else None
    return at is not None and OWN not in at.network


MAY_BE_NAMED = {
    Cause.OTHER_SUBNET: lambda s: s.wire.macs(s.goal.address) and not s.wire.by_kernel,
    Cause.NO_ROUTER: lambda s: (
        s.wire.answers is not None
        and not s.wire.macs(s.goal.address)
        and (s.here.other_way_answers is False or not s.here.way.adapter)
    ),
    Cause.OWN_ADDRESS_TAKEN: lambda s: set(s.wire.macs(OWN)) - {OWN_MAC, LAN0.mac},
    Cause.FIXED_NEIGHBOUR: lambda s: is_fixed(s) and len(macs(s)) == 1,
    Cause.ROUTER_SILENT: lambda s: not macs(s) and s.here.way.router and not is_fixed(s),
    Cause.NOBODY_THERE: nobody,
    Cause.WRONG_DEVICE: lambda s: (
        len(macs(s)) == 1
        and not s.wire.by_kernel
        and not any(macs(s)[0] in s.wire.macs(a) for a in (OWN, ROUTER, FAR) if a != s.goal.address)
    ),
    Cause.ADDRESS_SHARED: lambda s: (
        s.plates_differ or all(s.wire.alone.get(mac) == mac for mac in macs(s))
    ),
    Cause.FIREWALL_OUT: lambda s: (
        s.trial.refused
        or (watched(s) and PORT not in s.trial.ports_out)
        or (s.trial.seen_out == 0 and s.trial.neighbour_known)
    ),
    Cause.FIREWALL_IN: lambda s: (
        watched(s) and (s.trial.seen_in or s.trial.echoes_in or s.trial.ports_in)
    ),
    Cause.MASK: lambda s: leaves_out(s) and watched(s) and not s.trial.seen_in,
    Cause.STOPS_AT_HOP: lambda s: (
        (told := s.here.believed(s.trial.errors, s.goal.address)).expired
        or told.said == "network unreachable"
    ),
    Cause.PING_IGNORED: lambda s: watched(s) and not s.trial.echoes_in and s.trial.settled_doors,
    Cause.DOOR_CLOSED: lambda s: PORT in s.trial.ports_in,
    Cause.DOOR_SILENT: lambda s: PORT in s.trial.ports_out and PORT not in s.trial.ports_in,
    Cause.LOSSY: lambda s: s.echo.by_chance or 0 < s.echo.slow_sent != s.echo.slow_received,
    Cause.LARGE_LOST: lambda s: s.echo.full_taken is False and s.echo.mtu_told is None,
    Cause.SPEAKS_OTHERWISE: lambda s: s.words[0].raw,
}


@pytest.mark.long
@given(evidence())
def test_no_cause_is_named_whose_neighbours_are_not_excluded(seen):
    for cause in named(seen):
        assert MAY_BE_NAMED.get(cause, lambda seen: True)(seen), cause


def test_every_cause_has_grounds_and_the_table_is_not_so_strict_that_nothing_is_named():
    assert set(GROUNDS) == set(Cause)
    ways = [way for each in GROUNDS.values() for way in each]
    wanted = {fact for way in ways for need in way.needs for fact in need}
    excluding = {fact for way in ways for by in way.excluded.values() for fact in by}
    # Each fact decides something, but for those that only word what is not decided.
    assert set(Fact) - wanted - excluding == {Fact.WATCHED}
    gone = ClimbSeen(Goal(PLC, Name("dryer-plc")), here=HERE, wire=WireSeen({}), sought=Sought(()))
    assert named(replace_link(gone)) == [Cause.NOBODY_THERE]


def replace_link(seen: ClimbSeen) -> ClimbSeen:
    seen.link, seen.words = LinkSeen(USB0), ()
    seen.trial.answered = 1
    return seen
