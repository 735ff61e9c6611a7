"""Ways of finding, the watch, the catalogue, driven with packets and made-up times."""

import struct
from collections import Counter, deque
from contextlib import suppress
from functools import partial
from ipaddress import IPv4Address, IPv4Interface, IPv4Network, IPv6Address

import messages
import pytest
from drive import alone
from hypothesis import given
from hypothesis import strategies as st

from portcall.core.address import UNSPECIFIED, Mac, parse_mac, parse_range
from portcall.core.catalog.catalog import Catalog, Codes, Numbering, Product
from portcall.core.catalog.eds import parse_eds
from portcall.core.find import (
    bacnet_devices,
    cip_identity,
    cip_interface,
    modbus_identity,
    web_page,
)
from portcall.core.find.bacnet_devices import BacnetDevices
from portcall.core.find.borrowed import borrowable, concerns
from portcall.core.find.cip_identity import IdentityByAddress, IdentityByBroadcast
from portcall.core.find.dcp_identify import DcpIdentify
from portcall.core.find.device_watch import DeviceWatch, Happened
from portcall.core.find.devices import Gathering, merge
from portcall.core.find.ipv6_echo import Ipv6Echo
from portcall.core.find.mdns_names import MdnsNames
from portcall.core.find.netbios_names import NodeStatusQuestion
from portcall.core.find.outlook import Outlook
from portcall.core.find.overhear import REPEAT, Overhear, overheard
from portcall.core.find.remarks import remarks
from portcall.core.find.sentences import (
    BACNET_BEHIND,
    MANAGED_AT,
    MANAGED_ELSEWHERE,
    NO_ADDRESS,
    SNMP_V3,
)
from portcall.core.find.sighting import Field, Method, Said, Sighting, sighting_of
from portcall.core.find.sighting import said_by as said_of
from portcall.core.find.snmp_system import EngineQuestion, SystemGroup
from portcall.core.find.subnets import spoken
from portcall.core.plan.rows import Plan
from portcall.core.talk import ask_each
from portcall.core.talk.ask_each import AskEach
from portcall.core.talk.conversation import Datagram, Endpoint, Frame, StreamBytes
from portcall.core.talk.dialogue import ANSWER_WAIT, Dialogue
from portcall.core.talk.door_knock import ANSWER_WAIT as DOOR_WAIT
from portcall.core.talk.door_knock import (
    CONNECTIONS,
    DEVICES_AT_ONCE,
    TO_SILENT,
    DoorKnock,
    DoorState,
    Knock,
)
from portcall.core.talk.request import AddressProtocol
from portcall.core.trouble import BadInput
from portcall.core.wire import (
    arp,
    bacnet,
    cip,
    cip_message,
    cip_tcpip,
    dns,
    lldp,
    modbus,
    netbios,
    snmp,
    udp,
)
from portcall.core.wire.octets import Malformed

OWN = parse_mac("02-1A-40-7C-00-06")
THEIRS = parse_mac("02-77-B1-90-00-3D")
PLC = IPv4Address("10.61.20.10")
OLD = IPv4Address("10.61.20.15")
MASK = IPv4Address("255.255.0.0")


def told_by(method):
    return partial(sighting_of, method, PLC)


def identity(name=b"Skerry 40\x1b[31m controller"):
    return cip.Identity(PLC, 44818, 64101, 0x0E, 40, 20, 13, 0, 0x5A20170F, name, 3)


def said_by(party):
    return {each.field: each.value for seen in party.facts for each in seen.said}


# Dialogues over TCP.


def in_pieces(wire, data, cuts):
    start = 0
    for cut in [*cuts, len(data)]:
        if data[start : start + cut]:
            wire.say(StreamBytes(data[start : start + cut]))
        start += cut


@given(st.lists(st.integers(1, 60), max_size=8))
def test_identity_over_a_stream_in_any_pieces(cuts):
    wire, party = alone(Dialogue(cip_identity.script(), told_by(Method.CIP)))
    in_pieces(wire, cip.encode_identity(identity(), bytes(8)), cuts)
    assert party.facts[0].address == PLC
    assert party.facts[0].codes == Codes(Numbering.CIP, 64101, 40)
    assert said_by(party)[Field.PRODUCT] == "Skerry 40 [31m controller"
    assert party.conversation.over


SESSION = cip.encode(cip.Encapsulation(cip_message.REGISTER_SESSION, bytes(4), 0x51))
CONFIGURATION = cip_tcpip.InterfaceConfiguration(PLC, MASK, OLD, UNSPECIFIED, UNSPECIFIED)


def attribute(party, data, status=0):
    """A response to what was asked last."""
    asked = cip.parse(party.packets[-1].data)
    response = cip_message.encode_response(cip_message.Response(0x0E, status, data))
    return cip_message.encode_unconnected(0x51, response, asked.context)


@given(st.lists(st.integers(1, 90), max_size=6), st.booleans())
def test_how_an_interface_is_set_also_where_one_attribute_is_refused(cuts, refused):
    wire, party = alone(Dialogue(cip_interface.script(PLC), told_by(Method.CIP)))
    in_pieces(wire, SESSION, cuts)
    configured = cip_tcpip.encode_configuration(CONFIGURATION)
    in_pieces(wire, attribute(party, configured, 5 if refused else 0), cuts)
    if refused:
        # How many interfaces it has, it does not tell either.
        in_pieces(wire, attribute(party, b"", 5), cuts)
    for data in (b"\2\0\0\0", b"\3\0fan\0"):
        in_pieces(wire, attribute(party, data), cuts)
    said = said_by(party)
    assert (said[Field.OBTAINS], said[Field.NAME]) == ("by DHCP", "fan")
    assert said.get(Field.MASK) == (None if refused else IPv4Address("255.255.0.0"))
    # The last word is goodbye, in the session that was opened.
    last = cip.parse(party.packets[-1].data)
    assert (last.command, last.session) == (cip_message.UNREGISTER_SESSION, 0x51)
    assert party.conversation.over


