"""Probe, sweep, identity, listening, ping and lookout, driven with made-up times."""

from ipaddress import IPv4Address, IPv4Interface
from itertools import pairwise
from math import ceil

import pytest
from drive import Wire, alone
from hypothesis import given
from hypothesis import strategies as st

from portcall.core.address import (
    BROADCAST,
    LIMITED_BROADCAST,
    UNSPECIFIED,
    AddressRange,
    Mac,
    parse_range,
)
from portcall.core.assign.lookout import Lookout, Offer
from portcall.core.find import arp_sweep
from portcall.core.find.arp_sweep import ArpSweep
from portcall.core.find.arrivals import Arrival, Arrivals, Ear, dropped
from portcall.core.find.cip_identity import IdentityByBroadcast
from portcall.core.find.overhear import Overhear
from portcall.core.find.sighting import Field, Method
from portcall.core.reach.echo_facts import Replied, Unanswered, Undelivered
from portcall.core.reach.ping import Ping
from portcall.core.reach.rounds import ERROR_GRACE
from portcall.core.reach.statistics import summarise
from portcall.core.talk.conversation import Datagram, Endpoint, Frame, IcmpPacket, StreamBytes
from portcall.core.talk.door_knock import Knock
from portcall.core.talk.pacer import EVERYBODY, Pace, Pacer, Shares, Window
from portcall.core.talk.probe import PROBE_TIME, AddressProbe, Free, Taken
from portcall.core.talk.receivers import of_frame, of_packet
from portcall.core.talk.request import AddressProtocol
from portcall.core.wire import arp, bootp, cip, dhcp, ethernet, icmp, ipv4, udp

OWN = Mac(b"\x02\x1a\x40\x7c\x00\x06")
THEIRS = Mac(b"\x02\x77\xb1\x4c\x09\x21")
PLC = IPv4Address("10.61.20.10")


def arp_frame(operation, mac, address, target=UNSPECIFIED):
    packet = arp.Arp(operation, mac, IPv4Address(address), OWN, IPv4Address(target))
    return Frame(ethernet.encode(ethernet.EthernetFrame(OWN, mac, 0x0806, arp.encode(packet))))


def reply_from(mac, address):
    return arp_frame(arp.Operation.REPLY, mac, address)


def asked_targets(party):
    return [str(arp.parse(packet.data[14:]).target_address) for packet in party.packets]


# Probing.


def test_a_free_address_is_probed_three_times_in_rfc_5227_time():
    wire, party = alone(AddressProbe(OWN, PLC))
    wire.pass_time(PROBE_TIME - 0.01)
    assert [at for at, _ in party.sent] == [0, 1, 2]
    assert all(arp.parse(packet.data[14:]).is_probe for packet in party.packets)
    assert party.facts == []
    wire.pass_time(0.01)
    assert party.facts == [Free(PLC)]
    assert party.conversation.over
    assert PROBE_TIME == 4


def test_a_taken_address_is_known_at_the_first_answer():
    wire, party = alone(AddressProbe(OWN, PLC))
    wire.say(reply_from(THEIRS, PLC))
    wire.say(reply_from(THEIRS, PLC))
    assert party.facts == [Taken(PLC, THEIRS)]
    assert party.conversation.over


def test_another_prober_for_the_same_address_is_a_conflict_and_our_own_echo_is_not():
    wire, party = alone(AddressProbe(OWN, PLC))
    wire.say(Frame(arp.encode_request(OWN, UNSPECIFIED, PLC)))
    wire.say(Frame(arp.encode_request(THEIRS, UNSPECIFIED, IPv4Address("10.61.20.11"))))
    assert party.facts == []
    wire.say(Frame(arp.encode_request(THEIRS, UNSPECIFIED, PLC)))
    assert party.facts == [Taken(PLC, THEIRS)]


# Sweeping.


