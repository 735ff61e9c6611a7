"""Codecs against each other's direction, against bytes written by hand from the standards, and
against hostile bytes."""

from ipaddress import IPv4Address

import pytest
from hypothesis import example, given
from hypothesis import strategies as st
from parsers import PARSERS, SAMPLES, SHORTEST

from portcall.core.address import BROADCAST, UNSPECIFIED, Mac, parse_mac
from portcall.core.wire import (
    arp,
    bootp,
    cip,
    cip_message,
    cip_tcpip,
    dhcp,
    ethernet,
    icmp,
    ipv4,
    udp,
)
from portcall.core.wire.octets import Malformed, internet_checksum

macs = st.binary(min_size=6, max_size=6).map(Mac)
addresses = st.integers(0, 2**32 - 1).map(IPv4Address)
u8, u16, u32 = (st.integers(0, 2**bits - 1) for bits in (8, 16, 32))
payloads = st.binary(max_size=200)

frames = st.builds(ethernet.EthernetFrame, macs, macs, u16, payloads)
arps = st.builds(arp.Arp, st.sampled_from(arp.Operation), macs, addresses, macs, addresses)
packets = st.builds(
    ipv4.Ipv4Packet,
    addresses,
    addresses,
    u8,
    payloads,
    u8,
    u8,
    u16,
    u16,
    st.integers(0, 10).flatmap(lambda n: st.binary(min_size=4 * n, max_size=4 * n)),
)
datagrams = st.builds(udp.UdpDatagram, u16, u16, payloads)
udp_frames = st.builds(udp.UdpFrame, macs, macs, addresses, addresses, datagrams)
messages = st.builds(icmp.IcmpMessage, u8, u8, st.binary(min_size=4, max_size=4), payloads)
bootps = st.builds(
    bootp.BootpMessage,
    st.sampled_from(bootp.Op),
    macs,
    u32,
    u8,
    u16,
    u16,
    addresses,
    addresses,
    addresses,
    addresses,
    st.binary(min_size=64, max_size=64),
    st.binary(min_size=128, max_size=128),
    payloads,
    st.binary(min_size=10, max_size=10),
)
free_codes = st.integers(128, 223)  # RFC 2132 §2, site-specific: any length is right
options = st.dictionaries(free_codes, st.binary(max_size=600), max_size=5).map(
    lambda found: dhcp.Options(tuple(found.items()))
)
identities = st.builds(
    cip.Identity,
    addresses,
    u16,
    u16,
    u16,
    u16,
    u8,
    u8,
    u16,
    u32,
    st.binary(max_size=255),
    u8,
    u16,
    st.just(()),
)
encapsulations = st.builds(
    cip.Encapsulation, u16, payloads, u32, u32, st.binary(min_size=8, max_size=8), u32
)


@given(frames, arps, packets, messages, bootps, encapsulations)
def test_what_is_encoded_reads_back(frame, packet, ip_packet, message, boot, capsule):
    assert ethernet.parse(ethernet.encode(frame)) == frame
    assert arp.parse(arp.encode(packet)) == packet
    assert ipv4.parse(ipv4.encode(ip_packet)) == ip_packet
    assert icmp.parse(icmp.encode(message)) == message
    assert bootp.parse(bootp.encode(boot)) == boot
    assert cip.parse(cip.encode(capsule)) == capsule


@given(udp_frames, identities, st.binary(min_size=8, max_size=8))
def test_what_is_encoded_in_layers_reads_back(frame, identity, context):
    data = udp.encode_frame(frame)
    assert udp.parse_frame(data) == frame
    # Ethernet pads short frames; what follows the IPv4 packet is not part of it.
    assert udp.parse_frame(data + bytes(30)) == frame
    reply = cip.parse(cip.encode_identity(identity, context))
    assert reply.context == context
    assert cip.parse_identity(reply) == identity


@given(udp_frames, st.integers(0, 20), u32)
def test_a_number_that_changes_changes_the_checksum_as_making_it_anew_would(frame, place, number):
    payload = frame.datagram.payload.ljust(2 * place + 4, b"\1")
    frame = frame._replace(datagram=frame.datagram._replace(payload=payload))
    new = payload[: 2 * place] + number.to_bytes(4, "big") + payload[2 * place + 4 :]
    anew = udp.encode_frame(frame._replace(datagram=frame.datagram._replace(payload=new)))
    assert udp.with_changed(udp.encode_frame(frame), 2 * place, number) == anew


@given(frames, arps, packets, bootps, encapsulations)
def test_what_is_decoded_encodes_to_the_same_bytes(frame, packet, ip_packet, boot, capsule):
    for codec, value in (
        (ethernet, frame),
        (arp, packet),
        (ipv4, ip_packet),
        (bootp, boot),
        (cip, capsule),
    ):
        data = codec.encode(value)
        assert codec.encode(codec.parse(data)) == data


