"""The address server's finer manners: relays, places, options, lending, edited plans."""

import codecs
from dataclasses import replace
from ipaddress import IPv4Address, IPv4Interface, IPv4Network

import pytest
from asking import (
    BELT,
    EVERYBODY,
    FAN,
    ME,
    OWN,
    PLAN,
    RELAY_MAC,
    STRANGER,
    Kernel,
    answers,
    ask,
    kind,
    kinds,
    serving,
)
from drive import alone
from hypothesis import given
from hypothesis import strategies as st

from portcall.core.address import BROADCAST, UNSPECIFIED, AddressRange, Mac
from portcall.core.assign.board import Board, RowState
from portcall.core.assign.client import DhcpClient
from portcall.core.assign.event import EventKind
from portcall.core.assign.lookout import ASK_AGAIN, Lookout
from portcall.core.assign.reply import BOOTP_ROOM, Replies
from portcall.core.assign.server import CLEAR_HOLDS, CLEAR_WAIT, LATE, AddressServer
from portcall.core.assign.strangers import MOST_STRANGERS, Strangers
from portcall.core.assign.temporary import TEMPORARY_SECONDS, Lent, Pool, check_range
from portcall.core.circuit import circuit_words, parse_circuit
from portcall.core.finding import Name
from portcall.core.plan.adopt import adopt, open_rows
from portcall.core.plan.editing import PlanText
from portcall.core.plan.near import MOST_NEAR, NearMisses, near_misses
from portcall.core.plan.reading import PlanError, parse_plan
from portcall.core.plan.rows import NO_PLAN, Plan, PlannedDevice, Surroundings
from portcall.core.talk.conversation import Frame
from portcall.core.trouble import BadInput
from portcall.core.wire import arp, bootp, dhcp, ethernet, icmp, ipv4, udp
from portcall.core.wire.dhcp import Code, MessageType, Options

ROUTER = IPv4Address("10.61.30.1")
FAR = PlannedDevice(Name("far-pump"), IPv4Interface("10.61.30.21/24"), FAN)
PLACED = PlannedDevice(Name("any-pump"), IPv4Interface("10.61.30.22/24"), circuit=b"port 7")
AGENT = (Code.RELAY_AGENT, b"\x02\x03abc\x01\x06port 7")
DISCOVER = kind(MessageType.DISCOVER)
SPAN = AddressRange(IPv4Address("10.61.20.100"), IPv4Address("10.61.20.101"))


def wanting(*codes):
    return (Code.PARAMETER_REQUEST, bytes(codes))


def ping_answer(address):
    message = icmp.encode_echo(icmp.Echo(True, 0x5043, 0, b""))
    packet = ipv4.Ipv4Packet(IPv4Address(address), ME.ip, 1, message)
    frame = ethernet.EthernetFrame(OWN, RELAY_MAC, 0x0800, ipv4.encode(packet))
    return Frame(ethernet.encode(frame))


def lending(**others):
    return serving(pool=Pool(SPAN, ME.network), **others)


# Behind a relay agent.


def test_behind_a_relay_the_address_is_pinged_first_and_the_agents_words_come_back_last():
    wire, server = serving(Plan((FAR,)))
    wire.say(ask(FAN, DISCOVER, AGENT, (61, b"\0pump"), giaddr=ROUTER))
    pings = [packet for packet in server.packets if packet.data[23] == 1]
    assert [ipv4.parse(each.data[14:]).destination for each in pings] == [FAR.address]
    assert pings[0].data[:6] == RELAY_MAC
    wire.pass_time(1)
    ((frame, message, options),) = answers(server)[-1:]
    assert (frame.destination, frame.datagram.destination_port) == (ROUTER, 67)
    assert (frame.destination_mac, message.giaddr) == (RELAY_MAC, ROUTER)
    assert options.server_identifier == ME.ip
    assert [code for code, _ in options.entries][-2:] == [61, 82]
    assert options.get(Code.RELAY_AGENT) == AGENT[1]
    wire.say(ask(FAN, kind(MessageType.REQUEST), (50, FAR.address.packed), giaddr=ROUTER))
    wire.say(ping_answer(FAR.address))
    assert kinds(server)[-2:] == ["assigned", "answering"]