def test_a_stream_that_closes_lies_floods_or_stays_silent_ends_the_dialogue():
    for hostile in (
        b"",
        b"\x63\x00\xff\xff" + bytes(20),
        b"\x64\x00\x00\x00" + bytes(20),
        b"\x63\x00\xe7\xff" + bytes(66_000),
    ):
        wire, party = alone(Dialogue(cip_identity.script(), told_by(Method.CIP)))
        wire.say(StreamBytes(hostile))
        wire.pass_time(ANSWER_WAIT)
        assert (party.facts, party.conversation.over) == ([], True)
    wire, party = alone(Dialogue(cip_interface.script(PLC), told_by(Method.CIP)))
    wire.pass_time(ANSWER_WAIT)
    assert party.conversation.over


def modbus_units(answers, seconds=0.0):
    """What a device or gateway was asked, unit and function, and what was made of its answers.

    ``answers`` by unit: an exception to 43/14, or a server ID; None is silence. ``seconds`` is how
    long it takes for each.
    """
    wire, party = alone(Dialogue(modbus_identity.script(), told_by(Method.MODBUS)))
    units, answered = [], 0
    while not party.conversation.over and len(party.packets) < 40:
        if len(party.packets) == answered:
            wire.pass_time(1.0)
            continue
        answered = len(party.packets)
        asked = modbus.parse(party.packets[-1].data)
        units.append((asked.unit, asked.pdu[0]))
        answer = answers.get(asked.unit, 0x0B)
        wire.pass_time(seconds)
        if isinstance(answer, bytes):
            has = asked.pdu[0] == 17
            pdu = bytes((17, len(answer) + 1)) + answer + b"\xff" if has else b"\xab\x01"
        elif answer is None:
            continue
        else:
            pdu = bytes((asked.pdu[0] | 0x80, answer))
        wire.say(
            StreamBytes(modbus.encode(modbus.ModbusMessage(asked.transaction, asked.unit, pdu)))
        )
    said = [(said.field, str(said.value)) for fact in party.facts for said in fact.said]
    return units, said


def test_a_gateway_is_asked_unit_by_unit_also_a_slow_one():
    """It takes three seconds to say that a unit is not there; nothing is asked meanwhile."""
    units, said = modbus_units({1: b"Ebb 2"}, seconds=3.0)
    assert units == [(255, 43), (1, 43), (1, 17)]
    assert said == [
        (Field.DESCRIPTION, "Ebb 2"),
        (Field.MANNER, "answers Modbus as unit 1"),
    ]
    # The first that is there is enough here; who else is, find --inside asks.
    units, said = modbus_units({1: 0x0A, 2: 0x01, 3: b"Ebb 3"})
    assert units == [(255, 43), (1, 43), (2, 43), (2, 17)]
    assert said == [(Field.MANNER, "answers Modbus as unit 2, not saying what that is")]
    units, said = modbus_units({247: b"Ebb 9"})
    assert [unit for unit, function in units if function == 43] == [255, 1, 2, 3, 247]


def test_what_speaks_modbus_and_does_not_say_who_it_is_is_said():
    for answers, asked, sentence in (
        (dict.fromkeys(range(256), 1), 4, "answers Modbus, and does not say what it is"),
        ({}, 5, "is a Modbus gateway; none of the units that were asked answers"),
        (
            dict.fromkeys(range(256)),
            2,
            "its Modbus port is open, and it does not answer there",
        ),
    ):
        units, said = modbus_units(answers)
        assert (len(units), said) == (asked, [(Field.MANNER, sentence)])


def test_a_device_that_always_has_more_is_not_followed_for_ever():
    wire, party = alone(Dialogue(modbus_identity.script(), told_by(Method.MODBUS)))
    for _ in range(60):
        if party.conversation.over:
            break
        asked = modbus.parse(party.packets[-1].data)
        more = modbus.encode_identification(modbus.Identification(((9, b"x"),), 9), 1)
        wire.say(
            StreamBytes(modbus.encode(modbus.ModbusMessage(asked.transaction, asked.unit, more)))
        )
    assert party.conversation.over
    assert len(party.packets) < 20


def test_a_page_is_followed_on_its_own_device_only_and_not_round_and_round():
    def answer(location, status="302 Found"):
        head = f"HTTP/1.1 {status}\r\nLocation: {location}\r\nContent-Length: 0\r\n\r\n"
        return StreamBytes(head.encode())

    wire, party = alone(Dialogue(web_page.script(PLC, 80, False), told_by(Method.WEB)))
    for n in range(6):
        if not party.conversation.over:
            wire.say(answer(f"/page{n}"))
    assert [p.data.split(b" ")[1] for p in party.packets] == [b"/", b"/page0", b"/page1"]
    assert "sends on to /page2" in said_by(party)[Field.DESCRIPTION]
    wire, party = alone(Dialogue(web_page.script(PLC, 80, False), told_by(Method.WEB)))
    wire.say(answer("https://elsewhere.example/"))
    assert len(party.packets) == 1
    assert party.conversation.over
    other = web_page.OTHER_PORT
    wire, party = alone(Dialogue(web_page.script(PLC, other, False), told_by(Method.WEB)))
    assert b"\r\nHost: 10.61.20.10:8080\r\n" in party.packets[0].data
    wire.say(answer("http://10.61.20.10:8080/page"))
    assert party.packets[1].data.startswith(b"GET /page ")
    wire.say(StreamBytes(b"HTTP/1.1 401 No\r\nContent-Length: 0\r\n\r\n"))
    assert said_by(party)[Field.DESCRIPTION] == "http at port 8080 answers 401"
    # A page that ends with the connection, and a title that is not for a terminal.
    wire, party = alone(Dialogue(web_page.script(PLC, 80, False), told_by(Method.WEB)))
    wire.say(StreamBytes(b"HTTP/1.0 200 OK\r\n\r\n<title>Gale\x1b]0;x\x07 7</title>"))
    wire.say(StreamBytes(b""))
    assert said_by(party)[Field.DESCRIPTION] == 'http page "Gale ]0;x 7"'


