"""What a simulated CIP device answers, over UDP and over TCP alike."""

from __future__ import annotations

from dataclasses import replace
from ipaddress import IPv4Interface

from portcall.core.address import UNSPECIFIED
from portcall.core.wire import cip, cip_message
from portcall.core.wire.octets import Malformed
from portcall.plant.scenario import Asks, DeviceEntry

_SESSION = 0x0000CA11
"""One session is enough for a device that is asked by one workstation at a time."""

_OPERATIONAL = 3
"""CIP volume 1 §5-2.2.1, state of the identity object."""

_CONTROL = {None: 0, Asks.BOOTP: 1, Asks.DHCP: 2}
"""Volume 2 §5-4.3.2.3."""


def cip_reply(entry: DeviceEntry, interface: IPv4Interface, request: bytes) -> bytes | None:
    """The answer to a CIP encapsulation message; None to what this device does not answer."""
    try:
        asked = cip.parse(request)
        if asked.command == cip.LIST_IDENTITY:
            return cip.encode_identity(_identity(entry, interface), asked.context)
        if asked.command == cip_message.REGISTER_SESSION:
            return cip.encode(replace(asked, session=_SESSION))
        if asked.command == cip_message.SEND_RR_DATA and asked.session == _SESSION:
            wanted = cip_message.parse_request(cip_message.parse_unconnected(asked))
            answer = cip_message.encode_response(_attribute(wanted, entry, interface))
            return cip_message.encode_unconnected(_SESSION, answer, asked.context)
    except Malformed:
        pass
    return None


def _identity(entry: DeviceEntry, interface: IPv4Interface) -> cip.Identity:
    plate = entry.nameplate
    return cip.Identity(
        interface.ip,
        cip.PORT,
        plate.vendor,
        plate.device_type,
        plate.product_code,
        plate.major,
        plate.minor,
        0,
        plate.serial,
        plate.product.encode("latin-1", "replace"),
        _OPERATIONAL,
    )


def _attribute(
    wanted: cip_message.AttributeRequest, entry: DeviceEntry, interface: IPv4Interface
) -> cip_message.Response:
    if wanted.service != cip_message.GET_ATTRIBUTE_SINGLE:
        return cip_message.Response(wanted.service, cip_message.SERVICE_NOT_SUPPORTED, b"")
    configuration = cip_message.InterfaceConfiguration(
        interface.ip, interface.netmask, entry.gateway or UNSPECIFIED, UNSPECIFIED, UNSPECIFIED
    )
    name = entry.host_name.encode()
    values = {
        cip_message.CONFIGURATION_CONTROL: _CONTROL[entry.asks].to_bytes(4, "little"),
        cip_message.INTERFACE_CONFIGURATION: cip_message.encode_configuration(configuration),
        cip_message.HOST_NAME: len(name).to_bytes(2, "little") + name + bytes(len(name) % 2),
    }
    place = (wanted.class_number, wanted.instance)
    data = values.get(wanted.attribute)
    if place != (cip_message.TCP_IP_INTERFACE, 1) or data is None:
        return cip_message.Response(wanted.service, cip_message.PATH_UNKNOWN, b"")
    return cip_message.Response(wanted.service, cip_message.SUCCESS, data)
