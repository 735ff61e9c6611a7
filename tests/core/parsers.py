"""Every parser of what comes from a network or a file, and a sound sample for each.

For the tests that damage them, and for the fuzzer.
"""

import io
from ipaddress import IPv4Address

import messages

from portcall.core.address import BROADCAST, UNSPECIFIED, Mac
from portcall.core.find import web_page
from portcall.core.wire import (
    arp,
    bacnet,
    bootp,
    cip,
    cip_file,
    cip_link,
    cip_message,
    cip_route,
    cip_tcpip,
    dcp,
    dhcp,
    dns,
    ethernet,
    icmp,
    ipv4,
    ipv6,
    lldp,
    modbus,
    netbios,
    opcua,
    pcapng,
    snmp,
    udp,
)

PARSERS = {
    "ethernet": ethernet.parse,
    "arp": arp.parse,
    "ipv4": ipv4.parse,
    "udp frame": udp.parse_frame,
    "icmp": icmp.parse_answer,
    "icmp about a segment": icmp.parse_about_segment,
    "bootp and dhcp": lambda data: dhcp.parse(bootp.parse(data)),
    "dhcp frame": dhcp.parse_frame,
    "opcua answer": lambda data: opcua.is_answer(messages.OPCUA_CHANNEL, data),
    "options": lambda data: dhcp.parse(
        bootp.BootpMessage(bootp.Op.REPLY, BROADCAST, 1, vendor=dhcp.COOKIE + data)
    ),
    "cip": lambda data: cip.parse_identity(cip.parse(data)),
    "cip length": cip.whole_length,
    "cip response": lambda data: cip_tcpip.parse_configuration(
        cip_message.parse_response(cip_message.parse_unconnected(cip.parse(data))).data
    ),
    "cip request": cip_message.parse_request,
    "cip file": lambda data: (
        cip_file.parse_upload(data),
        cip_file.parse_transfer(data),
        cip_file.parse_number(data, cip_file.Attribute.SIZE),
    ),
    "cip attributes of an identity": cip.parse_attributes,
    "cip route": cip_route.parse_route,
    "cip sent on": cip_route.parse_unconnected_send,
    "cip link": lambda data: (cip_link.parse_link_path(data), cip_link.parse_mac(data)),
    "cip label": cip_link.parse_label,
    "modbus registers": lambda data: modbus.parse_read(data, 3, 2),
    "arp reply": lambda data: arp.parse_reply_sender(data),
    "dcp": lambda data: dcp.parse_station(dcp.parse_frame(data)[1]),
    "dcp set": lambda data: dcp.parse_set_errors(dcp.parse_frame(data)[1]),
    "cip attributes": lambda data: (cip_tcpip.parse_word(data), cip_tcpip.parse_text(data)),
    "lldp": lldp.parse_frame,
    "modbus": lambda data: modbus.parse_identification(modbus.parse(data).pdu),
    "modbus server id": lambda data: modbus.parse_server_id(modbus.parse(data).pdu),
    "netbios": netbios.parse,
    "netbios request": netbios.parse_request,
    "ipv6": lambda data: ipv6.parse_solicited(ipv6.parse_frame(data)),
    "bacnet": bacnet.parse,
    "opcua channel": opcua.parse_open,
    "opcua endpoints": opcua.parse_endpoints,
    "snmp": snmp.parse,
    "dns": dns.parse,
    "dns query": dns.parse_query,
    "http": web_page.read_page,
    "pcapng": lambda data: list(pcapng.parse_frames(io.BytesIO(data).read)),
}