# Questions to each by UDP.


def test_the_silent_are_asked_again_and_strangers_are_not_heard():
    addresses = [PLC, OLD]
    wire, party = alone(AskEach(IdentityByAddress(), addresses, partial(sighting_of, Method.CIP)))
    reply = cip.encode_identity(identity(), bytes(8))
    wire.say(Datagram(Endpoint(IPv4Address("10.61.20.99"), 44818), reply))
    wire.say(Datagram(Endpoint(PLC, 9), reply))
    wire.say(Datagram(Endpoint(PLC, 44818), b"garbage"))
    assert party.facts == []
    wire.say(Datagram(Endpoint(PLC, 44818), reply))
    wire.pass_time(sum(ask_each.ANSWER_WAITS))
    assert [p.peer.address for p in party.packets] == [PLC, OLD, OLD]
    assert str(said_by(party)[Field.MANNER]) == "answers CIP only when asked directly"
    assert party.conversation.over
    for _ in range(3 * ask_each.MOST_ANSWERS):
        wire.say(Datagram(Endpoint(PLC, 44818), reply))
    assert len(party.facts) <= ask_each.MOST_ANSWERS


def test_snmp_falls_back_to_version_1_and_netbios_tells_the_name():
    wire, party = alone(AskEach(SystemGroup("quay", 1), [PLC], partial(sighting_of, Method.SNMP)))
    wire.pass_time(5)
    versions = [p.payload[4] for p in party.packets]
    assert versions == [1, 0]
    assert all(b"quay" in p.payload for p in party.packets)
    wire, party = alone(AskEach(NodeStatusQuestion(), [PLC], partial(sighting_of, Method.NETBIOS)))
    wire.say(Datagram(Endpoint(PLC, netbios.PORT), messages.NETBIOS_STATUS))
    assert said_by(party)[Field.NAME] == "DRYER-PANEL"
    wire.pass_time(1)
    assert party.conversation.over


def test_bacnet_devices_are_read_property_by_property():
    wire, party = alone(BacnetDevices((IPv4Address("10.61.20.255"),)))
    peer = Endpoint(PLC, bacnet.PORT)
    for _ in range(2):
        wire.say(Datagram(peer, messages.BACNET_I_AM))
    for wanted in bacnet_devices.FIELDS:
        asked = bacnet.parse(party.packets[-1].payload)
        assert (asked.instance, asked.wanted) == (1077, wanted)
        answer = bacnet.PropertyText(asked.invoke, 1077, wanted, f"{wanted.name} \x1b")
        wire.say(Datagram(peer, bacnet.encode(answer)))
    assert said_by(party)[Field.MAKER] == "VENDOR_NAME"
    assert party.facts[0].codes == Codes(Numbering.BACNET, 999)
    wire.pass_time(5)
    assert party.conversation.over


@given(st.integers(1, 120), st.integers(12, 1388), st.sampled_from([2, 5, 12, 33, 47, 65]))
def test_names_that_take_long_to_read_are_refused_before_they_are_read(labels, target, kind):
    chain = b"\1a" * labels + b"\0"
    record = b"\xc0\x0c" + struct.pack("!HHIHH", kind, 1, 10, 2, 0xC000 | target)
    records = (1400 - 12 - len(chain)) // len(record)
    data = struct.pack("!6H", 0, 0x8400, 1, records, 0, 0) + chain + b"\0\x0c\0\1"
    data += record * records
    if labels * records > 2000:
        with pytest.raises(Malformed, match=r"labels|pointer|behind"):
            dns.parse(data)
    else:
        with suppress(Malformed):
            dns.parse(data)


def test_mdns_asks_for_the_kinds_of_service_that_were_named():
    wire, party = alone(MdnsNames())
    sender = Endpoint(IPv4Address("10.61.20.91"), dns.PORT)
    wire.say(Datagram(sender, messages.MDNS_ANSWER))
    wire.pass_time(1)
    assert party.packets[0].payload == dns.encode_query((dns.ALL_SERVICES,))
    assert dns.parse_query(party.packets[1].payload) == (
        dns.ALL_SERVICES,
        "_workstation._tcp.local.",
    )
    assert said_by(party)[Field.NAME] == "tide-gauge"
    wire.pass_time(1)
    assert party.conversation.over


def test_a_record_that_the_library_does_not_read_loses_only_itself():
    """RFC 6762 §18.14: the name in an NSEC record may be compressed, and responders do that."""
    host = b"\4gull\5local\0"
    kinds = (b"\5_http\4_tcp\5local\0", b"\4_ipp\4_tcp\5local\0", b"\5_gull\4_udp\5local\0")

    def record(name, kind, data):
        return name + struct.pack("!HHIH", kind, 0x8001, 120, len(data)) + data

    records = [
        record(host, 1, PLC.packed),
        record(b"\xc0\x0c", 47, b"\xc0\x0c\0\4\x40\0\0\x08"),
        *(record(kind, 12, b"\4gull" + kind) for kind in kinds),
    ]
    head = struct.pack("!HHHHHH", 0, 0x8400, 0, 2, 0, 3)
    wire, party = alone(MdnsNames())
    wire.say(Datagram(Endpoint(PLC, dns.PORT), head + b"".join(records)))
    assert said_by(party) == {
        Field.NAME: "gull",
        Field.DESCRIPTION: "offers gull, printer, web",
    }