def test_behind_a_relay_one_that_answers_a_ping_has_the_address():
    wire, server = serving(Plan((FAR,)))
    wire.say(ask(FAN, DISCOVER, giaddr=ROUTER))
    wire.say(ping_answer(FAR.address))
    wire.pass_time(2)
    assert kinds(server) == ["asked", "refused"]
    assert answers(server) == []


def test_a_refusal_goes_through_the_relay_as_a_broadcast():
    wire, server = serving(Plan((FAR,)))
    wire.say(ask(FAN, kind(MessageType.REQUEST), (50, PLACED.address.packed), giaddr=ROUTER))
    ((frame, message, options),) = answers(server)
    assert options.message_type is MessageType.NAK
    assert (frame.destination, message.wants_broadcast) == (ROUTER, True)


@pytest.mark.parametrize("giaddr", [UNSPECIFIED, IPv4Address("10.61.40.1")])
def test_a_planned_device_that_asks_from_the_wrong_place_gets_nothing(giaddr):
    wire, server = serving(Plan((FAR,)))
    wire.say(ask(FAN, DISCOVER, giaddr=giaddr))
    wire.pass_time(1)
    assert answers(server) == []
    assert kinds(server) == ["refused"]
    assert "belongs elsewhere" in server.facts[0].detail


def test_whoever_asks_at_a_place_gets_the_places_address_once_its_predecessor_is_gone():
    wire, server = serving(Plan((PLACED,)))
    wire.say(ask(STRANGER, DISCOVER, AGENT, giaddr=ROUTER))
    wire.pass_time(1)
    assert answers(server)[0][1].yiaddr == PLACED.address
    wire.say(
        ask(STRANGER, kind(MessageType.REQUEST), AGENT, (50, PLACED.address.packed), giaddr=ROUTER)
    )
    assert kinds(server)[-1] == "assigned"
    wire.say(ping_answer(PLACED.address))
    wire.say(ask(BELT, DISCOVER, AGENT, giaddr=ROUTER))
    wire.say(ping_answer(PLACED.address))
    assert (server.facts[-1].kind.value, server.facts[-1].name) == ("refused", "any-pump")
    wire.pass_time(40)
    wire.say(ask(BELT, DISCOVER, AGENT, giaddr=ROUTER))
    wire.pass_time(1)
    assert [message.mac for _, message, _ in answers(server)][-1] == BELT
    board = Board(Plan((PLACED,)))
    for event in server.facts:
        board.take(event, 1.0)
    assert (board.rows[0].mac, board.rows[0].state) == (BELT, RowState.OFFERED)


# What a reply holds.


def test_a_device_is_told_what_it_asks_for_in_its_order_the_mask_before_the_router():
    around = Surroundings("mill.example", (ROUTER,), (ROUTER, ME.ip))
    wire, server = serving()
    server.conversation._replies = replace(server.conversation._replies, surroundings=around)
    wire.say(ask(BELT, DISCOVER, wanting(42, 15, 12, 3, 1, 6, 66, 42)))
    wire.pass_time(1)
    ((_, _, options),) = answers(server)
    codes = [code for code, _ in options.entries]
    assert codes == [53, 54, 51, 1, 42, 15, 12, 3, 6]
    assert options.get(Code.DOMAIN_NAME) == b"mill.example"
    assert options.get(Code.HOST_NAME) == b"belt-drive"
    assert options.get(Code.TIME_SERVERS) == ROUTER.packed + ME.ip.packed
    # The mask is told unasked; what was not asked for is not told.
    wire.say(ask(BELT, DISCOVER, wanting(51)))
    assert [code for code, _ in answers(server)[-1][2].entries] == [53, 54, 51, 1]


def test_a_lease_that_ends_says_when_to_renew():
    wire, server = serving(lease_seconds=800)
    wire.say(ask(BELT, DISCOVER))
    wire.pass_time(1)
    ((_, _, options),) = answers(server)
    assert (options.lease_seconds, options.renewal_seconds, options.rebinding_seconds) == (
        800,
        400,
        700,
    )


@pytest.mark.parametrize("entries", [(), ((61, b"x" * 200),), (wanting(1, 3, 12),)])
def test_a_bootp_reply_has_three_hundred_octets_and_fits_the_old_vendor_area(entries):
    wire, server = serving()
    wire.say(ask(BELT, *entries))
    wire.pass_time(1)
    ((frame, message, options),) = answers(server)
    assert len(frame.datagram.payload) == 300
    assert len(message.vendor.rstrip(b"\0")) <= BOOTP_ROOM
    assert (options.subnet_mask, options.router) == (
        IPv4Address("255.255.255.0"),
        IPv4Address("10.61.20.1"),
    )


