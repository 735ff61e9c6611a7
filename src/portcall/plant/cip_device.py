"""The answers of a simulated CIP device, over UDP and over TCP alike."""

from __future__ import annotations

from ipaddress import IPv4Interface

from portcall.core.address import UNSPECIFIED
from portcall.core.wire import cip, cip_file, cip_link, cip_message, cip_route, cip_tcpip
from portcall.core.wire.cip_tcpip import Attribute, ConfigurationCapability, Control
from portcall.core.wire.dhcp import prefix_length
from portcall.core.wire.octets import Malformed
from portcall.plant.memory import Memory, Verdict
from portcall.plant.parts import configuration, interfaces, link_value, sent_on
from portcall.plant.scenario import Asks, Setting

_SESSION = 0x0000CA11
"""One session is enough for a device that is asked by one workstation at a time."""

_OPERATIONAL = 3
"""CIP volume 1 §5-2.2.1, state of the identity object."""

_IDLE, _IN_RUN = 0x0030, 0x0061
"""Its status: no connections; owned, and a connection in run mode."""

_CONFIGURED = 1
"""Volume 2 §5-4.3.2.1."""

_CONTROL = {None: Control.STORED, Asks.BOOTP: Control.BOOTP, Asks.DHCP: Control.DHCP}
_ASKS = {int(control): asks for asks, control in _CONTROL.items()}


def cip_reply(memory: Memory, request: bytes) -> bytes | None:
    """The answer to a CIP encapsulation message; None to what this device does not answer."""
    try:
        asked = cip.parse(request)
        if asked.command == cip.LIST_IDENTITY:
            return cip.encode_identity(_identity(memory), asked.context)
        if asked.command == cip_message.REGISTER_SESSION:
            return cip.encode(asked._replace(session=_SESSION))
        if asked.command == cip_message.SEND_RR_DATA and asked.session == _SESSION:
            wanted = cip_message.parse_request(cip_message.parse_unconnected(asked))
            response = _serve(memory, wanted)
            if response is None:
                return None
            answer = cip_message.encode_response(response)
            return cip_message.encode_unconnected(_SESSION, answer, asked.context)
    except Malformed:
        pass
    return None


def _identity(memory: Memory) -> cip.Identity:
    plate = memory.entry.nameplate
    return cip.Identity(
        memory.interface.ip if memory.interface else UNSPECIFIED,
        cip.PORT,
        plate.vendor,
        plate.device_type,
        plate.product_code,
        plate.major,
        plate.minor,
        _IN_RUN if memory.entry.in_run else _IDLE,
        plate.serial,
        plate.product.encode("latin-1", "replace"),
        _OPERATIONAL,
    )


def _serve(memory: Memory, wanted: cip_message.Request) -> cip_message.Response | None:
    """The response; None where the device cuts the connection instead."""

    def response(status: int, data: bytes = b"") -> cip_message.Response:
        return cip_message.Response(wanted.service, status, data)

    place = (wanted.class_number, wanted.instance)
    if wanted.service == cip_message.RESET and place == (cip_message.IDENTITY, 1):
        memory.restart()
        return response(cip_message.SUCCESS)
    if place == (cip_file.FILE, cip_file.DESCRIPTION) and memory.entry.description:
        return response(*_serve_description(memory, wanted))
    if place == (cip_route.CONNECTION_MANAGER, 1) and wanted.service == cip_route.UNCONNECTED_SEND:
        return sent_on(memory, wanted.data)
    if wanted.class_number == cip_link.ETHERNET_LINK:
        value = link_value(memory, wanted.instance, wanted.attribute)
        if wanted.service != cip_message.GET_ATTRIBUTE_SINGLE or value is None:
            return response(cip_message.PATH_UNKNOWN)
        return response(cip_message.SUCCESS, value)
    if wanted.class_number == cip_tcpip.TCP_IP_INTERFACE and wanted.instance > 1:
        others = _serve_interface(memory, wanted)
        if others is not None:
            return others
    if wanted.class_number == cip_tcpip.TCP_IP_INTERFACE and memory.other_port is not None:
        if wanted.instance == 0 and wanted.attribute == cip_tcpip.LAST_INSTANCE:
            return response(cip_message.SUCCESS, (2).to_bytes(2, "little"))
        if wanted.instance == 1 and wanted.attribute == Attribute.CONFIGURATION:
            return _serve_other_port(memory, wanted)
        place = (place[0], wanted.instance - 1)
    values = _values(memory)
    if place == (cip_message.IDENTITY, 1) and wanted.service == cip_message.GET_ATTRIBUTES_ALL:
        return response(cip_message.SUCCESS, cip.encode_attributes(_identity(memory)))
    if place != (cip_tcpip.TCP_IP_INTERFACE, 1) or wanted.attribute not in values:
        return response(cip_message.PATH_UNKNOWN)
    if wanted.service == cip_message.GET_ATTRIBUTE_SINGLE:
        return response(cip_message.SUCCESS, values[wanted.attribute])
    if wanted.service == cip_message.SET_ATTRIBUTE_SINGLE:
        status = _set(memory, wanted.attribute, wanted.data)
        return None if status is None else response(status)
    return response(cip_message.SERVICE_NOT_SUPPORTED)


