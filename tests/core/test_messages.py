"""What other programs' messages say, read by our codecs; and codecs against themselves."""

import gzip
import io
import zlib
from ipaddress import IPv4Address, IPv6Address

import messages
import pytest
from hypothesis import given
from hypothesis import strategies as st

from portcall.core.address import Mac, parse_mac
from portcall.core.catalog.catalog import Codes, Numbering
from portcall.core.find import mdns_names
from portcall.core.find.modbus_identity import script as modbus_script
from portcall.core.find.sighting import Field
from portcall.core.find.snmp_system import SystemGroup
from portcall.core.find.web_page import read_page, whole_length
from portcall.core.wire import (
    bacnet,
    dcp,
    dns,
    ipv6,
    lldp,
    modbus,
    netbios,
    opcua,
    pcapng,
    snmp,
)
from portcall.core.wire.octets import Malformed

OWN = parse_mac("02-1A-40-7C-00-06")
GAUGE = IPv4Address("10.61.20.91")


def test_a_station_of_another_program():
    sender, message = dcp.parse_frame(messages.DCP_IDENTIFY_ANSWER)
    said = dcp.parse_station(message)
    assert str(sender) == "02-77-B1-90-00-3D"
    assert (said.name, said.station_type) == (b"islet-3", b"Islet 16")
    assert (said.vendor, said.device, said.roles) == (0xFA78, 16, ("I/O device",))
    assert [str(a) for a in (said.address, said.mask, said.gateway)] == [
        "10.61.20.50",
        "255.255.255.0",
        "10.61.20.1",
    ]
    assert dcp.encode(message) == messages.DCP_IDENTIFY_ANSWER[14:]


def test_an_identify_request_octet_by_octet():
    # IEC 61158-6-10: FrameID, ServiceID and -Type, Xid, ResponseDelay, length, the "all" block.
    frame = dcp.encode_identify_all(OWN, 0x5043, 100)
    assert frame[:30].hex(" ") == (
        "01 0e cf 00 00 00 02 1a 40 7c 00 06 88 92 fe fe 05 00 00 00 50 43 00 64 00 04 ff ff 00 00"
    )
    assert len(frame) == 60


def test_an_announcement_of_a_real_lldpd():
    sender, said = lldp.parse_frame(messages.LLDP_ANNOUNCEMENT)
    assert (said.chassis_subtype, Mac(said.chassis)) == (lldp.Subtype.CHASSIS_MAC, sender)
    assert (said.name, said.description, said.seconds) == (b"vm", b"Ebb 2 gauge", 120)
    assert (said.port_description, said.management) == (b"eth0", (GAUGE,))


def test_what_a_real_modbus_server_says_of_itself():
    # The whole script against the recorded answers, in the order in which they were given.
    script = modbus_script()
    asked = next(script)
    answers = {1: messages.MODBUS_BASIC, 2: messages.MODBUS_REGULAR}
    while hasattr(asked, "request"):
        number = modbus.parse(asked.request).transaction
        asked = script.send(answers[number])
    said = {each.field: each.value for each in asked.said}
    assert said == {
        Field.MAKER: "Godwit Instruments",
        Field.PRODUCT: "Reed 3 moisture probe",
        Field.FIRMWARE: "1.018",
        Field.KIND: "Reed 3",
        Field.NAME: "dryer outlet",
    }
    text = modbus.parse_server_id(modbus.parse(messages.MODBUS_SERVER_ID).pdu)
    assert text == b"Godwit Instruments-RD3-1.018"
    assert modbus.parse(messages.MODBUS_REFUSAL).exception == 3


def test_node_status_and_ipv6_of_another_program():
    status = netbios.parse(messages.NETBIOS_STATUS)
    assert [(n.name, n.is_group) for n in status.names] == [
        (b"DRYER-PANEL", False),
        (b"DRYER", True),
    ]
    assert str(status.unit) == "02-60-D1-12-08-77"
    echo = ipv6.parse_frame(messages.IPV6_ECHO)
    assert (echo.kind, echo.source) == (129, IPv6Address("fe80::d0:11ff:fe77:4a90"))
    assert ipv6.link_local(echo.source_mac) == echo.source
    asked = ipv6.parse_frame(messages.IPV6_SOLICITATION)
    assert ipv6.parse_solicited(asked) == ipv6.link_local(OWN)
    told = ipv6.parse_frame(ipv6.encode_advertisement(OWN, asked))
    assert (told.destination, told.source_mac, told.kind) == (asked.source, OWN, 136)