def test_a_device_that_is_deaf_to_all_else_is_answered_by_broadcast():
    wire, server = serving()
    server.conversation._replies = Replies(OWN, broadcast=True)
    wire.say(ask(FAN))
    wire.pass_time(1)
    ((frame, message, _),) = answers(server)
    assert (frame.destination_mac, frame.destination) == (BROADCAST, IPv4Address("255.255.255.255"))
    assert message.yiaddr == IPv4Address("10.61.20.21")


@given(
    st.dictionaries(
        st.integers(1, 254).filter(lambda code: code != 52), st.binary(max_size=300), max_size=8
    ),
    st.integers(64, 700),
    st.booleans(),
)
def test_options_that_fit_come_back_and_no_area_overflows(entries, room, overload):
    entries = {code: data for code, data in entries.items() if code not in dhcp._LENGTHS}
    vendor, file, sname = dhcp.encode_fitted(Options(entries.items()), room, overload)
    assert (len(vendor) <= room, len(file) <= 128, len(sname) <= 64) == (True, True, True)
    message = bootp.BootpMessage(
        bootp.Op.REPLY,
        FAN,
        1,
        vendor=vendor,
        file=file.ljust(128, b"\0"),
        sname=sname.ljust(64, b"\0"),
    )
    back = dict(dhcp.parse(bootp.parse(bootp.encode(message))).entries)
    back.pop(Code.OVERLOAD, None)
    assert back == {code: data for code, data in entries.items() if code in back}
    # What was left out did not fit anywhere.
    left_out = [dhcp._pieces(*entry) for entry in entries.items() if entry[0] not in back]
    reserved = dhcp._OVERLOAD_SIZE if overload and not (file or sname) else 0
    free = [room - len(vendor) - reserved]
    free += [area - max(len(used), 1) for area, used in ((128, file), (64, sname))] * overload
    assert all(len(piece) > max(free) for piece in left_out)
    if len(dhcp.encode(Options(entries.items()))) <= room:
        assert back == entries


def test_a_reply_is_no_larger_than_the_device_takes_and_goes_on_in_the_other_fields():
    around = Surroundings("d" * 60 + "." + "e" * 60, (ROUTER,) * 60, (ROUTER,) * 20)
    wire, server = serving()
    server.conversation._replies = replace(server.conversation._replies, surroundings=around)
    for limit, whole in ((576, False), (1400, True)):
        size = (Code.LARGEST_MESSAGE, limit.to_bytes(2, "big"))
        wire.say(
            ask(
                BELT,
                DISCOVER,
                size,
                wanting(3, 6, 15, 42, 12),
                (61, b"i" * 40),
                (82, b"\x01\x02ab"),
            )
        )
        wire.pass_time(1)
        frame, _, options = answers(server)[-1]
        assert len(frame.datagram.payload) + 28 <= limit
        assert options.get(Code.DOMAIN_SERVERS) == ROUTER.packed * 60
        assert options.get(Code.RELAY_AGENT) == b"\x01\x02ab"
        assert (options.get(Code.OVERLOAD) is None) == whole
        assert options.get(Code.DOMAIN_NAME) is not None


# Temporary addresses.


def test_an_unplanned_dhcp_device_is_lent_an_address_and_a_bootp_device_never():
    wire, server = lending()
    wire.say(ask(STRANGER))
    wire.pass_time(1)
    assert kinds(server) == ["ignored"]
    client = wire.join(DhcpClient(STRANGER, 7))
    kernel = wire.join(Kernel(STRANGER))
    wire.pass_time(1)
    ((obtained),) = client.facts
    assert obtained.interface == IPv4Interface("10.61.20.100/24")
    assert obtained.lease_seconds == TEMPORARY_SECONDS
    kernel.conversation.address = obtained.interface.ip
    wire.pass_time(2)
    assert kinds(server)[1:] == ["asked", "offered", "asked", "assigned", "answering"]
    assert {event.name for event in server.facts} == {None}
    board = Board(PLAN)
    for event in server.facts:
        board.take(event, 1.0)
    assert (board.strangers[0].address, board.strangers[0].asked) == (obtained.interface.ip, 3)