def test_a_sweep_asks_each_address_and_the_silent_ones_again():
    sweep = ArpSweep(OWN, (), (parse_range("10.61.20.9-12"),))
    wire, party = alone(sweep, gap=0.005)
    wire.say(reply_from(THEIRS, PLC))
    wire.pass_time(5)
    assert asked_targets(party) == [f"10.61.20.{n}" for n in (9, 10, 11, 12, 9, 11, 12)]
    assert party.conversation.over
    assert [(s.mac, s.address, s.method) for s in party.facts] == [(THEIRS, PLC, Method.ARP)]
    assert wire.now >= 2 * arp_sweep.ANSWER_WAIT


def test_a_sweep_uses_its_own_address_only_inside_its_own_subnet():
    own = IPv4Interface("10.61.20.200/24")
    spans = (parse_range("10.61.20.199-201"), parse_range("203.0.113.40"))
    _wire, party = alone(ArpSweep(OWN, (own,), spans))
    senders = {
        str(said.target_address): str(said.sender_address)
        for said in (arp.parse(packet.data[14:]) for packet in party.packets)
    }
    assert senders == {
        "10.61.20.199": "10.61.20.200",
        # Its own is asked for as anybody would who does not have it.
        "10.61.20.200": "0.0.0.0",
        "10.61.20.201": "10.61.20.200",
        "203.0.113.40": "0.0.0.0",
    }


def test_a_sweep_makes_each_request_when_it_is_wanted_and_none_for_who_has_answered():
    sweep = ArpSweep(OWN, (), (AddressRange(IPv4Address("10.0.0.1"), IPv4Address("10.0.255.254")),))
    assert sweep.total == 65534
    (all_of_them,) = sweep.begin(0.0)
    first = next(all_of_them.packets)
    list(sweep.heard(reply_from(THEIRS, IPv4Address("10.0.0.2")), 0.0))
    second = next(all_of_them.packets)
    asked = [str(arp.parse_frame(frame.data).target_address) for frame in (first, second)]
    assert asked == ["10.0.0.1", "10.0.0.3"]


def test_a_long_round_is_followed_by_the_next_at_once_and_a_short_one_after_the_wait():
    def wake_after(took):
        sweep = ArpSweep(OWN, (), (parse_range("10.61.20.10-12"),))
        list(sweep.begin(10.0))
        list(sweep.all_left(10.0 + took))
        first = sweep.wake_at
        list(sweep.woke(first))
        list(sweep.all_left(first + took))
        return first, sweep.wake_at - (first + took)

    assert wake_after(0.1) == (10.0 + arp_sweep.ANSWER_WAIT, pytest.approx(arp_sweep.ANSWER_WAIT))
    assert wake_after(3.0) == (13.0, pytest.approx(arp_sweep.ANSWER_WAIT))


def test_two_macs_behind_one_address_are_both_reported():
    wire, party = alone(ArpSweep(OWN, (), (parse_range("10.61.20.10"),)))
    for mac in (THEIRS, Mac(b"\2\2\2\2\2\2"), THEIRS):
        wire.say(reply_from(mac, PLC))
    assert len(party.facts) == 2


# Identity.


def identity(address="10.61.20.10", name=b"Skerry 40\x1b[31m controller"):
    return cip.Identity(
        IPv4Address(address), 44818, 64101, 0x0E, 40, 20, 13, 0, 0x5A20170F, name, 3
    )


def test_identity_by_broadcast_asks_twice_and_reports_each_device_once():
    everybody = IPv4Address("255.255.255.255")
    wire, party = alone(IdentityByBroadcast((everybody,)))
    answer = Datagram(Endpoint(PLC, 44818), cip.encode_identity(identity(), bytes(8)))
    wire.say(answer)
    wire.say(answer)
    wire.say(Datagram(Endpoint(IPv4Address(5), 44818), b"\x63\x00garbage"))
    wire.pass_time(5)
    assert (
        party.packets == [Datagram(Endpoint(everybody, 44818), cip.encode_list_identity(0.8))] * 2
    )
    assert party.conversation.over
    (seen,) = party.facts
    said = {value.field: value.value for value in seen.said}
    assert seen.address == PLC
    assert said[Field.SERIAL] == "5A20170F"
    assert said[Field.FIRMWARE] == "20.013"
    assert "\x1b" not in said[Field.PRODUCT]