def _serve_description(memory: Memory, wanted: cip_message.Request) -> tuple[int, bytes]:
    """A general status and data: the file object's answer."""
    file = memory.entry.description
    values = {
        cip_file.Attribute.SIZE: len(file),
        cip_file.Attribute.CHECKSUM: cip_file.checksum(file),
    }
    if wanted.service == cip_message.GET_ATTRIBUTE_SINGLE and wanted.attribute in values:
        attribute = cip_file.Attribute(wanted.attribute)
        return cip_message.SUCCESS, cip_file.encode_number(values[attribute], attribute)
    if wanted.service == cip_file.INITIATE_UPLOAD and wanted.data:
        memory.sends_pieces_of, memory.next_piece = max(1, wanted.data[0]), 0
        return cip_message.SUCCESS, cip_file.encode_upload(
            cip_file.Upload(len(file), memory.sends_pieces_of)
        )
    if wanted.service == cip_file.UPLOAD_TRANSFER and wanted.data and memory.sends_pieces_of:
        return cip_message.SUCCESS, cip_file.encode_transfer(_piece(memory, wanted.data[0]))
    return cip_message.SERVICE_NOT_SUPPORTED, b""


def _piece(memory: Memory, number: int) -> cip_file.Transfer:
    """A piece of the description, the next one or one again; behind the last is the checksum."""
    file, length = memory.entry.description, memory.sends_pieces_of
    # Pieces are numbered modulo 256: the piece nearest to the next one is meant.
    nearest = memory.next_piece + (number - memory.next_piece + 128) % 256 - 128
    memory.next_piece = nearest + 1
    data = file[nearest * length : (nearest + 1) * length]
    is_last = (nearest + 1) * length >= len(file)
    if is_last:
        data += cip_file.encode_number(cip_file.checksum(file), cip_file.Attribute.CHECKSUM)
    kinds = {
        (True, True): cip_file.Piece.ONLY,
        (True, False): cip_file.Piece.FIRST,
        (False, True): cip_file.Piece.LAST,
    }
    kind = kinds.get((nearest == 0, is_last), cip_file.Piece.MIDDLE)
    return cip_file.Transfer(number, kind, data)


def _serve_other_port(memory: Memory, wanted: cip_message.Request) -> cip_message.Response:
    """The configuration of the first interface: that it was set would be the wrong one set."""
    own = memory.other_port
    assert own is not None
    data = b""
    if wanted.service == cip_message.SET_ATTRIBUTE_SINGLE:
        told = cip_tcpip.parse_configuration(wanted.data)
        memory.other_port = IPv4Interface((told.address, prefix_length(told.mask) or 32))
    else:
        nothing = (UNSPECIFIED,) * 3
        told = cip_tcpip.InterfaceConfiguration(own.ip, own.netmask, *nothing)
        data = cip_tcpip.encode_configuration(told)
    return cip_message.Response(wanted.service, cip_message.SUCCESS, data)