def test_a_planned_device_that_is_not_served_now_is_left_alone():
    wire, server = lending(plan=Plan(PLAN.devices[:1]), others=Plan(PLAN.devices[1:]))
    wire.say(ask(BELT, DISCOVER))
    wire.pass_time(1)
    assert answers(server) == []
    assert [event.detail for event in server.facts] == ["belt-drive in the plan, not served now"]


def test_lent_addresses_come_to_an_end_and_come_back():
    now = 0.0
    pool = Pool(SPAN, ME.network, [Lent(FAN, SPAN.first, 50.0)])
    assert pool.choose(BELT, now).ip == SPAN.last
    pool.lend(Lent(BELT, SPAN.last, 60.0))
    assert pool.choose(STRANGER, now) is None
    assert pool.choose(FAN, now).ip == SPAN.first
    assert pool.choose(STRANGER, 51.0).ip == SPAN.first
    pool.lend(Lent(STRANGER, SPAN.first, 90.0))
    assert pool.choose(FAN, 52.0) is None
    pool.release(STRANGER)
    pool.release(FAN)
    assert pool.choose(FAN, 53.0).ip == SPAN.first
    assert pool.choose(FAN, 53.0, avoid={SPAN.first}) is None
    pool.lend(Lent(FAN, SPAN.first, 300.0))
    pool.lend(Lent(FAN, SPAN.first, 83.0))
    assert pool.choose(BELT, 100.0, avoid={SPAN.last}) is None
    pool.rest(SPAN.first, 53.0)
    assert pool.choose(FAN, 54.0) is None


def test_a_lent_address_that_somebody_has_is_left_out_and_another_servers_lease_is_not_denied():
    wire, server = lending()
    squatter = wire.join(Kernel(BELT))
    squatter.conversation.address = SPAN.first
    client = wire.join(DhcpClient(STRANGER, 7))
    wire.pass_time(10)
    assert [fact.interface.ip for fact in client.facts] == [SPAN.last]
    before = len(answers(server))
    wire.say(ask(FAN_NEIGHBOUR, kind(MessageType.REQUEST), (50, IPv4Address("10.61.20.55").packed)))
    wire.pass_time(1)
    assert len(answers(server)) == before
    assert server.facts[-1].kind.value == "ignored"


FAN_NEIGHBOUR = Mac(FAN[:5] + b"\x22")


@pytest.mark.parametrize(
    ("first", "last", "wrong"),
    [
        ("10.62.0.5", "10.62.0.9", "not inside a subnet"),
        ("10.61.20.0", "10.61.20.9", "network or broadcast number"),
        ("10.61.20.20", "10.61.20.30", "contains 10.61.20.2[13]"),
    ],
)
def test_a_range_that_cannot_be_lent_is_named(first, last, wrong):
    span = AddressRange(IPv4Address(first), IPv4Address(last))
    with pytest.raises(BadInput, match=wrong):
        check_range(span, [ME.network], {row.address for row in PLAN})
    large = AddressRange(IPv4Address("10.0.0.1"), IPv4Address("10.0.9.1"))
    with pytest.raises(BadInput, match="lend at most"):
        check_range(large, [IPv4Network("10.0.0.0/8")], ())


def test_whoever_else_answers_at_a_given_address_is_named():
    wire, server = serving()
    wire.say(ask(FAN))
    wire.pass_time(0.5)
    squatter = wire.join(Kernel(STRANGER))
    squatter.conversation.address = PLAN.devices[0].address
    wire.pass_time(3)
    assert kinds(server) == ["asked", "assigned", "notice"]
    assert server.facts[-1].detail == f"{STRANGER} answers at 10.61.20.21, which {FAN} was given"


def test_one_mac_in_two_voices_is_told_of_once():
    wire, server = serving()
    for name in (b"gale9", b"gale9", b"laptop", b"gale9"):
        wire.say(ask(BELT, DISCOVER, (Code.HOST_NAME, name)))
    ((notice),) = [event for event in server.facts if event.kind.value == "notice"]
    assert "(calls itself gale9 / calls itself laptop)" in notice.detail
    assert notice.name == "belt-drive"


# An edited plan, a crowd, other servers.