def test_answers_that_arrive_are_noted_once_and_only_ours():
    def answer(to, port=44818):
        datagram = udp.UdpDatagram(port, 50000, b"x")
        return Frame(udp.encode_frame(udp.UdpFrame(THEIRS, to, PLC, OWN_ADDRESS, datagram)))

    wire, party = alone(Arrivals(OWN, 44818))
    for frame in (answer(THEIRS), answer(OWN, 80), answer(OWN), answer(OWN), Frame(b"short")):
        wire.say(frame)
    (arrival,) = party.facts
    assert arrival == (PLC, 50000, wire.now)
    refused = IdentityByBroadcast((PLC,))
    (ask,) = list(refused.begin(0.0))
    assert list(refused.unsent(ask.packet, "forbidden", 0.0)) == []
    assert refused.refusal == "forbidden"


def test_a_firewall_is_named_only_when_a_socket_was_there_for_the_answer_and_was_not_given_it():
    arrival = Arrival(PLC, 50000, at=10.0)
    for ear, came, named in (
        (Ear(50000, 9.0, 11.0), (), True),
        (Ear(50000, 9.0), (), True),
        # It reached a program, which could not read it; it came late; it was another's.
        (Ear(50000, 9.0, 11.0), (PLC,), False),
        (Ear(50000, 9.0, 9.9), (), False),
        (Ear(50000, 9.0, 10.1), (), False),
        (Ear(50000, 10.1, 12.0), (), False),
        (Ear(50001, 9.0, 11.0), (), False),
    ):
        assert dropped([arrival, arrival], [ear], came) == ((PLC,) if named else ())
    assert dropped([arrival], [], ()) == ()


# Listening.


def ask_frame(mac, *entries, port=67, op=bootp.Op.REQUEST):
    vendor = dhcp.encode(dhcp.Options(entries)) if entries else b""
    message = bootp.BootpMessage(op, mac, 1, vendor=vendor)
    datagram = udp.UdpDatagram(68, port, bootp.encode(message))
    return Frame(
        udp.encode_frame(udp.UdpFrame(mac, OWN, UNSPECIFIED, IPv4Address(2**32 - 1), datagram))
    )


def test_listening_hears_who_asks_and_who_speaks_arp():
    wire, party = alone(Overhear(OWN, 4.0))
    wire.say(ask_frame(THEIRS))
    wire.say(ask_frame(THEIRS, (53, b"\x01"), (12, b"gale9")))
    wire.say(Frame(arp.encode_request(THEIRS, PLC, IPv4Address(7))))
    wire.say(ask_frame(OWN))
    wire.say(ask_frame(THEIRS, port=69))
    wire.say(ask_frame(THEIRS, op=bootp.Op.REPLY))
    wire.say(Frame(b"\xff" * 40))
    asks = [seen.asks for seen in party.facts]
    assert asks[:3] == [AddressProtocol.BOOTP, AddressProtocol.DHCP, None]
    assert [value.value for value in party.facts[1].said] == ["gale9"]
    assert party.facts[2].address == PLC
    wire.pass_time(4)
    assert party.conversation.over
    assert party.sent == []


def test_another_dhcp_server_is_noticed_by_its_offer_to_us_only():
    wire, party = alone(Lookout(OWN, xid=77))

    def offer(mac, xid, kind=b"\x02"):
        options = dhcp.Options(
            ((53, kind), (54, PLC.packed), (1, b"\xff\xff\xff\0"), (51, b"\0\0\2\x58"))
        )
        message = bootp.BootpMessage(
            bootp.Op.REPLY, mac, xid, yiaddr=IPv4Address(9), vendor=dhcp.encode(options)
        )
        datagram = udp.UdpDatagram(67, 68, bootp.encode(message))
        return Frame(udp.encode_frame(udp.UdpFrame(THEIRS, OWN, PLC, IPv4Address(9), datagram)))

    for stray in (offer(OWN, 78), offer(THEIRS, 77), offer(OWN, 77, b"\x05")):
        wire.say(stray)
    assert party.facts == []
    wire.say(offer(OWN, 77))
    wire.say(offer(OWN, 77))
    wire.pass_time(1)
    assert party.facts == [Offer(THEIRS, PLC, IPv4Address(9), 24, 600)]
    assert party.conversation.over