# Doors.


def knocking(doors, silent=(), **others):
    """A way to have every door answer but the ``silent``; gives how many were tried at once."""
    wire, party = alone(DoorKnock(doors, **others))
    most_busy = {}

    def answer():
        done = 0
        while not party.conversation.over and wire.now < 3:
            new, done = party.packets[done:], len(party.packets)
            for door, _ in new:
                busy = sum(knock.door.address == door.address for knock in new)
                most_busy[door.address] = max(busy, most_busy.get(door.address, 0))
            for door, _ in new:
                if (door.address, door.port) not in silent:
                    wire.say(Knock(door, DoorState.REFUSED))
            if not new:
                wire.pass_time(0.1)
        return most_busy

    return party, answer


def test_doors_are_tried_a_few_of_each_device_at_a_time_and_in_turn():
    hosts = [IPv4Address(0x0A3D1400 + n) for n in range(DEVICES_AT_ONCE + 10)]
    party, answer = knocking(dict.fromkeys(hosts, (1, 2, 3, 4, 5)))
    first = [knock.door for knock in party.packets]
    assert len(first) == DEVICES_AT_ONCE * CONNECTIONS
    assert [door.address for door in first[:DEVICES_AT_ONCE]] == hosts[:DEVICES_AT_ONCE]
    assert max(answer().values()) == CONNECTIONS
    assert len(party.packets) == len(party.facts) == 5 * len(hosts)
    assert party.conversation.answered == set(hosts)
    assert party.conversation.over


def test_a_silent_door_is_tried_again_only_where_another_answered():
    party, answer = knocking({PLC: (1, 2), OLD: (1, 2)}, {(PLC, 1), (OLD, 1), (OLD, 2)})
    answer()
    tried = Counter((knock.door.address, knock.door.port) for knock in party.packets)
    assert tried == {(PLC, 1): 2, (PLC, 2): 1, (OLD, 1): 1, (OLD, 2): 1}
    given_up = [knock.door for knock in party.facts if knock.state is DoorState.SILENT]
    assert len(given_up) == 4
    assert party.conversation.answered == {PLC}
    # What is known to answer needs no other door for that.
    party, answer = knocking({OLD: (1,)}, {(OLD, 1)}, proven={OLD})
    answer()
    assert len(party.packets) == 2


def test_an_open_door_is_busy_until_it_is_closed_and_late_answers_change_nothing():
    wire, party = alone(DoorKnock({PLC: (1, 2)}))
    one = party.packets[0].door
    wire.say(Knock(one, DoorState.OPEN))
    assert len(party.packets) == 1
    wire.say(Knock(one, DoorState.CLOSED))
    two = party.packets[1].door
    assert two == Endpoint(PLC, 2)
    # One that fails at once is not given up, when tried again, by the first attempt's clock.
    wire.pass_time(DOOR_WAIT / 2)
    wire.say(Knock(two, DoorState.SILENT))
    assert [knock.door for knock in party.packets] == [one, two, two]
    wire.pass_time(DOOR_WAIT * 0.9)
    assert len(party.facts) == 2
    wire.say(Knock(one, DoorState.OPEN))
    assert len(party.facts) == 2
    wire.pass_time(DOOR_WAIT * 0.1)
    assert [knock.state for knock in party.facts[1:]] == [DoorState.SILENT] * 2
    assert party.conversation.over


@given(
    st.dictionaries(
        st.integers(1, 12),
        st.sampled_from([DoorState.OPEN, DoorState.REFUSED, DoorState.SILENT]),
        min_size=1,
    ),
    st.integers(1, 5),
)
def test_a_device_has_one_connection_however_many_addresses_it_has(doors, addresses):
    own = [IPv4Address(0x0A3D1400 + n) for n in range(addresses)]
    wire, party = alone(DoorKnock(dict.fromkeys(own, tuple(doors)), (), lambda address: OLD))
    opened, answered, settled = deque(), 0, set()
    for _ in range(500):
        if party.conversation.over:
            break
        new = [knock.door for knock in party.packets[answered:]]
        assert len(new) + len(opened) <= TO_SILENT
        for door in new:
            answered += 1
            settled.add(door)
            wire.say(Knock(door, doors[door.port]))
            if doors[door.port] is DoorState.OPEN:
                opened.append(door)
                # Two only of a device that has dropped an attempt.
                assert len(opened) <= (TO_SILENT if DoorState.SILENT in doors.values() else 1)
        while opened:
            wire.say(Knock(opened.popleft(), DoorState.CLOSED))
    assert party.conversation.over
    assert settled == {Endpoint(address, port) for address in own for port in doors}


# On the link.


def test_stations_answer_dcp_once_and_only_to_our_question():
    wire, party = alone(DcpIdentify(OWN, 0x5043))
    wire.say(Frame(messages.DCP_IDENTIFY_ANSWER))
    wire.say(Frame(messages.DCP_IDENTIFY_ANSWER))
    wire.say(Frame(messages.DCP_IDENTIFY_ANSWER.replace(b"\x50\x43", b"\x50\x44")))
    (seen,) = party.facts
    assert (seen.mac, seen.address) == (THEIRS, IPv4Address("10.61.20.50"))
    assert seen.codes == Codes(Numbering.DCP, 0xFA78, 16)
    wire.pass_time(5)
    assert len(party.packets) == 2
    assert party.conversation.over


def test_an_ipv6_echo_makes_itself_found_and_takes_only_its_own_answers():
    wire, party = alone(Ipv6Echo(OWN, 0x5043))
    wire.say(Frame(messages.IPV6_SOLICITATION))
    assert party.packets[1].data[:6] == messages.IPV6_ECHO[6:12]
    wire.say(Frame(messages.IPV6_ECHO))
    wire.say(Frame(messages.IPV6_ECHO))
    assert [str(seen.ipv6) for seen in party.facts] == ["fe80::d0:11ff:fe77:4a90"]
    other, theirs = alone(Ipv6Echo(OWN, 0x5044))
    other.say(Frame(messages.IPV6_ECHO))
    assert theirs.facts == []