def test_what_a_real_opcua_server_says_of_itself():
    assert opcua.whole_length(messages.OPCUA_ACKNOWLEDGE) == len(messages.OPCUA_ACKNOWLEDGE)
    channel = opcua.parse_open(messages.OPCUA_CHANNEL)
    assert (channel.number, channel.token) == (6, 13)
    said = opcua.parse_endpoints(messages.OPCUA_ENDPOINTS)
    assert (said.uri, said.name) == (b"urn:tern-point:dryer-plc", b"Skerry 40 controller")


def test_what_a_real_snmpd_and_a_real_avahi_say():
    answer = SystemGroup(number=1).read(GAUGE, messages.SNMP_ANSWER)
    assert {each.value for each in answer.said} == {"Ebb 2 gauge", "tide-gauge", "quay"}
    assert answer.codes == Codes(Numbering.SNMP, 8072)
    with pytest.raises(Malformed):
        SystemGroup(number=2).read(GAUGE, messages.SNMP_ANSWER)
    told = mdns_names.said(dns.parse(messages.MDNS_ANSWER), GAUGE)
    assert [each.value for each in told if each.field is Field.NAME] == ["tide-gauge"]
    assert next(e.value for e in told if e.field is Field.DESCRIPTION) == "offers computer"


def test_bacnet_against_a_library_and_the_standards_annexes():
    assert bacnet.parse(messages.BACNET_I_AM) == bacnet.IAm(1077, 999)
    # Annex J.2.11 and F.4.9: Who-Is without limits, as an original broadcast.
    assert bacnet.encode(bacnet.WhoIs()) == bytes.fromhex("810b 0008 0100 1008")
    # Annex F.3.5's form: ReadProperty of a device object's model name.
    asked = bacnet.encode(bacnet.ReadProperty(1, 1077, bacnet.Property.MODEL_NAME))
    assert asked == bytes.fromhex("810a 0011 0104 0005010c 0c02000435 1946")


u8, u16, u32 = (st.integers(0, 2**bits - 1) for bits in (8, 16, 32))
macs = st.binary(min_size=6, max_size=6).map(Mac)
addresses = st.integers(0, 2**32 - 1).map(IPv4Address)
octets = st.binary(max_size=100)
stations = st.builds(
    dcp.Station,
    octets,
    octets,
    u16,
    u16,
    st.sets(st.sampled_from(dcp.ROLES)).map(lambda r: tuple(x for x in dcp.ROLES if x in r)),
    addresses,
    addresses,
    addresses,
)
announcements = st.builds(
    lldp.Announcement,
    u8,
    st.binary(min_size=1, max_size=50),
    u8,
    st.binary(min_size=1, max_size=50),
    u16,
    octets,
    octets,
    octets,
    st.lists(addresses, max_size=3, unique=True).map(tuple),
)
texts = st.text(max_size=300)
bacnets = st.one_of(
    st.builds(bacnet.IAm, st.integers(0, 0x3FFFFF), u16, st.none(), st.none()),
    st.builds(bacnet.Refused, u8),
    st.builds(bacnet.ReadProperty, u8, st.integers(0, 0x3FFFFF), u16),
    st.builds(bacnet.PropertyText, u8, st.integers(0, 0x3FFFFF), u16, texts),
)


@given(stations, announcements, bacnets, macs, u32)
def test_frames_of_finding_read_back(station, announcement, message, mac, xid):
    blocks = dcp.encode_station(station)
    asked = dcp.DcpMessage(
        dcp.FrameId.IDENTIFY_RESPONSE, dcp.Service.IDENTIFY, dcp.SUCCESS, xid, 0, blocks
    )
    assert dcp.parse_frame(dcp.encode_frame(OWN, mac, asked)) == (mac, asked)
    assert dcp.parse_station(asked) == station
    assert lldp.parse_frame(lldp.encode_frame(mac, announcement)) == (mac, announcement)
    assert bacnet.parse(bacnet.encode(message)) == message


@given(
    st.lists(st.tuples(u8, st.binary(max_size=30)), max_size=7),
    st.none() | u8,
    st.lists(st.builds(netbios.NodeName, st.binary(max_size=15), u8, st.booleans()), max_size=9),
    macs,
    st.dictionaries(
        st.sampled_from(snmp.SYSTEM),
        st.none() | octets | st.just("1.3.6.1.4.1.7") | st.ip_addresses(v=4),
    ),
)
def test_answers_of_finding_read_back(objects, following, names, unit, values):
    said = modbus.Identification(tuple(objects), following)
    pdu = modbus.encode_identification(said, 2)
    if len(pdu) <= modbus.LONGEST_PDU:
        message = modbus.ModbusMessage(7, 1, pdu)
        assert modbus.parse(modbus.encode(message)) == message
    assert modbus.parse_identification(pdu) == said
    kept = tuple(netbios.NodeName(n.name.rstrip(b" \0"), n.suffix, n.is_group) for n in names)
    status = netbios.NodeStatus(9, kept, unit)
    assert netbios.parse(netbios.encode(status)) == status
    if values:
        answered = snmp.SnmpMessage(snmp.Version.V2C, b"public", 77, values)
        assert snmp.parse(snmp.encode_response(answered)) == answered