def test_an_edited_plan_takes_effect_at_once_and_what_did_not_change_goes_on():
    wire, server = serving()
    wire.say(ask(BELT, DISCOVER))
    moved = replace(PLAN.devices[0], interface=IPv4Interface("10.61.20.31/24"))
    new = PlannedDevice(Name("hood-fan"), IPv4Interface("10.61.20.60/24"), STRANGER)
    plan = Plan((moved, PLAN.devices[1], new))
    wire.pass_time(0.05)
    before = len(server.packets)
    wire._carry_out(server, server.conversation.change(plan, Plan(), wire.now))
    wire.pass_time(0.05)
    asked_for = [packet.data[-4:] for packet in server.packets[before:]]
    assert asked_for == [moved.address.packed, new.address.packed]
    wire.say(ask(FAN))
    wire.say(ask(STRANGER))
    wire.pass_time(1)
    assert {m.mac: m.yiaddr for _, m, _ in answers(server)} == {
        BELT: PLAN.devices[1].address,
        FAN: moved.address,
        STRANGER: new.address,
    }
    board = Board(PLAN)
    for event in server.facts:
        board.take(event, 1.0)
    board.change(plan)
    assert [row.state for row in board.rows] == [
        RowState.WAITING,
        RowState.OFFERED,
        RowState.WAITING,
    ]
    wire._carry_out(server, server.conversation.change(Plan(PLAN.devices[1:]), Plan(), wire.now))
    wire.say(ask(FAN))
    wire.pass_time(1)
    assert server.facts[-1].kind.value == "ignored"


def test_a_crowd_of_strangers_and_nonsense_is_counted_and_forgotten():
    wire, server = serving()
    for number in range(MOST_STRANGERS + 100):
        wire.say(ask(Mac(b"\x02\x99" + number.to_bytes(4, "big"))))
    good = ask(FAN).data
    for cut in range(46, len(good), 7):
        wire.say(Frame(good[:cut]))
    wire.say(ask(Mac(b"\x03\x99\0\0\0\1")))
    assert server.conversation.malformed == len(range(46, len(good), 7)) + 1
    assert len(server.conversation._strangers) == MOST_STRANGERS
    assert set(kinds(server)) == {"ignored"}
    wire.say(ask(FAN))
    wire.pass_time(1)
    assert [message.mac for _, message, _ in answers(server)] == [FAN]


@given(st.lists(st.binary(min_size=6, max_size=6), max_size=12), st.binary(min_size=6, max_size=6))
def test_the_arranged_plan_finds_the_same_near_misses_as_looking_at_every_row(macs, asked):
    near = bytes((*asked[:3], asked[3] ^ 0x10, *asked[4:]))
    swapped = bytes((asked[1], asked[0], *asked[2:]))
    rows = [
        PlannedDevice(Name(f"d{n}"), IPv4Interface((0x0A3D1401 + n, 24)), Mac(mac))
        for n, mac in enumerate(dict.fromkeys((*macs, near, swapped)))
    ]
    found = {miss.row.name for miss in NearMisses(Plan(tuple(rows))).of(Mac(asked))}
    assert found == {miss.row.name for miss in near_misses(Mac(asked), rows)}


def test_while_serving_another_server_is_noticed_by_what_it_tells_others():
    wire, party = alone(Lookout(OWN, 5, lasting=True, serving=(ME.ip,)))
    other = IPv4Interface("10.61.20.99/24")
    wire.join(AddressServer((other,), Plan((PLAN.devices[1],)), Replies(STRANGER)))
    wire.join(DhcpClient(BELT, 3))
    wire.pass_time(1)
    assert [(offer.server_mac, offer.server) for offer in party.facts] == [(STRANGER, other.ip)]
    wire.pass_time(2 * ASK_AGAIN)
    assert (len(party.facts), len(party.packets)) == (1, 3)
    # Our own answers are no other server's.
    wire, ours = alone(Lookout(OWN, 5, lasting=True, serving=(ME.ip,)))
    wire.join(AddressServer((ME,), PLAN, Replies(OWN)))
    wire.join(DhcpClient(BELT, 3))
    wire.pass_time(CLEAR_HOLDS)
    assert ours.facts == []


# The plan: places, and changing it.


@given(st.binary(min_size=1, max_size=120))
def test_a_circuit_is_read_back_as_it_is_shown(octets):
    assert parse_circuit(circuit_words(octets)) == octets