def test_listening_reads_announcements_and_anything_with_a_source():
    wire, party = alone(Overhear(OWN, 10.0))
    wire.say(Frame(messages.LLDP_ANNOUNCEMENT))
    stranger = Frame(b"\xff" * 6 + THEIRS.octets + b"\x88\xb5" + bytes(46))
    wire.say(stranger)
    wire.say(stranger)
    wire.pass_time(REPEAT)
    wire.say(stranger)
    announced, first, again = party.facts
    assert (announced.method, announced.address) == (Method.LLDP, IPv4Address("10.61.20.91"))
    assert (first.mac, first.address, again.at - first.at) == (THEIRS, None, REPEAT)
    # A routed packet's source is not the sender's own address.
    datagram = udp.UdpDatagram(9, 9, b"")
    routed = udp.UdpFrame(THEIRS, OWN, IPv4Address("192.0.2.1"), PLC, datagram)
    wire.say(Frame(udp.encode_frame(routed)))
    assert all(seen.address != IPv4Address("192.0.2.1") for seen in party.facts)
    only, lldp_party = alone(Overhear(OWN, 10.0, (Method.LLDP,)))
    for frame in (stranger, Frame(messages.LLDP_ANNOUNCEMENT)):
        only.say(frame)
    assert [seen.method for seen in lldp_party.facts] == [Method.LLDP]


def test_what_is_remembered_of_a_flood_is_bounded():
    listening = Overhear(OWN, None)
    for n in range(25_000):
        mac = b"\x02" + n.to_bytes(5, "big")
        list(listening.heard(Frame(b"\xff" * 6 + mac + b"\x88\xb5" + bytes(46)), 0.0))
    assert len(listening._last) <= 4000
    gathering = Gathering()
    for n in range(5000):
        said = (Said(Field.NAME, f"name {n}", Method.LISTEN),)
        gathering.add(Sighting(0.0, Method.LISTEN, THEIRS, IPv4Address(n), said))
    (device,) = gathering.devices()
    assert len(device.addresses) <= 1024
    assert len(device.said) <= 64


# A borrowed address.


def test_only_frames_of_the_borrowed_address_pass_either_way():
    own = IPv4Interface("10.61.20.200/24")

    def datagram(source, destination, port=9):
        frame = udp.UdpFrame(
            THEIRS,
            OWN,
            IPv4Address(source),
            IPv4Address(destination),
            udp.UdpDatagram(port, port, b""),
        )
        return udp.encode_frame(frame)

    inward = {
        datagram("10.61.20.10", "10.61.20.200"): True,
        datagram("10.61.20.10", "10.61.20.201"): False,
        datagram("10.61.20.10", "255.255.255.255"): False,
        datagram("10.61.20.10", "10.61.20.255", bacnet.PORT): True,
        arp.encode_request(THEIRS, PLC, own.ip): True,
        arp.encode_request(THEIRS, PLC, OLD): False,
        b"short": False,
        lldp.encode_frame(THEIRS, lldp.Announcement(4, b"x", 3, b"y", 1)): False,
    }
    assert {frame: concerns(frame, own, outward=False) for frame in inward} == inward
    assert concerns(datagram("10.61.20.200", "10.61.20.10"), own, outward=True)
    assert not concerns(datagram("10.61.20.7", "10.61.20.10"), own, outward=True)
    assert concerns(arp.encode_request(OWN, own.ip, PLC), own, outward=True)
    network = IPv4Network("10.61.20.0/30")
    taken = {IPv4Address("10.61.20.2")}
    assert list(borrowable(network, None, taken)) == [IPv4Address("10.61.20.1")]


# The watch.


def test_a_device_vanishes_after_a_whole_look_without_it_and_returns():
    watch = DeviceWatch()
    gathering = Gathering()

    def look(began, *sightings):
        watch.look_began(began)
        for mac, address in sightings:
            gathering.add(Sighting(began + 1, Method.ARP, mac, IPv4Address(address)))
        gathering.forget(watch.vanished_before)
        return [
            (change.happened, change.device.mac, change.details)
            for change in watch.compare(gathering.devices(), whole_look=True)
        ]

    both = ((OWN, "10.61.20.10"), (THEIRS, "10.61.20.21"))
    assert {event for event, *_ in look(0, *both)} == {Happened.APPEARED}
    assert look(10, both[0]) == [(Happened.VANISHED, THEIRS, ())]
    assert look(30, both[0]) == []
    assert look(40, *both) == [(Happened.RETURNED, THEIRS, ())]
    assert look(50, both[0], (THEIRS, "10.61.20.22")) == [
        (Happened.CHANGED, THEIRS, ("moved from 10.61.20.21 to 10.61.20.22",))
    ]
    # One that only ever asks is waited for.
    asker = Mac(b"\2\0\0\0\0\7")
    gathering.add(Sighting(51, Method.LISTEN, asker))
    both = (both[0], (THEIRS, "10.61.20.22"))
    assert [change[1] for change in look(60, *both)] == [asker]
    assert look(51 + 89, *both) == []
    assert look(51 + 93, *both) == [(Happened.VANISHED, asker, ())]


