"""How a CIP device's address is set: reading it, what to change, and changing it.

The TCP/IP interface object (CIP volume 2 §5-4), and of the identity object (volume 1 §5-2) whether
the device controls something. Two scripts, ``read`` and ``write``, and between them the decision,
which is plain arithmetic: what is in between can be written down before anything is changed.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from ipaddress import IPv4Address, IPv4Interface

from portcall.core.address import UNSPECIFIED
from portcall.core.cip.session import Part, ask, close_session, open_session
from portcall.core.printable import decoded
from portcall.core.talk.dialogue import Exchange, Script
from portcall.core.wire import cip, cip_message
from portcall.core.wire.cip_tcpip import (
    STATUS_BY_SWITCHES,
    TCP_IP_INTERFACE,
    Attribute,
    Capability,
    Control,
    InterfaceConfiguration,
    encode_configuration,
    encode_text,
    encode_word,
    parse_configuration,
    parse_text,
    parse_word,
)
from portcall.core.wire.dhcp import prefix_length

_CONTROL_MASK = 0x0F

_OWNED = 1 << 0
_EXTENDED, _RUNNING = 0x00F0, 0x0060
"""Volume 1 §5-2.2.1.5: status bit 0, and bits 4 to 7, "at least one I/O connection in run mode"."""

_OBTAINS = {
    int(Control.STORED): "stored in the device",
    int(Control.BOOTP): "by BOOTP",
    int(Control.DHCP): "by DHCP",
}


@dataclass(frozen=True, slots=True)
class CipSettings:
    """The attributes as they were read; ``host_name`` is None where the device has none."""

    status: int
    capability: int
    control: int
    configuration: InterfaceConfiguration
    host_name: bytes | None = None

    @property
    def is_stored(self) -> bool:
        """Whether the address is held over a power cycle."""
        return self.control & _CONTROL_MASK == Control.STORED

    @property
    def obtains(self) -> str:
        """Where the address comes from, in words."""
        return obtains(self.control) or "in a way of its own"

    @property
    def interface(self) -> IPv4Interface | None:
        """The address with its mask, or None where that is no mask."""
        prefix = prefix_length(self.configuration.mask)
        if prefix is None:
            return None
        return IPv4Interface((self.configuration.address, prefix))

    def __str__(self) -> str:
        return f"{self.interface or self.configuration.address} {self.obtains}"

    def cannot(self) -> str | None:
        """Why nothing can be set, or None when it can."""
        if self.status & _CONTROL_MASK == STATUS_BY_SWITCHES:
            return "its address is set by the switches on the device"
        if not self.capability & Capability.SETTABLE:
            return "it says that its address cannot be set over the network"
        return None


@dataclass(frozen=True, slots=True)
class Change:
    """An attribute to set, in words and octets; ``minor`` ones do not stop the others."""

    what: str
    attribute: Attribute
    data: bytes
    minor: bool = False


@dataclass(frozen=True, slots=True)
class Answered:
    """What the device said to a change: a general status, or None for silence."""

    change: Change
    status: int | None

    def __str__(self) -> str:
        if self.status is None:
            return f"no answer to setting {self.change.what}"
        if self.status == cip_message.SUCCESS:
            return f"{self.change.what} set"
        return f"setting {self.change.what}: {cip_message.status_words(self.status)}"


def obtains(control: int) -> str | None:
    """Where an address comes from, in words; None for a number the standard does not have."""
    return _OBTAINS.get(control & _CONTROL_MASK)


def controls(identity: cip.Identity) -> str | None:
    """Why a device is better left alone: what it is doing, or None when it is idle."""
    if identity.status & _EXTENDED == _RUNNING:
        return "an I/O connection of it is in run mode"
    if identity.status & _OWNED:
        return "a controller owns it"
    return None


def read() -> Script[cip.Identity | CipSettings]:
    """Who it is, and how its address is set; nothing for what it does not tell."""
    reply = yield Exchange(cip.list_identity(), cip.whole_length)
    if reply is not None:
        yield cip.parse_identity(cip.parse(reply))
    session = yield from open_session()
    if session is None:
        return
    configuration = yield from get(session, Attribute.CONFIGURATION)
    control = yield from get(session, Attribute.CONTROL)
    if configuration and control:
        status = yield from get(session, Attribute.STATUS)
        capability = yield from get(session, Attribute.CAPABILITY)
        name = yield from get(session, Attribute.HOST_NAME)
        yield CipSettings(
            parse_word(status) if status else 0,
            # Without word of it, trying tells.
            parse_word(capability) if capability else Capability.SETTABLE,
            parse_word(control),
            parse_configuration(configuration),
            None if name is None else parse_text(name),
        )
    yield from close_session(session)


def write(changes: Sequence[Change], restart: bool = False) -> Script[Answered]:
    """Make changes in this order, up to the first that the device does not take.

    A device that takes its address by BOOTP or DHCP may refuse one until its control is set (status
    0x0C, volume 2 §5-4.3.2.5); what it refuses so is tried again after the others, once. With
    ``restart`` the device is told to start again at the end (volume 1 §5-2.3.1, Reset).
    """
    session = yield from open_session()
    if session is None:
        for change in changes[:1]:
            yield Answered(change, None)
        return
    waiting, again = list(changes), set[Attribute]()
    while waiting:
        change = waiting.pop(0)
        response = yield from ask(session, _setting(change))
        status = None if response is None else response.status
        if status == cip_message.STATE_CONFLICT and waiting and change.attribute not in again:
            again.add(change.attribute)
            waiting.append(change)
            continue
        yield Answered(change, status)
        if status != cip_message.SUCCESS and not change.minor:
            return
    if restart:
        reset = cip_message.Request(cip_message.IDENTITY, 1, None, cip_message.RESET, b"\0")
        yield from ask(session, reset)
    yield from close_session(session)


def keeping(now: CipSettings, name: str | None = None) -> tuple[Change, ...]:
    """What is left to do until the device holds the address it has."""
    changes = list(_naming(now, name))
    if not now.is_stored:
        changes.append(_control(now, Control.STORED))
    return tuple(changes)


def moving(
    now: CipSettings,
    interface: IPv4Interface,
    gateway: IPv4Address | None,
    name: str | None = None,
) -> tuple[Change, ...]:
    """What is left to do until the device holds this address; what it has besides stays."""
    changes = list(_naming(now, name))
    wanted = now.configuration._replace(
        address=interface.ip,
        mask=interface.netmask,
        gateway=gateway or UNSPECIFIED,
    )
    if wanted != now.configuration:
        data = encode_configuration(wanted)
        changes.append(Change(f"the address {interface}", Attribute.CONFIGURATION, data))
    if not now.is_stored:
        changes.append(_control(now, Control.STORED))
    return tuple(changes)


def releasing(now: CipSettings, before: str = "") -> tuple[Change, ...]:
    """What makes it ask for its address again; () when it can neither by BOOTP nor by DHCP.

    By what it asked ``before``, as ``CipSettings`` says that in words, else by BOOTP if it can.
    """
    ways = [(Control.BOOTP, Capability.BOOTP), (Control.DHCP, Capability.DHCP)]
    if before.endswith(_OBTAINS[Control.DHCP]):
        ways.reverse()
    return tuple(_control(now, control) for control, bit in ways if now.capability & bit)[:1]


def _control(now: CipSettings, control: Control) -> Change:
    # The bits above say whether it asks name servers, and are none of our business.
    number = now.control & ~_CONTROL_MASK | control
    words = {
        Control.STORED: "the address it has as its own",
        Control.BOOTP: "asking by BOOTP",
        Control.DHCP: "asking by DHCP",
    }
    return Change(words[control], Attribute.CONTROL, encode_word(number))


def _naming(now: CipSettings, name: str | None) -> tuple[Change, ...]:
    if name is None or now.host_name is None or decoded(now.host_name) == name:
        return ()
    data = encode_text(name.encode("ascii"))
    return (Change(f"the host name {name}", Attribute.HOST_NAME, data, minor=True),)


def get(session: int, attribute: Attribute) -> Part[bytes | None]:
    """One attribute of the object's only instance; None when the device refuses or is silent."""
    response = yield from ask(session, cip_message.Request(TCP_IP_INTERFACE, 1, attribute))
    if response is None or response.status != cip_message.SUCCESS:
        return None
    return response.data


def _setting(change: Change) -> cip_message.Request:
    return cip_message.Request(
        TCP_IP_INTERFACE,
        1,
        change.attribute,
        cip_message.SET_ATTRIBUTE_SINGLE,
        change.data,
    )