TEXT = (
    b"\xef\xbb\xbfname;mac;address;note\r\n"
    b'fan;02-77-B1-4C-09-21;10.61.20.21;"two\r\nlines"\r\n'
    b"pump;;10.61.20.22;\r\n# end\r\n"
)


def test_a_cell_changes_and_all_else_stays_octet_for_octet():
    text = PlanText(TEXT).with_cells(4, {"mac": str(BELT)}).decode()
    assert text.encode() == TEXT.replace(b"pump;;", f"pump;{BELT};".encode())
    text = PlanText(TEXT).with_cells(2, {"mac": str(BELT)}).decode()
    assert text.encode() == TEXT.replace(b"02-77-B1-4C-09-21", str(BELT).encode())
    added = PlanText(TEXT[:-2]).with_rows([{"name": "hood", "address": "10.61.20.60"}]).decode()
    assert added.encode() == TEXT + b"hood;;10.61.20.60;\r\n"
    placed = PlanText(TEXT).with_cells(4, {"place": "A2"})
    assert placed == TEXT.replace(b"note\r", b"note;place\r").replace(b".22;", b".22;;A2")
    assert PlanText(b"").with_rows(
        [{"name": "hood", "address": "10.61.20.60"}]
    ).decode().splitlines() == [
        "name,mac,circuit,address,mask,gateway,kind,place,note",
        "hood,,,10.61.20.60,,,,,",
    ]


def test_what_an_engineer_answers_becomes_a_row():
    data = TEXT.replace(b"# end\r\n", b"")
    plan = parse_plan(data, "plan.csv")
    rows = open_rows(plan)
    assert [row.name for row in rows] == ["pump"]
    several = parse_plan(
        b"name,address,maker\na,10.61.20.31,\nb,10.61.20.32,Whimbrel\nc,10.61.20.33,\n", "plan.csv"
    )
    for says, maker, order in (
        ("calls itself C", None, "cab"),
        ("calls itself cab", "WHIMBREL", "bac"),
        ("not in the plan", None, "abc"),
    ):
        assert "".join(row.name for row in open_rows(several, says, maker)) == order
    for answer in ("1", "pump"):
        adoption = adopt(answer, BELT, rows, plan, data)
        assert parse_plan(adoption.data, "plan.csv").by_mac(BELT).name == "pump"
    adoption = adopt("hood-fan 10.61.20.60\n", BELT, rows, plan, data)
    assert parse_plan(adoption.data, "plan.csv").by_mac(BELT).address == IPv4Address("10.61.20.60")
    # Shown by number, then moved in the file: the row is the one that was shown.
    moved = b"name;mac;address\r\nnew;;10.61.20.30\r\n" + data.split(b"\r\n", 1)[1]
    moved = moved.replace(b';"two\r\nlines"', b"").replace(b".22;", b".22")
    text = adopt("1", BELT, rows, parse_plan(moved, "plan.csv"), moved).data.decode()
    assert parse_plan(text.encode(), "plan.csv").by_mac(BELT).name == "pump"
    assert adopt(" \n", BELT, rows, plan, data) is None
    for answer, wrong in (
        ("2", "rows 1 to 1"),
        ("²", "is no row"),
        ("nobody", "is no row"),
        ("fan", "has 02-77"),
        ("fan 10.61.20.9", "type its name alone"),
        ("a b c", "answer with"),
    ):
        with pytest.raises(BadInput, match=wrong):
            adopt(answer, BELT, rows, plan, data)
    with pytest.raises(PlanError, match="is on line 2 too"):
        parse_plan(adopt("x 10.61.20.21", BELT, rows, plan, data).data, "plan.csv")


def test_a_row_goes_by_its_mac_or_by_its_place():
    head = "name,mac,circuit,address,mask\n"
    good = parse_plan(
        (head + "a,,port 7,10.61.30.22,24\nb,,0x00 04,10.61.30.23,24\n").encode(), "p"
    )
    assert [row.circuit for row in good] == [b"port 7", b"\0\4"]
    with pytest.raises(PlanError) as caught:
        parse_plan(
            (
                head
                + f"a,{FAN},port 7,10.61.30.22,24\nb,,0xZZ,10.61.30.23,24\n"
                + "c,,x,10.61.30.24,24\nd,,x,10.61.30.25,24\n"
            ).encode(),
            "p",
        )
    lines = [str(problem) for problem in caught.value.problems]
    assert "line 2, column circuit: is there beside a MAC" in lines[0]
    assert "line 3, column circuit: 0xZZ: a circuit is text" in lines[1]
    assert "line 5, column circuit: x: is on line 4 too (c)" in lines[2]


