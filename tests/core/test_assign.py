"""The address server and its clients, talking to each other without a kernel."""

import itertools
from dataclasses import replace
from ipaddress import IPv4Address, IPv4Interface

import pytest
from asking import (
    BELT,
    EVERYBODY,
    FAN,
    ME,
    OWN,
    PLAN,
    STRANGER,
    Kernel,
    answers,
    ask,
    kind,
    kinds,
    serving,
)
from drive import Wire
from hypothesis import given, settings
from hypothesis import strategies as st

from portcall.core.address import BROADCAST, UNSPECIFIED, Mac
from portcall.core.assign import server as rules
from portcall.core.assign.board import MOST_STRANGERS, Board, RowState
from portcall.core.assign.client import BootpClient, DhcpClient, Lost, Obtained
from portcall.core.assign.event import Event, EventKind
from portcall.core.assign.reply import Replies
from portcall.core.assign.server import LOOK_AGAIN, AddressServer
from portcall.core.finding import Name
from portcall.core.plan.near import difference, near_misses
from portcall.core.plan.rows import Plan, PlannedDevice
from portcall.core.talk.conversation import Frame
from portcall.core.talk.request import AddressProtocol
from portcall.core.wire import bootp, dhcp, udp
from portcall.core.wire.dhcp import Code, MessageType, Options

# Whole exchanges.


@pytest.mark.parametrize("broadcast", [True, False])
def test_a_bootp_device_gets_its_planned_address_on_the_first_request(broadcast):
    wire, server = serving()
    wire.pass_time(5)
    client = wire.join(BootpClient(FAN, 0xABCD, 4.0, broadcast))
    wire.pass_time(1)
    assert client.facts == [Obtained(PLAN.devices[0].interface, None, ME.ip)]
    assert len(client.sent) == 1
    ((frame, message, options),) = answers(server)
    assert frame.destination_mac == (BROADCAST if broadcast else FAN)
    assert frame.destination == (EVERYBODY if broadcast else IPv4Address("10.61.20.21"))
    assert len(frame.datagram.payload) >= 300
    assert options.entries == ((Code.SUBNET_MASK, b"\xff\xff\xff\0"),)
    assert message.yiaddr == IPv4Address("10.61.20.21")
    assert kinds(server) == ["asked", "assigned"]


def test_a_dhcp_device_gets_address_mask_router_and_a_lease_that_does_not_end():
    wire, server = serving()
    client = wire.join(DhcpClient(BELT, 0xABCD, "gale9"))
    kernel = wire.join(Kernel(BELT))
    wire.pass_time(1)
    kernel.conversation.address = IPv4Address("10.61.20.23")
    wire.pass_time(2)
    assert client.facts == [
        Obtained(PLAN.devices[1].interface, IPv4Address("10.61.20.1"), ME.ip, None, OWN)
    ]
    assert kinds(server) == ["asked", "offered", "asked", "assigned", "answering"]
    assert server.facts[0].detail == "calls itself gale9"
    assert {event.protocol for event in server.facts} == {AddressProtocol.DHCP}
    offer, ack = answers(server)
    assert [o.message_type for _, _, o in (offer, ack)] == [MessageType.OFFER, MessageType.ACK]
    assert ack[2].lease_seconds == dhcp.INFINITE
    assert ack[2].router == IPv4Address("10.61.20.1")
    codes = [code for code, _ in ack[2].entries]
    assert codes.index(Code.SUBNET_MASK) < codes.index(Code.ROUTERS)
    wire.pass_time(1e6)
    assert len(client.sent) == 2


@settings(max_examples=60)
@given(st.lists(st.booleans(), max_size=40))
def test_lost_frames_delay_an_assignment_and_change_nothing_else(losses):
    fate = iter(losses)
    wire, _ = serving(lose=lambda packet: next(fate, False))
    fan = wire.join(BootpClient(FAN, 1, 4.0))
    belt = wire.join(DhcpClient(BELT, 2))
    wire.pass_time(2000)
    assert [fact.interface.ip for fact in fan.facts] == [IPv4Address("10.61.20.21")]
    assert {fact.interface.ip for fact in belt.facts} == {IPv4Address("10.61.20.23")}


def test_nobody_unplanned_gets_a_single_frame():
    wire, server = serving()
    for mac in (STRANGER, Mac(b"\x02\x77\xb1\x4c\x09\x22")):
        wire.say(ask(mac))
        wire.say(ask(mac, kind(MessageType.DISCOVER), (Code.HOST_NAME, b"spare\x1b]0;x\x07")))
        wire.say(ask(mac, kind(MessageType.REQUEST), (50, IPv4Address("10.61.20.21").packed)))
    wire.pass_time(60)
    assert answers(server) == []
    assert set(kinds(server)) == {"ignored"}
    assert server.facts[0].detail == "not in the plan"
    assert server.facts[1].detail == "not in the plan; calls itself spare ]0;x"
    assert "differs in one digit from fan-drive-1" in server.facts[3].detail