def test_a_server_that_first_looks_whether_the_address_is_in_use_is_waited_for():
    """Three seconds, and it may have missed the first question."""
    wire, party = alone(Lookout(OWN, xid=77))
    wire.pass_time(4.4)
    assert (len(party.sent), party.conversation.over) == (2, False)
    wire.pass_time(0.2)
    assert party.conversation.over


def test_a_server_that_answers_only_macs_it_knows_is_noticed_by_its_client():
    """Its answers go to the device alone; what the device then asks for goes to everybody."""
    other = IPv4Address("10.61.20.99")

    def request(server):
        options = dhcp.Options(((53, b"\x03"), (50, PLC.packed), (54, server.packed)))
        message = bootp.BootpMessage(bootp.Op.REQUEST, THEIRS, 4, vendor=dhcp.encode(options))
        datagram = udp.UdpDatagram(68, 67, bootp.encode(message))
        return Frame(
            udp.encode_frame(
                udp.UdpFrame(THEIRS, BROADCAST, UNSPECIFIED, LIMITED_BROADCAST, datagram)
            )
        )

    for serving, facts in (((PLC,), [Offer(None, other)]), (None, [])):
        wire, party = alone(Lookout(OWN, xid=77, serving=serving))
        wire.say(request(PLC))
        wire.say(request(other))
        assert party.facts == facts


# Pinging.


def echo(sequence, identifier=9, address=PLC):
    return IcmpPacket(address, icmp.encode_echo(icmp.Echo(True, identifier, sequence, b"")), 64)


def test_ping_times_start_when_the_packet_leaves():
    wire, party = alone(Ping([PLC], 9, count=2, interval=1.0, wait=0.5), gap=0.25)
    wire.now += 0.003
    wire.say(echo(1))
    wire.say(echo(1))
    wire.say(echo(2, identifier=8))
    wire.pass_time(5)
    first, second = party.facts
    assert first.seconds == 0.003000000000000003 or abs(first.seconds - 0.003) < 1e-9
    assert (first.target, first.sequence, first.ttl) == (PLC, 1, 64)
    assert second[:3] == (PLC, 2, "no reply")
    assert second.at - first.at == 1.0
    assert party.conversation.over
    (summary,) = summarise([PLC], party.facts)
    assert (summary.sent, summary.received, summary.loss) == (2, 1, 0.5)
    assert summary.reason == "no reply"


def test_ping_says_who_called_it_unreachable_and_what_could_not_leave():
    ping = Ping([PLC], 9, count=2, interval=1.0, wait=1.0)
    wire, party = alone(ping)
    request = ipv4.Ipv4Packet(OWN_ADDRESS, PLC, 1, party.packets[0].message)
    quoted = ipv4.encode(request)[:28]
    error = icmp.encode(icmp.IcmpMessage(3, 1, bytes(4), quoted))
    router = IPv4Address("10.61.20.1")
    wire.say(IcmpPacket(router, error))
    wire.say(IcmpPacket(IPv4Address("10.61.20.66"), error))
    wire.pass_time(ERROR_GRACE)
    said = Undelivered(router, "host unreachable", 0.0)
    assert party.facts[0][:4] == (PLC, 1, "host unreachable, says 10.61.20.1", said)
    too_long = icmp.encode_undelivered(PLC, 3, 4, party.packets[0].message, 1000)
    assert icmp.parse_answer(too_long).mtu == 1000
    own_wire, own_party = alone(Ping([PLC], 9, own=[OWN_ADDRESS]))
    own_wire.say(IcmpPacket(OWN_ADDRESS, error))
    own_wire.pass_time(ERROR_GRACE)
    assert own_party.facts[0][:4] == (PLC, 1, "nothing answers ARP at this address", None)
    actions = list(ping.woke(1.0))
    (packet,) = actions[0].packets
    (unsent,) = list(ping.unsent(packet, "network is down", 1.0))
    assert unsent.fact[:3] == (PLC, 2, "network is down")
    assert list(ping.all_left(1.0)) == []
    assert ping.over