ROWS = "name;mac;address;place\r\npump;;10.61.20.21;Öl, 5 €\r\nfan;;10.61.20.22;\r\n"


@pytest.mark.parametrize(
    ("data", "codec"),
    [
        (ROWS.encode("cp1252").replace(b"5 ", b"5\x81"), "cp1252"),
        (ROWS.encode(), "utf-8"),
        (ROWS.encode("utf-8-sig"), "utf-8"),
        (codecs.BOM_UTF16_LE + ROWS.encode("utf-16-le"), "utf-16-le"),
        (codecs.BOM_UTF16_BE + ROWS.encode("utf-16-be"), "utf-16-be"),
    ],
)
def test_one_cell_is_changed_and_every_other_octet_stays_in_its_encoding(data, codec):
    changed = PlanText(data).with_cells(3, {"mac": str(BELT)})
    empty, filled = "fan;;10.61".encode(codec), f"fan;{BELT};10.61".encode(codec)
    assert data.count(empty) == 1
    assert changed == data.replace(empty, filled)
    assert parse_plan(changed, "plan.csv").by_mac(BELT).name == "fan"
    added = PlanText(changed).with_rows([{"name": "hood", "address": "10.61.20.60"}])
    assert added == changed + "hood;;10.61.20.60;\r\n".encode(codec)


def test_a_character_that_the_files_encoding_does_not_have_is_named():
    with pytest.raises(BadInput, match="насос: the plan's file is saved in cp1252, which has no"):
        PlanText(ROWS.encode("cp1252")).with_rows([{"name": "насос", "address": "10.61.20.60"}])


# Odd requests.


def odd(mac, options, hardware=1):
    message = bootp.BootpMessage(bootp.Op.REQUEST, mac, 5, vendor=options)
    payload = bytearray(bootp.encode(message))
    payload[1] = hardware
    frame = udp.UdpFrame(
        mac, BROADCAST, UNSPECIFIED, EVERYBODY, udp.UdpDatagram(68, 67, bytes(payload))
    )
    return Frame(udp.encode_frame(frame))


IS_DISCOVER = b"\x35\1\1"


@pytest.mark.parametrize(
    ("options", "words"),
    [
        (IS_DISCOVER + b"\x0c\0\xff", "option 12 has 0 octets"),
        (IS_DISCOVER + b"\x32\3\1\2\3\xff", "option 50 has 3 octets"),
        (IS_DISCOVER + b"\x0c\x09gale", "option 12 is cut off"),
        (IS_DISCOVER + b"\x0c", "option 12 is cut off"),
    ],
)
def test_an_option_that_is_odd_is_left_out_and_the_device_is_served(options, words):
    wire, server = serving()
    wire.say(odd(FAN, dhcp.COOKIE + options))
    wire.pass_time(1)
    assert [message.yiaddr for _, message, _ in answers(server)] == [PLAN.devices[0].address]
    assert f"not read of it: {words}" in server.facts[0].detail


@pytest.mark.parametrize(
    ("request_frame", "why"),
    [
        (
            odd(FAN, dhcp.COOKIE + IS_DISCOVER, hardware=6),
            "hardware type 6, length 6: not Ethernet",
        ),
        (odd(FAN, dhcp.COOKIE + b"\x35\1\x63\xff"), "message type 99"),
        (odd(FAN, dhcp.COOKIE + b"\x35\0\xff"), "option 53 has 0 octets"),
    ],
)
def test_what_cannot_be_served_is_ignored_with_its_reason_and_its_name(request_frame, why):
    wire, server = serving()
    wire.say(request_frame)
    wire.pass_time(1)
    (event,) = [fact for fact in server.facts if fact.kind is EventKind.IGNORED]
    assert (event.mac, event.name) == (FAN, "fan-drive-1")
    assert why in event.detail
    assert answers(server) == []