# Whose address is it?


def test_an_address_that_another_has_is_not_given():
    wire, server = serving()
    squatter = wire.join(Kernel(STRANGER))
    wire.pass_time(3)
    squatter.conversation.address = IPv4Address("10.61.20.21")
    client = wire.join(BootpClient(FAN, 1, 4.0))
    wire.pass_time(2)
    assert client.facts == []
    assert kinds(server) == ["asked", "refused"]
    assert f"{STRANGER} already has 10.61.20.21" in server.facts[1].detail
    squatter.conversation.address = None
    # That it is gone is believed when it had time to answer, and did not.
    wire.pass_time(12)
    assert len(client.facts) == 1


def test_devices_that_have_their_address_at_the_start_are_seen_and_squatters_too():
    wire = Wire()
    fan, squatter = wire.join(Kernel(FAN)), wire.join(Kernel(STRANGER))
    fan.conversation.address = IPv4Address("10.61.20.21")
    squatter.conversation.address = IPv4Address("10.61.20.23")
    server = wire.join(AddressServer((ME,), PLAN, Replies(OWN)))
    wire.pass_time(5)
    assert [(e.kind.value, e.name) for e in server.facts] == [
        ("answering", "fan-drive-1"),
        ("refused", "belt-drive"),
    ]


def test_the_look_at_the_start_keeps_the_pace_and_an_answer_does_not_wait_for_it():
    rows = [
        PlannedDevice(
            Name(f"drive-{n}"), IPv4Interface((0x0A3D1400 + n, 24)), Mac(FAN[:5] + bytes([n]))
        )
        for n in range(1, 101)
    ]
    wire, server = serving(Plan(tuple(rows)), pace=50)
    last = wire.join(BootpClient(rows[-1].mac, 1, 4.0))
    wire.pass_time(0.5)
    assert len(last.facts) == 1
    wire.pass_time(9.5)
    requests = [(at, p.data[-4:]) for at, p in server.sent if p.data[12:14] == b"\x08\x06"]
    assert (0.8, rows[-1].address.packed) in [(round(at, 3), target) for at, target in requests]
    asked = [at for at, _ in requests]
    assert len(asked) > 2 * 99
    assert max(sum(at <= each < at + 1 for each in asked) for at in asked) <= 50


def test_a_device_that_holds_its_address_and_asks_again_is_served():
    wire, _server = serving()
    kernel = wire.join(Kernel(FAN))
    kernel.conversation.address = IPv4Address("10.61.20.21")
    client = wire.join(BootpClient(FAN, 1, 4.0))
    wire.pass_time(2)
    assert len(client.facts) == 1


def test_a_given_address_that_never_answers_is_asked_for_a_while_and_then_no_more():
    wire, server = serving()
    wire.join(BootpClient(FAN, 1, 4.0))
    wire.pass_time(200)
    given = IPv4Address("10.61.20.21").packed
    quiet_since = [at for at, packet in server.sent if packet.data[-4:] == given][-1]
    assert quiet_since < 60
    assert kinds(server) == ["asked", "assigned", "notice"]
    assert server.facts[-1].detail == "no answer at its address for 30 s"


def test_who_asks_in_a_vlan_is_told_of_and_not_answered():
    wire, server = serving()
    plain = ask(FAN).data
    wire.say(Frame(plain[:12] + b"\x81\x00\x00\x05" + plain[12:]))
    wire.pass_time(5)
    (told,) = server.facts
    assert (told.kind, told.name, told.mac) == (EventKind.IGNORED, "fan-drive-1", FAN)
    assert told.detail.startswith("asks in VLAN 5, which this adapter is not in")
    assert answers(server) == []


def test_a_device_that_somebody_else_brings_to_its_address_meanwhile_is_done():
    """By hand, or by another laptop: it never asks here, and answers at its address."""
    wire, server = serving()
    wire.pass_time(15)
    kernel = wire.join(Kernel(FAN))
    kernel.conversation.address = IPv4Address("10.61.20.21")
    assert kinds(server) == []
    wire.pass_time(2 * LOOK_AGAIN)
    assert kinds(server) == ["answering"]


# Requests in every client state (RFC 2131 §4.3.2).


@pytest.mark.parametrize("message", [MessageType.REQUEST, MessageType.DECLINE, MessageType.RELEASE])
def test_what_names_another_server_is_left_alone(message):
    wire, server = serving()
    other = (Code.SERVER_IDENTIFIER, IPv4Address("10.61.20.99").packed)
    wire.say(ask(BELT, kind(message), other))
    wire.pass_time(1)
    assert answers(server) == []
    assert kinds(server) == ["ignored"]
    wire.say(ask(BELT, kind(MessageType.DISCOVER)))
    wire.pass_time(1)
    assert len(answers(server)) == 1