SAMPLES = {
    "ethernet": arp.encode_request(Mac(b"\2\0\0\0\0\1"), UNSPECIFIED, IPv4Address("10.61.20.9")),
    "arp": arp.encode_request(Mac(b"\2\0\0\0\0\1"), UNSPECIFIED, IPv4Address("10.61.20.9"))[14:],
    "cip": cip.encode_identity(
        cip.Identity(IPv4Address("10.61.20.10"), 44818, 1, 2, 3, 4, 5, 0, 6, b"Gale 7", 3), bytes(8)
    ),
    "bootp and dhcp": bootp.encode(
        bootp.BootpMessage(
            bootp.Op.REQUEST,
            Mac(b"\2\0\0\0\0\1"),
            7,
            vendor=dhcp.encode(dhcp.Options(((53, b"\1"), (52, b"\3"), (12, b"fan")))),
        )
    ),
    "cip response": cip_message.encode_unconnected(
        7, cip_message.encode_response(cip_message.Response(0x0E, 0, bytes(22)))
    ),
    "cip request": cip_message.encode_request(cip_message.Request(0xF5, 1, 5)),
    "cip file": cip_file.encode_upload(cip_file.Upload(1501, 255)),
    "cip attributes of an identity": bytes.fromhex("65fa0700600201023000110a4a5a05") + b"AI 8x",
    "cip route": cip_route.encode_route((cip_route.Hop(1, 3),)),
    "cip sent on": cip_route.unconnected_send(
        cip_message.encode_request(cip_message.Request(1, 1, None, 1)), (cip_route.Hop(1, 3),)
    ).data,
    "cip link": cip_link.encode_link_path(2),
    "cip label": b"\x02X1",
    "modbus registers": modbus.encode_registers(3, bytes(4)),
    "icmp": icmp.encode(
        icmp.IcmpMessage(
            3,
            1,
            bytes(4),
            ipv4.encode(
                ipv4.Ipv4Packet(
                    UNSPECIFIED, UNSPECIFIED, 1, icmp.encode_echo(icmp.Echo(False, 1, 2, b""))
                )
            ),
        )
    ),
    # What programs made that are not ours; which, is said where each is read in test_messages.py.
    "dcp": messages.DCP_IDENTIFY_ANSWER,
    "dcp set": dcp.encode_frame(
        BROADCAST,
        BROADCAST,
        dcp.set_reply(
            dcp.DcpMessage(
                dcp.FrameId.GET_SET,
                dcp.Service.SET,
                0,
                7,
                0,
                (dcp.encode_name_block("io-island-1"),),
            ),
            (6,),
        ),
    ),
    "cip attributes": cip_tcpip.encode_text(b"gale-7"),
    "lldp": messages.LLDP_ANNOUNCEMENT,
    "modbus": messages.MODBUS_BASIC,
    "modbus server id": messages.MODBUS_SERVER_ID,
    "netbios": messages.NETBIOS_STATUS,
    "netbios request": netbios.encode_request(7),
    "ipv6": messages.IPV6_SOLICITATION,
    "bacnet": messages.BACNET_I_AM,
    "opcua channel": messages.OPCUA_CHANNEL,
    "opcua endpoints": messages.OPCUA_ENDPOINTS,
    "snmp": messages.SNMP_ANSWER,
    "dns": messages.MDNS_ANSWER,
    "dns query": dns.encode_query((dns.ALL_SERVICES,)),
    "http": b"HTTP/1.1 200 OK\r\nContent-Length: 20\r\n\r\n<title>Gale</title>\n",
    "pcapng": pcapng.encode_header("usb0") + pcapng.encode_packet(bytes(60), 1_000_000_007, True),
}

SHORTEST = {
    # An Ethernet payload may have any length; a vendor area may be missing; what is padded, or
    # ends with the connection, may be shorter; a capture that was cut off ends there; of a message
    # of records those before the cut are read.
    "ethernet": 14,
    "bootp and dhcp": 236,
    "dcp": 70,
    "dcp set": 33,
    "lldp": 36,
    "http": 39,
    "pcapng": 4,
    "opcua endpoints": 200,
    "dns": 115,
    "netbios": len(messages.NETBIOS_STATUS) - 40,
    # A name that is cut is read as far as it goes; a route may have no step.
    "cip attributes of an identity": 15,
    "cip route": 0,
}
"""How long a sample must be at least to be read at all, where that is less than the whole."""