def test_a_batch_with_running_numbers_does_not_drown_the_list_nor_who_is_where_it_should_be():
    macs = [Mac(b"\x02\x77\xb1\0\0" + bytes((n,))) for n in range(0x21, 0x2F)]
    row = PlannedDevice(Name("fan"), IPv4Interface("10.61.20.21/24"), macs[0])
    near = Strangers(Plan((row,)), NO_PLAN)
    told = [near.told_of(mac) for mac in macs[1:]]
    assert sum(facts[0].code == "near-miss" for facts, _ in told) == MOST_NEAR
    assert [near for _, near in told].count(("fan",)) == MOST_NEAR
    assert str(told[-1].facts[0]) == "not in the plan"
    assert near.told_of(macs[1]) == told[0]
    # The fan answers at its address, without asking: nobody else is meant by its row.
    wire, server = serving(Plan((row,)))
    said = arp.Arp(arp.Operation.REPLY, row.mac, row.address, OWN, ME.ip)
    wire.say(Frame(OWN + row.mac + b"\x08\x06" + arp.encode(said)))
    wire.say(ask(macs[1]))
    assert server.facts[-1].detail == "not in the plan"


def test_what_a_device_calls_itself_makes_it_no_near_miss():
    wire, server = serving()
    name = b"x, differs in one digit from fan-drive-1 in the plan (02)"
    wire.say(ask(STRANGER, DISCOVER, (12, name)))
    event = server.facts[-1]
    assert (event.kind, event.near) == (EventKind.IGNORED, ())
    assert "in the plan (02)" in event.detail


def test_an_address_that_somebody_answers_for_late_is_not_given():
    address = PLAN.devices[0].address
    wire, server = serving(held={address: STRANGER})
    for _ in range(3):
        wire.say(ask(FAN, DISCOVER))
        wire.pass_time(CLEAR_WAIT * 2)
        assert server.facts[-1].kind is EventKind.REFUSED
        assert f"{STRANGER} already has {address}; not given" in server.facts[-1].detail
        assert answers(server) == []
        # It is asked for all the same; the answer comes long after the request has had its own.
        assert address in map(arp_for, server.packets)
        wire.pass_time(LATE * 0.8)
        said = arp.Arp(arp.Operation.REPLY, STRANGER, address, OWN, ME.ip)
        wire.say(Frame(OWN + STRANGER + b"\x08\x06" + arp.encode(said)))
    # Who was there has gone: after a while the address is given.
    for _ in range(2):
        wire.say(ask(FAN, DISCOVER))
        wire.pass_time(LATE + CLEAR_WAIT)
    assert server.facts[-1].kind is EventKind.OFFERED


def arp_for(packet):
    frame = ethernet.parse(packet.data)
    return arp.parse(frame.payload).target_address if frame.ethertype == 0x0806 else None


def test_a_device_behind_a_relay_renews_by_its_router_and_is_answered_by_it():
    """RFC 2131 §4.3.2 and §4.4.5: unicast, past the relay agent, from the address that it has."""
    wire, server = serving(Plan((FAR,)))
    request = bootp.BootpMessage(
        bootp.Op.REQUEST,
        FAN,
        7,
        ciaddr=FAR.address,
        vendor=dhcp.encode(Options((kind(MessageType.REQUEST),))),
    )
    datagram = udp.UdpDatagram(68, 67, bootp.encode(request))
    wire.say(Frame(udp.encode_frame(udp.UdpFrame(RELAY_MAC, OWN, FAR.address, ME.ip, datagram))))
    wire.pass_time(1)
    ((frame, message, options),) = answers(server)
    assert (frame.destination_mac, frame.destination) == (RELAY_MAC, FAR.address)
    assert (message.yiaddr, options.message_type) == (FAR.address, MessageType.ACK)
    assert kinds(server) == ["asked", "assigned", "answering"]
    # It is on another wire: nobody here is asked whether it took its address.
    wire.pass_time(60)
    assert kinds(server)[3:] == []


def test_an_address_that_was_given_back_is_had_no_more():
    wire, server = serving()
    board = Board(PLAN)
    row = PLAN.devices[0]
    said = arp.Arp(arp.Operation.REPLY, FAN, row.address, OWN, ME.ip)
    wire.say(Frame(OWN + FAN + b"\x08\x06" + arp.encode(said)))
    wire.say(ask(FAN, kind(MessageType.RELEASE), ciaddr=row.address))
    for event in server.facts:
        board.take(event, 0.0)
    assert board.rows[0].state is RowState.WAITING
    assert row in [each.device for each in board.missing]