def _serve_interface(memory: Memory, wanted: cip_message.Request) -> cip_message.Response | None:
    """The answer of an interface on another wire, or on none; None where there is none."""
    own = next((each for each in interfaces(memory) if each.number == wanted.instance), None)
    if own is None:
        return None

    def response(status: int, data: bytes = b"") -> cip_message.Response:
        return cip_message.Response(wanted.service, status, data)

    number = wanted.instance - 2
    if wanted.service == cip_message.SET_ATTRIBUTE_SINGLE:
        if wanted.attribute != Attribute.CONFIGURATION or number >= len(memory.legs):
            return response(cip_message.NOT_SETTABLE)
        told = cip_tcpip.parse_configuration(wanted.data)
        prefix = prefix_length(told.mask)
        if prefix is None or told.address == UNSPECIFIED:
            return response(cip_message.INVALID_VALUE)
        memory.set_leg(number, IPv4Interface((told.address, prefix)))
        return response(cip_message.SUCCESS)
    word = cip_tcpip.encode_word
    values: dict[int, bytes] = {
        Attribute.STATUS: word(_CONFIGURED),
        Attribute.CAPABILITY: word(ConfigurationCapability.SETTABLE),
        Attribute.CONTROL: word(Control.STORED),
        Attribute.CONFIGURATION: configuration(own.address or IPv4Interface("0.0.0.0/0")),
        Attribute.HOST_NAME: cip_tcpip.encode_text(memory.host_name.encode()),
        cip_link.PHYSICAL_LINK: cip_link.encode_link_path(wanted.instance),
    }
    if wanted.attribute not in values:
        return response(cip_message.PATH_UNKNOWN)
    return response(cip_message.SUCCESS, values[wanted.attribute])


def _values(memory: Memory) -> dict[int, bytes]:
    own = memory.interface or IPv4Interface("0.0.0.0/0")
    gateway = memory.gateway or UNSPECIFIED
    configuration = cip_tcpip.InterfaceConfiguration(
        own.ip, own.netmask, gateway, UNSPECIFIED, UNSPECIFIED
    )
    capability = (
        ConfigurationCapability.BOOTP
        | ConfigurationCapability.DHCP
        | ConfigurationCapability.SETTABLE
    )
    if memory.entry.setting is Setting.RESTARTS:
        capability |= ConfigurationCapability.NEEDS_RESTART
    word = cip_tcpip.encode_word
    return {
        Attribute.STATUS: word(_CONFIGURED),
        Attribute.CAPABILITY: word(capability),
        Attribute.CONTROL: word(_CONTROL[memory.asks]),
        Attribute.CONFIGURATION: cip_tcpip.encode_configuration(configuration),
        Attribute.HOST_NAME: cip_tcpip.encode_text(memory.host_name.encode()),
        cip_link.PHYSICAL_LINK: cip_link.encode_link_path(1),
    }


def _set(memory: Memory, attribute: int, data: bytes) -> int | None:
    """A general status, or None for a connection that is cut."""
    if attribute == Attribute.CONTROL:
        control = cip_tcpip.parse_word(data)
        if control not in _ASKS:
            return cip_message.INVALID_VALUE
        verdict = memory.set_asks(_ASKS[control])
    elif attribute == Attribute.CONFIGURATION:
        if memory.asks is not None:
            return cip_message.STATE_CONFLICT
        wanted = cip_tcpip.parse_configuration(data)
        prefix = prefix_length(wanted.mask)
        if prefix is None or wanted.address == UNSPECIFIED:
            return cip_message.INVALID_VALUE
        gateway = None if wanted.gateway == UNSPECIFIED else wanted.gateway
        verdict = memory.set_address(IPv4Interface((wanted.address, prefix)), gateway)
    elif attribute == Attribute.HOST_NAME:
        verdict = memory.set_host_name(cip_tcpip.parse_text(data).decode("ascii", "replace"))
    else:
        return cip_message.NOT_SETTABLE
    refused = cip_message.NOT_SETTABLE
    return {Verdict.DONE: cip_message.SUCCESS, Verdict.REFUSED: refused}.get(verdict)