@given(st.lists(st.tuples(st.binary(max_size=80), st.integers(0, 2**62), st.booleans())))
def test_a_capture_reads_back(frames):
    data = pcapng.encode_header("usb0") + b"".join(pcapng.encode_packet(*frame) for frame in frames)
    read = list(pcapng.parse_frames(io.BytesIO(data).read))
    assert [each.data for each in read] == [frame[0] for frame in frames]
    for each, (_, nanoseconds, _) in zip(read, frames, strict=True):
        assert each.at == pytest.approx(nanoseconds * 1e-9)
    # Cut off anywhere, what was whole is still read.
    cut = list(pcapng.parse_frames(io.BytesIO(data[:-5]).read))
    assert cut == (read[:-1] if frames else [])


def test_a_pcap_of_either_byte_order_reads():
    for order in ("little", "big"):

        def number(value, length=4, order=order):
            return value.to_bytes(length, order)

        head = number(0xA1B2C3D4) + number(2, 2) + number(4, 2) + bytes(8) + number(65535)
        record = number(5) + number(250_000) + number(3) + number(60) + b"abc"
        data = head + number(1) + record
        assert list(pcapng.parse_frames(io.BytesIO(data).read)) == [pcapng.Captured(b"abc", 5.25)]
    for wrong in (b"", b"PK\x03\x04", head + number(101)):
        with pytest.raises(Malformed):
            list(pcapng.parse_frames(io.BytesIO(wrong).read))


def test_a_page_says_title_server_and_where_it_sends_us():
    head = b"HTTP/1.1 302 Found\r\nServer: Fetch\x1b[31m\r\nLocation: /login\r\n"
    page = read_page(head + b"Content-Length: 0\r\n\r\n")
    assert (page.status, page.server, page.location, page.stays_open) == (
        302,
        "Fetch [31m",
        "/login",
        True,
    )
    with pytest.raises(Malformed):
        read_page(b"220 FTP ready\r\n\r\n")
    body = b"<html><TITLE>\n Fetch &amp;\x07 5 </title>" + b"x" * 100_000
    endless = b"HTTP/1.0 200 OK\r\n\r\n" + body
    assert whole_length(endless[:9000]) is None
    assert whole_length(endless[:20_000]) == 20_000
    assert read_page(endless[:20_000]).title == "Fetch & 5"


@pytest.mark.parametrize(
    ("head", "body", "title"),
    [
        ("Content-Type: text/html; charset=windows-1252", b"<title>\x96 5\x80</title>", "– 5€"),
        ("A: b", b'<meta charset="shift_jis"><title>\x83\x7d</title>', "マ"),
        ("Content-Type: text/html; charset=zip", b"<title>Gale</title>", "Gale"),
        ("Content-Encoding: gzip", gzip.compress(b"<title>Gale</title>"), "Gale"),
        (
            "Content-Encoding: gzip",
            gzip.compress(b"<title>Gale</title>" + bytes(range(256)) * 9)[:60],
            "Gale",
        ),
        ("Content-Encoding: gzip", b"<title>Gale</title>", ""),
        ("Content-Encoding: deflate", zlib.compress(b"<title>Gale</title>"), "Gale"),
    ],
    ids=["windows", "meta", "no charset", "gzip", "cut gzip", "no gzip", "deflate"],
)
def test_a_title_is_read_in_its_character_set_and_out_of_its_packing(head, body, title):
    page = read_page(f"HTTP/1.0 200 OK\r\n{head}\r\n\r\n".encode() + body)
    assert page.title == title


def test_a_page_that_unpacks_without_end_is_not_unpacked_whole():
    bomb = gzip.compress(bytes(50_000_000))
    assert len(bomb) < 60_000
    head = b"HTTP/1.0 200 OK\r\nContent-Encoding: gzip\r\n\r\n"
    assert read_page(head + bomb[:16_000]).title == ""


def test_what_an_error_is_called_is_no_name_and_a_realm_is():
    page = read_page(b"HTTP/1.0 404 No\r\n\r\n<title>404 Not Found</title>")
    assert (page.title, page.realm) == ("", "")
    asks = (
        b'HTTP/1.0 401 No\r\nWWW-Authenticate: Basic realm="Gale 7 \x1b[1m"\r\n\r\n<title>x</title>'
    )
    assert (read_page(asks).title, read_page(asks).realm) == ("", "Gale 7 [1m")