@given(options)
def test_options_read_back_also_when_they_are_long(found):
    # RFC 3396: data over 255 octets goes in pieces and is joined again.
    message = bootp.BootpMessage(bootp.Op.REPLY, BROADCAST, 1, vendor=dhcp.encode(found))
    assert dhcp.parse(message) == found


def test_the_samples_themselves_are_sound():
    for name, sample in SAMPLES.items():
        PARSERS[name](sample)


@pytest.mark.parametrize("name", SAMPLES)
def test_every_truncation_is_malformed(name):
    for length in range(SHORTEST.get(name, len(SAMPLES[name]))):
        with pytest.raises(Malformed):
            PARSERS[name](SAMPLES[name][:length])


@pytest.mark.parametrize("name", PARSERS)
@given(data=st.data())
def test_random_and_damaged_bytes_are_malformed_or_fine(name, data):
    sample = SAMPLES.get(name, b"")
    damaged = bytearray(sample)
    for place, value in data.draw(st.lists(st.tuples(st.integers(0, 511), u8), max_size=8)):
        if place < len(damaged):
            damaged[place] = value
    for hostile in (
        bytes(damaged),
        data.draw(st.binary(max_size=600)),
        damaged[: len(damaged) // 2],
    ):
        try:
            PARSERS[name](hostile)
        except Malformed as malformed:
            assert 0 <= malformed.where <= len(hostile) + 256
            assert str(malformed)


@given(st.binary(max_size=64))
@example(b"\x00\x01\xf2\x03\xf4\xf5\xf6\xf7")
def test_checksum_as_in_rfc_1071(data):
    # RFC 1071 §1: with its checksum in place the sum over all is zero; §3 has the example.
    if len(data) % 2 == 0:
        checksum = internet_checksum(data)
        assert internet_checksum(data + checksum.to_bytes(2, "big")) == 0
    assert internet_checksum(b"\x00\x01\xf2\x03\xf4\xf5\xf6\xf7") == 0x220D


def test_an_arp_probe_octet_by_octet():
    # RFC 826 packet format, RFC 5227 §2.1.1: sender address and target MAC all zeros.
    frame = arp.encode_request(
        parse_mac("02-1A-40-7C-00-06"), UNSPECIFIED, IPv4Address("10.61.20.10")
    )
    assert frame.hex(" ") == (
        "ff ff ff ff ff ff 02 1a 40 7c 00 06 08 06"
        " 00 01 08 00 06 04 00 01 02 1a 40 7c 00 06 00 00 00 00 00 00 00 00 00 00 0a 3d 14 0a"
    )
    assert arp.parse(frame[14:]).is_probe


def test_a_discover_octet_by_octet():
    # RFC 2131 figure 1 and table 1; RFC 2132 §9.6, §3.14, §9.8.
    data = bytes.fromhex(
        "01010600 3903f326 00008000 00000000 00000000 00000000 00000000"
        "0277b16113a4 00000000000000000000" + "00" * 192 + "63825363"
        "350101 0c05 62656c7431 3703 010333 ff 0000"
    )
    message = bootp.parse(data)
    found = dhcp.parse(message)
    assert message.op is bootp.Op.REQUEST
    assert message.xid == 0x3903F326
    assert message.wants_broadcast
    assert str(message.mac) == "02-77-B1-61-13-A4"
    assert found.message_type is dhcp.MessageType.DISCOVER
    assert found.host_name == b"belt1"
    assert found.get(dhcp.Code.PARAMETER_REQUEST) == b"\x01\x03\x33"
    assert bootp.encode(message) == data


def test_options_go_on_in_file_and_sname():
    # RFC 2132 §9.3, and the order of RFC 2131 §4.1: file first, then sname.
    message = bootp.BootpMessage(
        bootp.Op.REPLY,
        BROADCAST,
        1,
        vendor=dhcp.COOKIE + b"\x34\x01\x03\x0c\x02ab\xff",
        file=(b"\x0c\x02cd\xff").ljust(128, b"\0"),
        sname=(b"\x0c\x01e\x01\x04\xff\xff\xff\x00\xff").ljust(64, b"\0"),
    )
    found = dhcp.parse(message)
    assert found.host_name == b"abcde"
    assert str(found.subnet_mask) == "255.255.255.0"


def options_of(area):
    return dhcp.parse(bootp.BootpMessage(bootp.Op.REPLY, BROADCAST, 1, vendor=dhcp.COOKIE + area))


@pytest.mark.parametrize("area", [b"\x35\x01\x09", b"\x35\x00"])
def test_a_message_of_no_known_type_is_not_read(area):
    with pytest.raises(Malformed):
        options_of(area)


@pytest.mark.parametrize(
    "area",
    [b"\x01\x03\xff\xff\xff", b"\x03\x05\x01\x02\x03\x04\x05", b"\x33\x02\0\0", b"\x01\x09\0"],
)
def test_an_option_of_forbidden_length_is_left_out_and_the_others_are_read(area):
    found = options_of(b"\x36\4\1\2\3\4" + area)
    assert found.entries == ((54, b"\1\2\3\4"),)
    assert len(found.oddities) == 1


def test_a_request_without_cookie_has_no_options():
    short = bootp.encode(bootp.BootpMessage(bootp.Op.REQUEST, Mac(b"\2\0\0\0\0\1"), 9))
    assert len(short) == 236
    assert dhcp.parse(bootp.parse(short)) is None
    assert len(bootp.padded(short)) == 300


def test_list_identity_octet_by_octet():
    # Volume 2 §2-4.2: command 0x0063, everything else zero; §2-4.3 for the reply.
    assert cip.encode_list_identity() == b"\x63\x00" + bytes(22)
    # §2-4.2.2: the longest delay, in milliseconds, where the context begins.
    assert cip.encode_list_identity(0.8) == b"\x63\x00" + bytes(10) + b"\x20\x03" + bytes(10)
    reply = bytes.fromhex(
        "6300 2900 00000000 00000000 0000000000000000 00000000"
        "0100 0c00 2300 0100 0002 af12 0a3d1415 0000000000000000"
        "66fa 0200 c002 05 02 0000 2109b177 01 47 03"
    )
    identity = cip.parse_identity(cip.parse(reply))
    assert identity.address == IPv4Address("10.61.20.21")
    assert identity.port == 44818
    assert (identity.vendor, identity.device_type, identity.product_code) == (64102, 2, 704)
    assert identity.firmware == "5.002"
    assert identity.serial_text == "77B10921"
    assert identity.kind == "AC drive"
    assert cip.encode_identity(identity, bytes(8)) == reply


configurations = st.builds(
    cip_tcpip.InterfaceConfiguration, *[addresses] * 5, st.binary(max_size=60)
)


@given(
    configurations,
    u32,
    st.builds(cip_message.Request, u8, u8, st.none() | u8, u8, st.binary(max_size=20)),
)
def test_cip_messages_read_back_through_all_their_layers(configuration, session, request):
    asked = cip_message.encode_unconnected(session, cip_message.encode_request(request))
    outer = cip.parse(asked)
    assert outer.session == session
    assert cip_message.parse_request(cip_message.parse_unconnected(outer)) == request
    response = cip_message.Response(0x0E, 0, cip_tcpip.encode_configuration(configuration))
    told = cip_message.encode_unconnected(session, cip_message.encode_response(response))
    read = cip_message.parse_response(cip_message.parse_unconnected(cip.parse(told)))
    assert read == response
    assert cip_tcpip.parse_configuration(read.data) == configuration


def test_a_request_for_the_interface_octet_by_octet():
    # Volume 1 §2-4.1 and C-1.4: service, path length in words, class, instance, attribute;
    # volume 2 §2-4.7 and §2-6: handle, timeout, null address item, unconnected data item.
    request = cip_message.Request(cip_tcpip.TCP_IP_INTERFACE, 1, 5)
    assert cip_message.encode_unconnected(
        0x11, cip_message.encode_request(request)
    ) == bytes.fromhex(
        "6f00 1800 11000000 00000000 0000000000000000 00000000"
        "00000000 0000 0200 0000 0000 b200 0800 0e03 20f5 2401 3005"
    )


def test_a_udp_checksum_of_zero_is_not_checked_and_a_wrong_one_is():
    frame = udp.UdpFrame(
        BROADCAST, BROADCAST, IPv4Address(1), IPv4Address(2), udp.UdpDatagram(68, 67, b"asking")
    )
    data = bytearray(udp.encode_frame(frame))
    data[40:42] = b"\0\0"
    assert udp.parse_frame(bytes(data)) == frame
    data[40:42] = b"\x12\x34"
    with pytest.raises(Malformed, match="checksum"):
        udp.parse_frame(bytes(data))


def test_a_fragment_is_not_taken_for_a_datagram():
    datagram = udp.UdpDatagram(68, 67, b"x")
    whole = ipv4.Ipv4Packet(
        IPv4Address(1), IPv4Address(2), 17, udp.encode(datagram, IPv4Address(1), IPv4Address(2))
    )
    for bits in (0x2000, 0x0001):
        piece = ipv4.encode(whole._replace(flags_and_offset=bits))
        outer = ethernet.EthernetFrame(BROADCAST, BROADCAST, 0x0800, piece)
        with pytest.raises(Malformed):
            udp.parse_frame(ethernet.encode(outer))