def test_an_echo_that_comes_back_counts_more_than_an_error_that_anybody_can_send():
    wire, party = alone(Ping([PLC], 9, count=1))
    request = ipv4.Ipv4Packet(OWN_ADDRESS, PLC, 1, party.packets[0].message)
    lie = icmp.encode(icmp.IcmpMessage(3, 1, bytes(4), ipv4.encode(request)[:28]))
    wire.say(IcmpPacket(IPv4Address("10.61.20.66"), lie))
    wire.pass_time(ERROR_GRACE / 2)
    wire.say(echo(1))
    (fact,) = party.facts
    assert isinstance(fact, Replied)
    assert party.conversation.over


OWN_ADDRESS = IPv4Address("10.61.20.200")


@given(st.sets(st.integers(1, 50), min_size=1), st.integers(1, 4), st.floats(0, 0.01))
def test_ping_accounts_for_every_echo(hosts, count, gap):
    targets = [IPv4Address(n) for n in hosts]
    answering = set(targets[::2])
    wire, party = alone(Ping(targets, 9, count, 1.0, 0.7), gap=gap)
    for sequence in range(1, count + 1):
        for target in targets:
            if target in answering:
                wire.say(echo(sequence, address=target))
        wire.pass_time(1.0)
    wire.pass_time(2.0)
    assert party.conversation.over
    for result in summarise(targets, party.facts):
        assert result.sent == count
        assert result.received == (count if result.target in answering else 0)
    assert all(isinstance(fact, Replied | Unanswered) for fact in party.facts)


# The pacer.


@given(
    st.floats(1, 500),
    st.integers(1, 10),
    st.lists(st.floats(0, 0.5), min_size=1, max_size=200),
)
def test_no_window_holds_more_than_rate_and_burst_allow(rate, burst, waits):
    pacer = Pacer(rate, burst)
    now, times = 0.0, []
    for wait in waits:
        now = pacer.ready_at(now + wait)
        pacer.spend(now)
        times.append(now)
    for first in range(0, len(times), 7):
        for last in range(first, len(times)):
            window = times[last] - times[first]
            assert last - first + 1 <= rate * window + burst + 1e-6


@pytest.mark.parametrize(("rate", "together"), [(5, 1), (20, 1), (100, 6), (200, 12), (2000, 12)])
def test_a_burst_is_as_large_as_the_pace_has_room_for_and_never_large(rate, together):
    pacer = Pacer(rate)
    count = 0
    while pacer.ready_at(0.0) < 1e-9:
        pacer.spend(0.0)
        count += 1
    assert count == together


def test_a_pacer_that_is_not_held_back_keeps_its_rate():
    pacer = Pacer(200.0, burst=4)
    now = 0.0
    for _ in range(1000):
        now = pacer.ready_at(now)
        pacer.spend(now)
    assert 4.97 <= now <= 5.0