def test_a_planned_device_that_asks_for_another_address_is_told_no_by_broadcast():
    for entries, ciaddr in (
        ([(Code.REQUESTED_ADDRESS, IPv4Address("10.61.20.99").packed)], UNSPECIFIED),
        ([], IPv4Address("10.61.20.99")),
    ):
        wire, server = serving()
        wire.say(ask(BELT, kind(MessageType.REQUEST), *entries, ciaddr=ciaddr))
        ((frame, message, options),) = answers(server)
        assert options.message_type is MessageType.NAK
        assert frame.destination_mac == BROADCAST
        assert (message.yiaddr, message.ciaddr) == (UNSPECIFIED, UNSPECIFIED)
        assert options.subnet_mask is None
        assert kinds(server) == ["asked", "refused"]


def test_a_renewal_is_answered_to_the_address_at_once():
    wire, server = serving()
    wire.say(ask(BELT, kind(MessageType.REQUEST), ciaddr=IPv4Address("10.61.20.23")))
    ((frame, _, options),) = answers(server)
    assert options.message_type is MessageType.ACK
    assert frame.destination == IPv4Address("10.61.20.23")
    assert frame.destination_mac == BELT


def test_a_declined_address_rests_and_inform_gets_no_lease():
    wire, server = serving()
    wire.say(ask(BELT, kind(MessageType.DECLINE)))
    wire.say(ask(BELT, kind(MessageType.DISCOVER)))
    wire.pass_time(1)
    assert answers(server) == []
    assert kinds(server) == ["declined", "asked", "refused"]
    wire.pass_time(rules.DECLINED_REST)
    wire.say(ask(BELT, kind(MessageType.DISCOVER)))
    wire.pass_time(1)
    assert len(answers(server)) == 1
    wire.say(ask(BELT, kind(MessageType.INFORM), ciaddr=IPv4Address("10.61.20.23")))
    _, message, options = answers(server)[-1]
    assert (message.yiaddr, options.lease_seconds) == (UNSPECIFIED, None)
    assert options.message_type is MessageType.ACK


def test_a_request_without_cookie_from_an_old_device_is_served():
    wire, server = serving()
    wire.say(ask(FAN, cookie=False))
    wire.pass_time(1)
    ((_frame, message, options),) = answers(server)
    assert message.vendor.startswith(dhcp.COOKIE)
    assert options.message_type is None


WHOLE = ask(FAN).data


@given(st.binary(max_size=400), st.integers(0, len(WHOLE) - 1))
def test_what_is_no_whole_request_is_never_answered(data, cut):
    wire, server = serving()
    wire.pass_time(10)
    wire.say(Frame(data))
    wire.say(Frame(WHOLE[:cut]))
    wire.pass_time(10)
    assert answers(server) == []
    assert {fact.kind for fact in server.facts} <= {EventKind.IGNORED}
    # The same server, the same frame, but whole.
    wire.say(Frame(WHOLE))
    wire.pass_time(1)
    assert len(answers(server)) == 1


# Clients.


def lease(client_xid, seconds, message_type=MessageType.ACK, mac=BELT):
    entries = (
        kind(message_type),
        (Code.SERVER_IDENTIFIER, ME.ip.packed),
        (Code.SUBNET_MASK, b"\xff\xff\xff\0"),
        (Code.LEASE_TIME, seconds.to_bytes(4, "big")),
    )
    message = bootp.BootpMessage(
        bootp.Op.REPLY,
        mac,
        client_xid,
        yiaddr=IPv4Address("10.61.20.23"),
        vendor=dhcp.encode(Options(entries)),
    )
    datagram = udp.UdpDatagram(67, 68, bootp.encode(message))
    return Frame(udp.encode_frame(udp.UdpFrame(OWN, mac, ME.ip, EVERYBODY, datagram)))


def test_a_client_renews_rebinds_and_gives_up_when_rfc_2131_says_so():
    wire = Wire()
    client = wire.join(DhcpClient(BELT, 3))
    wire.say(lease(3, 1000, MessageType.OFFER))
    wire.say(lease(3, 1000))
    assert client.facts == [Obtained(IPv4Interface("10.61.20.23/24"), None, ME.ip, 1000, OWN)]
    client.sent.clear()
    wire.pass_time(1001)
    frames = [(at, udp.parse_frame(packet.data)) for at, packet in client.sent]
    renewals = [at for at, frame in frames if frame.destination == ME.ip]
    rebinds = [at for at, frame in frames if frame.destination == EVERYBODY and at < 1000]
    assert renewals[0] == 500
    assert rebinds[0] == 875
    assert all(frame.destination_mac == OWN for at, frame in frames if at < 875)
    assert client.facts[1:] == [Lost()]
    assert frames[-1][0] == 1000  # It asks anew at once.