def test_what_was_said_at_an_address_that_was_left_makes_no_ghost():
    gathering = Gathering()
    old, new = IPv4Address("10.61.20.21"), IPv4Address("10.61.20.22")
    serial = (Said(Field.SERIAL, "77B10921", Method.CIP),)
    gathering.add(Sighting(1, Method.ARP, THEIRS, old))
    gathering.add(Sighting(2, Method.CIP, address=old, said=serial))
    gathering.add(Sighting(11, Method.ARP, THEIRS, new))
    gathering.add(Sighting(11, Method.ARP, OWN, PLC))
    gathering.add(Sighting(12, Method.CIP, address=OLD, said=serial))
    gathering.forget(10)
    assert [(d.mac, d.addresses) for d in gathering.devices()] == [
        (OWN, (PLC,)),
        (None, (OLD,)),
        (THEIRS, (new,)),
    ]
    # Where another device took the address over, what was said there was not its word.
    gathering.add(Sighting(13, Method.CIP, address=new, said=serial))
    gathering.add(Sighting(20, Method.ARP, OWN, new))
    gathering.add(Sighting(20, Method.ARP, THEIRS, old))
    other = (Said(Field.FIRMWARE, "5.002", Method.CIP),)
    gathering.add(Sighting(21, Method.CIP, address=new, said=other))
    gathering.forget(15)
    told = {d.mac: (d.value(Field.SERIAL), d.value(Field.FIRMWARE)) for d in gathering.devices()}
    assert (told[OWN], told[THEIRS]) == ((None, "5.002"), (None, None))


def test_a_device_that_says_otherwise_now_is_believed_and_what_it_does_not_repeat_is_old():
    watch, gathering = DeviceWatch(), Gathering()

    def look(began, **said):
        watch.look_began(began)
        gathering.add(Sighting(began + 0.1, Method.ARP, THEIRS, PLC))
        if said:
            told = said_of(Method.CIP, *((Field[key], value) for key, value in said.items()))
            gathering.add(Sighting(began + 1, Method.CIP, address=PLC, said=told))
        gathering.forget(watch.vanished_before)
        return [change.details for change in watch.compare(gathering.devices(), whole_look=True)]

    first = {"FIRMWARE": "5.001", "NAME": "fan", "MANNER": "answers CIP only when asked directly"}
    assert look(0, **first) == [()]
    assert look(10) == []
    assert look(20, FIRMWARE="5.002", PRODUCT="Gale 7") == [
        ("says it is Gale 7", "firmware was 5.001, is 5.002")
    ]
    (device,) = gathering.devices()
    assert (device.values(Field.FIRMWARE), device.values(Field.MANNER)) == (("5.002",), ())
    # The name was not said since the first look, the firmware in the last one.
    assert (device.value(Field.NAME), device.age(31, Field.NAME, Field.FIRMWARE)) == ("fan", 30)
    assert (device.age(31, Field.FIRMWARE), device.age(31, Field.SERIAL)) == (10, None)


def test_a_device_in_the_place_of_another_does_not_share_its_address():
    watch, gathering = DeviceWatch(), Gathering()

    def compare(began, whole_look):
        if whole_look:
            gathering.forget(began)
        changes = watch.compare(gathering.devices(), whole_look)
        return [(c.happened, c.device.mac, c.device.addresses, c.details) for c in changes]

    def seen(at, mac, address=PLC):
        gathering.add(Sighting(at, Method.ARP, mac, address))
        gathering.add(Sighting(at, Method.DCP, mac, address, said_of(Method.DCP, product)))

    product = (Field.PRODUCT, "Islet 16")
    watch.look_began(0)
    seen(1, THEIRS)
    assert compare(float("-inf"), True) == [(Happened.APPEARED, THEIRS, (PLC,), ())]
    watch.look_began(10)
    seen(11, OWN)
    assert compare(10, False) == [(Happened.APPEARED, OWN, (PLC,), ())]
    assert compare(10, True) == [(Happened.VANISHED, THEIRS, (PLC,), ())]
    assert all(not device.rivals for device in gathering.devices())
    shown = [watch.as_it_was(device) for device in gathering.devices()]
    assert [(d.mac, d.addresses, d.heard) for d in shown] == [
        (OWN, (PLC,), 11),
        (THEIRS, (PLC,), 1),
    ]
    # Both at once: now they do.
    watch.look_began(20)
    seen(21, OWN)
    seen(21, THEIRS)
    details = {c[1]: c[3] for c in compare(20, True)}
    assert f"its address is shared with {THEIRS}" in details[OWN]
    # One that asks for an address has none any more.
    watch.look_began(30)
    seen(31, OWN)
    gathering.add(Sighting(32, Method.LISTEN, THEIRS, asks=AddressProtocol.BOOTP))
    assert compare(30, True) == [(Happened.CHANGED, THEIRS, (), (f"no longer at {PLC}",))]


def test_an_outlook_says_what_goes_on_and_never_goes_back_to_nothing():
    outlook = Outlook()
    with outlook.doing("listening", 4.0):
        outlook.tick(100.0)
        assert outlook.seconds_left == pytest.approx(4.0)
        with outlook.doing("ARP sweep", 9.0):
            outlook.tick(102.0)
            assert (outlook.stages, outlook.seconds_left) == (("listening", "ARP sweep"), 7.0)
        outlook.tick(110.0)
        assert outlook.seconds_left == 0.2
        assert 0.9 < outlook.share < 1
    assert (outlook.share, outlook.stages) == (1.0, ())


# Subnets, catalogue, remarks.


def gathered(*sightings, catalog=None):
    gathering = Gathering(catalog=catalog or Catalog())
    for seen in sightings:
        gathering.add(seen)
    return gathering.devices()


def test_subnets_that_are_spoken_by_known_masks_or_assumed():
    devices = gathered(
        *(
            Sighting(0, Method.LISTEN, Mac(bytes((2, 0, 0, 0, 0, n))), IPv4Address(address))
            for n, address in enumerate(("10.61.20.10", "10.61.29.9", "203.0.113.40"))
        )
    )
    found = spoken(devices, [IPv4Network("10.61.16.0/20")])
    assert [(str(s.network), s.devices, s.assumed) for s in found] == [
        ("10.61.16.0/20", 2, False),
        ("203.0.113.0/24", 1, True),
    ]