@given(
    st.floats(0.2, 120),
    st.floats(0, 0.01),
    st.lists(st.tuples(st.floats(0, 0.3), st.integers(1, 6)), min_size=1, max_size=200),
    st.booleans(),
)
def test_no_second_or_tenth_has_more_than_a_window_allows_and_no_two_are_closer_than_the_gap(
    most, gap, packets, evenly
):
    window = Window(most, gap, evenly)
    now, times = 0.0, []
    for wait, room in packets:
        now = window.ready_at(now + wait, room)
        for _ in range(1 if evenly else min(room, max(1, int(most)))):
            # What follows at once is counted as it is seen to leave.
            window.spend(now)
            times.append(now)
    for first, at in enumerate(times):
        within = sum(at <= other < at + 1.0 for other in times[first:])
        assert within <= max(1, int(most))
        within = sum(at <= other < at + 0.1 for other in times[first:])
        assert not evenly or within <= max(1, ceil(most / 10))
    for earlier, later in pairwise(sorted(set(times))):
        assert later - earlier >= gap - 1e-9


def test_what_was_spent_and_is_seen_to_leave_counts_once_and_what_the_kernel_sends_counts_too():
    shares = Shares(Pace(to_one=3))
    shares.spend(b"drive", 0.0)
    assert not shares.seen(b"drive", 0.001)
    assert shares.ready_at(b"drive", 0.2) == 0.2
    assert shares.seen(b"drive", 0.2)
    assert shares.seen(b"drive", 0.4)
    assert shares.ready_at(b"drive", 0.6) >= 1.0
    assert shares.ready_at(b"other", 0.6) == 0.6
    # Another address of the same device has the same share, one that was spent from before, too.
    shares.spend(b"second", 0.6)
    shares.is_of(b"drive", THEIRS)
    shares.is_of(b"second", THEIRS)
    assert shares.ready_at(b"second", 0.7) == shares.ready_at(b"drive", 0.7) >= 1.0
    # Another program's are not counted, neither to whom nothing was sent here nor beyond what the
    # kernel adds.
    before = shares.ready_at(b"third", 0.7)
    assert not any(shares.seen(b"third", 0.7) for _ in range(1000))
    assert (shares.foreign, shares.ready_at(b"third", 0.7)) == (1000, before)
    assert sum(shares.seen(b"drive", 0.7) for _ in range(1000)) < 10
    # What it sends to everybody is in their share, and leaves us half of that.
    slow = Shares(Pace(1000.0, to_all=10.0, to_one=20.0))
    for _ in range(1000):
        slow.seen(EVERYBODY, 5.0)
    at = [slow.ready_at(EVERYBODY, 5.0)]
    while at[-1] < 7.0:
        slow.spend(EVERYBODY, at[-1])
        for _ in range(100):
            slow.seen(EVERYBODY, at[-1])
        at.append(slow.ready_at(EVERYBODY, at[-1]))
    assert 6 <= len(at) <= 12
    # What was spent long ago and never seen hides nothing.
    shares.spend(b"other", 0.0)
    assert shares.seen(b"other", 2.0)


def test_whom_a_packet_is_for_is_read_from_it_or_from_its_medium():
    plc = Endpoint(PLC, 44818)
    assert of_frame(arp.encode_request(OWN, PLC, PLC)) is EVERYBODY
    assert of_packet(Datagram(plc, b""), None) == PLC.packed
    assert of_packet(Datagram(Endpoint(IPv4Address("224.0.0.251"), 5353), b""), None) is EVERYBODY
    assert of_packet(Datagram(Endpoint(IPv4Address("255.255.255.255"), 9), b""), None) is EVERYBODY
    assert of_packet(Knock(plc), None) == of_packet(StreamBytes(b"x"), PLC) == PLC.packed
    assert of_packet(StreamBytes(b"x"), None) is None
    datagram = udp.UdpDatagram(1, 2, b"")
    frame = udp.encode_frame(udp.UdpFrame(OWN, THEIRS, PLC, PLC, datagram))
    assert of_frame(frame) == PLC.packed
    assert of_frame(frame[:20]) == THEIRS


def test_the_wire_in_these_tests_delivers_to_everyone_else():
    wire = Wire()
    one, other = wire.join(AddressProbe(OWN, PLC)), wire.join(AddressProbe(THEIRS, PLC))
    assert one.facts == [Taken(PLC, THEIRS)]
    assert other.facts == []