def test_a_client_that_is_told_no_starts_over_and_ignores_what_is_not_for_it():
    wire = Wire()
    client = wire.join(DhcpClient(BELT, 3))
    wire.say(lease(4, 1000, MessageType.OFFER))
    wire.say(lease(3, 1000, MessageType.OFFER, mac=FAN))
    wire.say(lease(3, 1000))
    assert len(client.sent) == 1
    wire.say(lease(3, 1000, MessageType.OFFER))
    wire.say(lease(3, 0, MessageType.NAK))
    assert client.facts == []
    last = dhcp.parse(bootp.parse(udp.parse_frame(client.packets[-1].data).datagram.payload))
    assert last.message_type is MessageType.DISCOVER


def test_a_client_may_insist_on_one_server_and_a_server_may_lend():
    wire = Wire()
    wire.join(AddressServer((ME,), PLAN, Replies(OWN), lease_seconds=600))
    other = IPv4Interface("10.61.20.99/24")
    wire.join(AddressServer((other,), PLAN, Replies(STRANGER), lease_seconds=60))
    client = wire.join(DhcpClient(BELT, 3, only_server=other.ip))
    wire.pass_time(2)
    assert [(fact.server, fact.lease_seconds) for fact in client.facts] == [(other.ip, 60)]


def test_a_client_waits_longer_each_time_as_rfc_2131_asks():
    wire = Wire()
    client = wire.join(DhcpClient(BELT, 3))
    wire.pass_time(200)
    times = [at for at, _ in client.sent]
    waits = [b - a for a, b in itertools.pairwise(times)]
    assert waits == [4, 8, 16, 32, 64, 64]


# Near misses and the board.


@pytest.mark.parametrize(
    ("other", "how"),
    [
        ("0277b14c0922", "differs in one digit from"),
        ("0277b14c9021", "has two digits swapped against"),
        ("0277b109214c", "has its octets in another order than"),
        ("0277b14c0933", None),
        ("0277b14c0921", None),
    ],
)
def test_slips_that_people_make(other, how):
    assert difference(Mac(bytes.fromhex(other)), FAN) == how


def test_a_neighbour_in_the_series_is_no_slip_when_the_planned_one_is_there():
    neighbour = Mac(b"\x02\x77\xb1\x4c\x09\x22")
    assert [str(m) for m in near_misses(neighbour, PLAN)] == [
        f"differs in one digit from fan-drive-1 in the plan ({FAN})"
    ]
    assert near_misses(neighbour, PLAN, present={FAN}) == ()
    assert near_misses(FAN, PLAN) == ()


def test_the_board_follows_a_device_and_bounds_the_strangers():
    board = Board(PLAN)
    wire, server = serving()
    wire.join(BootpClient(FAN, 1, 4.0))
    kernel = wire.join(Kernel(FAN))
    wire.pass_time(1)
    for event in server.facts:
        board.take(event, 1.0)
    assert [row.state for row in board.rows] == [RowState.ASSIGNED, RowState.WAITING]
    kernel.conversation.address = IPv4Address("10.61.20.21")
    wire.pass_time(2)
    board.take(server.facts[-1], 3.0)
    first = board.rows[0]
    assert (first.state, first.asked, first.since) == (RowState.ANSWERING, 1, 3.0)
    assert [row.device.name for row in board.missing] == ["belt-drive"]
    for number in range(MOST_STRANGERS + 50):
        mac = Mac(b"\x02" + number.to_bytes(5, "big"))
        for _ in range(2):
            board.take(Event(EventKind.IGNORED, mac, AddressProtocol.DHCP), float(number))
    assert len(board.strangers) == MOST_STRANGERS
    assert board.strangers[0].last == MOST_STRANGERS + 49
    assert board.strangers[0].asked == 2


def test_a_restarted_server_goes_on_where_the_one_before_it_stopped():
    wire, first = serving(lease_seconds=1000)
    client = wire.join(DhcpClient(BELT, 2))
    wire.pass_time(2)
    wire.parties.remove(first)
    wire.pass_time(10)
    second = wire.join(AddressServer((ME,), PLAN, Replies(OWN), 1000))
    wire.pass_time(600)  # Past the middle of the lease: the client asks for its address again.
    assert [message.yiaddr for _, message, _ in answers(second)] == [IPv4Address("10.61.20.23")]
    wire.pass_time(1000)
    assert Lost() not in client.facts
    assert {fact.interface for fact in client.facts} == {PLAN.devices[1].interface}


def test_a_plan_row_without_a_mac_is_not_served():
    row = replace(PLAN.devices[0], mac=None)
    wire, server = serving(Plan((row,)))
    wire.say(ask(FAN))
    wire.pass_time(5)
    assert server.sent == []
