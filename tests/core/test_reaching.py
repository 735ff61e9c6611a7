"""Long watches, doors that are timed, and the way hop by hop: made-up packets and times."""

import random
import sys
from ipaddress import IPv4Address

import pytest
from drive import alone
from hypothesis import given
from hypothesis import strategies as st

from portcall.core.catalog.catalog import USUAL_DOORS
from portcall.core.catalog.doors import parse_door
from portcall.core.reach.echo_facts import Replied, Unanswered
from portcall.core.reach.histogram import Histogram
from portcall.core.reach.knocking import Knocking
from portcall.core.reach.ping import Ping
from portcall.core.reach.trace import HopPacket, HopSays, Trace, way_back
from portcall.core.reach.watch import ReachWatch
from portcall.core.talk.conversation import Endpoint, IcmpPacket
from portcall.core.talk.door_knock import DoorState, Knock
from portcall.core.trouble import BadInput
from portcall.core.wire import icmp

PLC, ROUTER = IPv4Address("10.61.20.10"), IPv4Address("10.61.20.1")
DOOR = Endpoint(PLC, 44818)


@given(st.lists(st.floats(2e-6, 50), min_size=1), st.sampled_from([0.5, 0.99, 1.0]))
def test_quantiles_of_a_histogram_are_within_two_percent(times, share):
    histogram = Histogram()
    for seconds in times:
        histogram.add(seconds)
    ordered = sorted(times)
    exact = ordered[max(0, -int(-share * len(times) // 1) - 1)]
    assert abs(histogram.quantile(share) / exact - 1) < 0.021


def test_a_watch_tells_when_a_target_goes_and_comes_and_draws_the_last_minute():
    watch = ReachWatch([PLC, DOOR])
    changes = []
    for second in range(100):
        lost = 50 <= second < 55 or second == 80
        late = 0.009 if second == 90 else 0.001
        fact = (
            Unanswered(PLC, second, "no reply", at=float(second))
            if lost
            else Replied(PLC, second, late, at=float(second))
        )
        changes.append(watch.take(fact))
    told = [change for change in changes if change]
    # One that is lost alone is no change.
    assert [(change.is_up, change.at, change.gap) for change in told] == [
        (True, 0.0, None),
        (False, 51.0, None),
        (True, 55.0, 6.0),
    ]
    plc = watch.targets[PLC]
    assert (plc.sent, plc.lost, plc.longest_gap, plc.longest_gap_at) == (100, 6, 6.0, 49.0)
    minute = plc.minute(99.5)
    assert len(minute) == 60
    assert minute[10:15] == "xxxxx"
    assert (minute[9], minute[40], minute[50], minute[51]) == ("·", "x", "^", "·")
    assert plc.minute(130.0).endswith(" " * 30)
    assert plc.worst_gap(200.0) == (6.0, 49.0)
    # The door was not asked: neither up nor down.
    assert (watch.all_up, watch.any_down) == (False, False)
    watch.take(Replied(DOOR, 1, 0.002))
    assert watch.all_up
    for second in (1, 2):
        watch.take(Unanswered(DOOR, second, "refused", at=100.0 + second))
    assert watch.any_down
    # A gap that is not over counts, too.
    assert watch.targets[DOOR].worst_gap(109.0) == (109.0, 0.0)
    assert [each.target for each in watch.in_order()] == [DOOR, PLC]


def size_of(watch):
    """Octets of what a watch keeps."""
    return sum(
        sys.getsizeof(getattr(each, name)) + sum(map(sys.getsizeof, each._marks))
        for each in watch.targets.values()
        for name in ("_marks", "times")
    )


@pytest.mark.long
def test_an_hour_takes_no_more_memory_than_a_minute():
    targets = [IPv4Address(f"10.61.20.{n}") for n in range(1, 21)]
    watch, chance = ReachWatch(targets), random.Random(1)
    sizes = {}
    for second in range(3600):
        for target in targets:
            at = float(second)
            lost = chance.random() < 0.1
            fact = (
                Unanswered(target, second, "no reply", at=at)
                if lost
                else Replied(target, second, chance.expovariate(500), at=at)
            )
            watch.take(fact)
        sizes[second] = size_of(watch)
    assert sizes[3599] <= sizes[60] * 1.01


def test_a_thousand_targets_cost_each_question_the_same():
    """The conversation with time made to run faster: what it keeps is what is on its way."""
    targets = [IPv4Address(n) for n in range(0x0A3D1401, 0x0A3D1401 + 1000)]
    ping = Ping(targets, 9, count=None, interval=1.0, wait=0.5)
    wire, party = alone(ping)
    for number in range(1, 20):
        message = icmp.encode_echo(icmp.Echo(True, 9, number, b""))
        for target in targets[::2]:
            wire.say(IcmpPacket(target, message))
        wire.pass_time(1.0)
        assert len(ping._pending) <= len(targets)
        assert len(ping._due) <= len(targets)
    lost = sum(isinstance(fact, Unanswered) for fact in party.facts)
    assert (len(party.facts) - lost, lost) == (19 * 500, 19 * 500)
    assert len(party.packets) == 20 * 1000


def test_doors_are_timed_and_refused_and_silent_are_told_apart():
    doors = [Endpoint(PLC, port) for port in (44818, 502, 80)]
    wire, party = alone(Knocking(doors, 2, 1.0, 3.0))
    wire.now += 0.002
    wire.say(Knock(doors[0], DoorState.OPEN))
    wire.say(Knock(doors[0], DoorState.CLOSED))
    wire.say(Knock(doors[1], DoorState.REFUSED))
    wire.pass_time(1.0)
    # The third is still under way and is not tried twice.
    assert [packet.door for packet in party.packets[3:]] == doors[:2]
    wire.pass_time(10)
    first, second, *rest = party.facts
    assert (first.target, round(first.seconds, 6)) == (doors[0], 0.002)
    assert second[:3] == (doors[1], 1, "refused")
    assert {fact.reason for fact in rest} == {"silent"}
    assert party.conversation.over


def test_a_door_goes_by_its_number_and_by_its_name():
    for text, port in (("502", 502), ("cip", 44818), ("OPC-UA", 4840), ("secure web", 443)):
        assert parse_door(text, USUAL_DOORS) == port
    assert parse_door("web", USUAL_DOORS) == 80
    for text in ("0", "65536", "", "-", "profinet", "１２"):
        with pytest.raises(BadInput, match="is no "):
            parse_door(text, USUAL_DOORS)


def answer(packet, wire, by, said, left=None, reason=""):
    wire.say(packet._replace(said=said, by=by, left=left, reason=reason))


def test_all_hops_are_asked_side_by_side_and_nobody_from_beyond_the_end():
    wire, party = alone(Trace(), gap=0.01)
    while not party.conversation.over:
        for packet in list(party.packets):
            if packet.hops == 1:
                answer(packet, wire, ROUTER, HopSays.PASSED_ON)
            elif packet.hops == 2 and packet.number != 12:
                answer(packet, wire, ROUTER + 1, HopSays.PASSED_ON)
            elif packet.hops >= 3:
                answer(packet, wire, PLC, HopSays.REACHED, 62)
        wire.pass_time(1.0)
    path = party.facts
    assert [hop.hops for hop in path] == [1, 2, 3]
    assert (path[0].by, path[0].loss, path[2].said) == ([ROUTER], 0.0, HopSays.REACHED)
    assert 0 < path[1].loss < 1
    assert way_back(path) == "it comes back over as many routers (2)"
    path[2].left = 61
    assert "goes over 2 routers, and comes back over 3" in way_back(path)
    # Three waves of ten, three each, if nobody is there; but the first was silent.
    silent_wire, silent = alone(Trace())
    silent_wire.pass_time(10)
    assert silent.facts == []
    assert len(silent.packets) == 30


def test_a_trace_ends_where_somebody_says_that_it_goes_no_further():
    wire, party = alone(Trace())
    first = party.packets[0]
    answer(first, wire, ROUTER, HopSays.STOPPED, None, "network unreachable")
    # The same again, and what was never asked, change nothing.
    answer(first, wire, PLC, HopSays.REACHED, 64)
    wire.say(HopPacket(7, 9999, HopSays.REACHED, PLC, 64))
    wire.pass_time(2)
    (hop,) = party.facts
    assert (hop.hops, hop.by, hop.reason) == (1, [ROUTER], "network unreachable")
    assert way_back(party.facts) == ""


def test_an_error_about_a_segment_tells_which_one_it_was():
    for port, own_port in ((80, 50001), (44818, 65535)):
        segment = own_port.to_bytes(2, "big") + port.to_bytes(2, "big") + bytes(4)
        quoted = bytes((0x45,)) + bytes(8) + bytes((6,)) + bytes(6) + PLC.packed + segment
        data = icmp.encode(icmp.IcmpMessage(icmp.TIME_EXCEEDED, 0, bytes(4), quoted))
        said = icmp.parse_about_segment(data)
        assert said[:3] == (PLC, own_port, port)
        assert said.expired
        assert icmp.parse_answer(data) is None
    request = icmp.encode_echo(icmp.Echo(False, 5, 6, b"x"))
    made = icmp.parse_answer(icmp.encode_undelivered(PLC, 3, 1, request))
    assert made == icmp.Undelivered(PLC, 5, 6, "host unreachable")