def wholes(device, own):
    return tuple(str(each.whole) for each in remarks(device, own, Plan()))


def test_a_catalogue_cures_what_was_found_but_not_recognised():
    codes = Codes(Numbering.CIP, 64102, 704)
    seen = Sighting(0, Method.CIP, THEIRS, PLC, (), codes=codes)
    own = (IPv4Interface("10.61.20.200/24"),)
    (device,) = gathered(seen)
    ((remark, _),) = remarks(device, own, Gathering().plan)
    line = str(remark)
    assert line.startswith("not recognised: CIP maker 64102, product 704")
    eds = """$ a drive
        [File] DescText = "x; $ y";
        [Device]
        VendCode = 64102; VendName = "Whimbrel Drives";
        ProdType = 2; ProdTypeStr = "AC Drive"; ProdCode = 0x2C0; $ 704
        ProdName = "Gale 7 drive, "
            "4 kW"; Catalog = "a", "b";"""
    catalog = parse_eds(eds, "gale7.eds")
    (device,) = gathered(seen, catalog=catalog)
    assert device.value(Field.MAKER) == "Whimbrel Drives"
    assert device.value(Field.PRODUCT) == "Gale 7 drive, 4 kW"
    assert wholes(device, own) == ()
    right = Catalog(products={codes: Product("Gale 7b")}, defaults=(parse_range("203.0.113.4"),))
    both = catalog.with_all_of(right)
    assert both.product(codes) == Product("Gale 7b")
    assert both.maker(codes) == "Whimbrel Drives"


@pytest.mark.parametrize(
    ("text", "complaint"),
    [
        ("", "no [Device] section"),
        ("[Device] VendCode = 1;", "does not say VendName, ProdCode, ProdName"),
        (
            '[Device] VendCode = 99999; VendName = "W"; ProdCode = 1; ProdName = "x";',
            "VendCode: 99999",
        ),
        ('[Device] VendCode = 1; VendName = "W; ProdCode = 1; ProdName = "x;', "does not say"),
    ],
)
def test_an_eds_that_says_too_little_is_refused_with_what_is_missing(text, complaint):
    with pytest.raises(BadInput) as refused:
        parse_eds(text, "gale7.eds")
    assert complaint in str(refused.value)


def test_a_mask_that_differs_and_a_device_without_name_are_remarked():
    said = (
        Said(Field.MASK, IPv4Address("255.255.0.0"), Method.CIP),
        Said(Field.MANNER, NO_ADDRESS(), Method.DCP),
    )
    own = (IPv4Interface("10.61.20.200/24"),)
    (device,) = gathered(Sighting(0, Method.CIP, THEIRS, PLC, said))
    assert wholes(device, own) == (
        "its mask is 255.255.0.0, this computer's there is 255.255.255.0",
    )
    only = IPv6Address("fe80::1")
    (device,) = gathered(Sighting(0, Method.IPV6, THEIRS, ipv6=only))
    assert wholes(device, own) == ("has only an IPv6 address of this link",)
    (device,) = gathered(Sighting(0, Method.DCP, THEIRS, None, said[1:]))
    assert wholes(device, own) == ("has no address",)


# What is told, and what is proved.


FAN, OTHER = parse_mac("02-77-B1-4C-09-21"), IPv4Address("10.61.20.99")


def announcement(sender, **differs):
    said = lldp.Announcement(lldp.Subtype.CHASSIS_MAC, sender, 3, sender, 120)
    return lldp.encode_frame(sender, said._replace(**differs))


def test_where_a_switch_says_it_is_managed_is_no_proof_that_it_has_that_address():
    told = overheard(Frame(announcement(THEIRS, management=(PLC, OTHER), name=b"sw")), 1.0)
    heard = Sighting(2.0, Method.ARP, FAN, PLC)
    (alone,) = merge([told])
    assert (alone.addresses, alone.rivals) == ((PLC,), ())
    assert alone.values(Field.MANNER) == (MANAGED_AT(managed=[OTHER]),)
    plc, switch = merge([told, heard])
    assert (plc.mac, plc.addresses, plc.rivals) == (FAN, (PLC,), ())
    assert (switch.addresses, switch.rivals) == ((), ())
    assert MANAGED_ELSEWHERE(managed=PLC, holder=FAN) in switch.values(Field.MANNER)
    # A device that is heard at the address it tells is simply there.
    (both,) = merge([told, Sighting(2.0, Method.ARP, THEIRS, PLC)])
    assert (both.addresses, both.values(Field.NAME)) == ((PLC,), ("sw",))


def test_a_chassis_may_go_by_a_name_or_an_address_and_what_is_cut_loses_only_itself():
    local = announcement(THEIRS, chassis_subtype=7, chassis=b"io-island-1", port_subtype=7)
    assert "calls its chassis io-island-1" in [
        str(each.value) for each in overheard(Frame(local), 1.0).said
    ]
    by_address = announcement(THEIRS, chassis_subtype=5, chassis=b"\x01" + PLC.packed)
    assert overheard(Frame(by_address), 1.0)[2:4] == (THEIRS, PLC)
    whole = announcement(THEIRS, name=b"sw", description=b"a switch of eight ports and more")
    cut = overheard(Frame(whole[:-12]), 1.0)
    assert [each.value for each in cut.said] == ["sw"]


def test_a_tagged_frame_is_not_on_this_wire_and_its_vlan_is_said():
    plain = announcement(THEIRS, name=b"sw")
    for tags, vlan in (("81000014", 20), ("88a80007 81000014", 7), ("81006000", None)):
        tagged = Frame(plain[:12] + bytes.fromhex(tags) + plain[12:])
        seen = overheard(tagged, 1.0)
        assert (seen.mac, seen.vlan, seen.said[0].value) == (THEIRS, vlan, "sw")
        said = [str(each.value) for each in seen.said[1:]]
        assert said == ([f"heard in VLAN {vlan}, by tagged frames"] if vlan else [])
    assert overheard(Frame(plain[:12] + b"\x81\0\0"), 1.0).mac == THEIRS


# Odd in one place.


@pytest.mark.parametrize(
    ("change", "oddity"),
    [
        (lambda data: data[:8] + b"\x05" + data[9:], "answers with the status 0x5"),
        (lambda data: data[:32] + b"\x02\x00" + data[34:], "names the address family 512"),
        (lambda data: data[:-1], "does not tell its state"),
        (lambda data: data[:-3], "its product name ends after 4 of 6 characters"),
        (lambda data: data[:2] + b"\xff" + data[3:], None),
        (lambda data: data[:40], "answers CIP, and who it is cannot be read"),
    ],
)
def test_an_identity_that_is_odd_is_still_a_device_and_the_oddity_is_said(change, oddity):
    data = cip.encode_identity(
        cip.Identity(PLC, 44818, 64101, 14, 40, 20, 13, 0, 0x5A20170F, b"Gale 7", 3), bytes(8)
    )
    wire, party = alone(IdentityByBroadcast((OTHER,)))
    wire.say(Datagram(Endpoint(PLC, cip.PORT), change(data)))
    (seen,) = party.facts
    manners = [str(said.value) for said in seen.said if said.field is Field.MANNER]
    assert any(oddity in manner for manner in manners) if oddity else manners == []
    product = [said.value for said in seen.said if said.field is Field.PRODUCT]
    assert product in (["Gale 7"], ["Gale"], [])


def bacnet_answer(said):
    return Datagram(Endpoint(PLC, bacnet.PORT), bacnet.encode(said))


def test_a_bacnet_error_and_a_silence_lose_one_property_and_not_the_rest():
    wire, party = alone(BacnetDevices((OTHER,)))
    wire.say(bacnet_answer(bacnet.IAm(7, 64101)))
    for _ in range(3):
        asked = bacnet.parse(party.packets[-1].payload)
        if asked.wanted == bacnet.Property.MODEL_NAME:
            wire.say(bacnet_answer(bacnet.PropertyText(asked.invoke, 7, asked.wanted, "Draught")))
        else:
            wire.say(bacnet_answer(bacnet.Refused(asked.invoke)))
    # This one is not answered; meanwhile all are asked once more who they are.
    wire.pass_time(1.0)
    asked = next(
        message
        for packet in reversed(party.packets)
        if isinstance(message := bacnet.parse(packet.payload), bacnet.ReadProperty)
    )
    assert asked.wanted == bacnet.Property.LOCATION
    wire.say(bacnet_answer(bacnet.PropertyText(asked.invoke, 7, asked.wanted, "hood")))
    wire.pass_time(3.0)
    assert said_by(party) == {
        Field.KIND: "BACnet device 7",
        Field.PRODUCT: "Draught",
        Field.PLACE: "hood",
    }
    assert party.conversation.over


def test_a_bacnet_device_that_was_passed_on_is_not_who_passed_it_on():
    i_am = bacnet.encode(bacnet.IAm(9, 64101))
    # Clause 6.2.2: from network 5, station 3. Annex J.2.5: from another address.
    routed = b"\x81\x0a" + (len(i_am) + 4).to_bytes(2, "big") + b"\1\x08\0\5\1\3" + i_am[6:]
    origin = OTHER.packed + bacnet.PORT.to_bytes(2, "big")
    forwarded = b"\x81\x04" + (len(i_am) + 6).to_bytes(2, "big") + origin + i_am[4:]
    wire, party = alone(BacnetDevices((OTHER,)))
    wire.say(Datagram(Endpoint(PLC, bacnet.PORT), routed))
    wire.say(Datagram(Endpoint(PLC, bacnet.PORT), forwarded))
    router, device = party.facts
    assert (router.address, router.codes) == (PLC, None)
    assert router.said[0].value == BACNET_BEHIND(instance=9, network=5)
    assert (device.address, device.codes.maker) == (OTHER, 64101)


def test_an_snmp_engine_of_version_3_is_worth_a_word():
    # RFC 3414 §4: no engine, no user, the flag "report it".
    asked = snmp.encode_discovery(7)
    assert asked.hex(" ", 1).startswith("30 3e 02 01 03 30 11 02 04 00 00 00 07 02 03 00 ff e3 04")
    assert snmp.parse_engine(messages.SNMP_ENGINE) == (7, b"\x80\0\x1f\x88\x04gull")
    learnt = EngineQuestion(7).read(PLC, messages.SNMP_ENGINE)
    assert (learnt.codes.numbering, learnt.codes.maker) == (Numbering.SNMP, 8072)
    assert learnt.said[0].value == SNMP_V3()
    with pytest.raises(Malformed):
        EngineQuestion(8).read(PLC, messages.SNMP_ENGINE)
    for length in range(len(messages.SNMP_ENGINE)):
        with pytest.raises(Malformed):
            snmp.parse_engine(messages.SNMP_ENGINE[:length])


def test_listening_does_not_go_deaf(monkeypatch):
    """Fifty talkers for an hour and more: what is said again after a second is news again."""
    seen = Sighting(0.0, Method.LISTEN, THEIRS)
    monkeypatch.setattr("portcall.core.find.overhear.overheard", lambda packet, now: seen)
    _, party = alone(Overhear(OWN, None))
    hear, frame = party.conversation.heard, Frame(b"")
    assert sum(len(list(hear(frame, 2.0 * n))) for n in range(200_100)) == 200_100
