"""The TCP/IP interface object of a CIP device (volume 2 §5-4): how its address is set."""

from __future__ import annotations

from dataclasses import dataclass
from ipaddress import IPv4Interface

from portcall.core.cip.session import Part, Session, ask
from portcall.core.wire import cip_message
from portcall.core.wire.cip_tcpip import (
    STATUS_BY_SWITCHES,
    TCP_IP_INTERFACE,
    Attribute,
    ConfigurationCapability,
    Control,
    InterfaceConfiguration,
    parse_configuration,
    parse_text,
    parse_word,
)
from portcall.core.wire.dhcp import prefix_length

CONTROL_MASK = 0x0F
"""The bits of control and status that say where the address comes from."""

OBTAINS = {
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
        return self.control & CONTROL_MASK == Control.STORED

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
        if self.status & CONTROL_MASK == STATUS_BY_SWITCHES:
            return "its address is set by the switches on the device"
        if not self.capability & ConfigurationCapability.SETTABLE:
            return "it says that its address cannot be set over the network"
        return None


def obtains(control: int) -> str | None:
    """Where an address comes from, in words; None for a number the standard does not have."""
    return OBTAINS.get(control & CONTROL_MASK)


def get(session: Session, attribute: Attribute) -> Part[bytes | None]:
    """One attribute of the object's only instance; None when the device refuses or is silent."""
    response = yield from ask(session, cip_message.Request(TCP_IP_INTERFACE, 1, attribute))
    if response is None or response.status != cip_message.SUCCESS:
        return None
    return response.data


def read_settings(session: Session) -> Part[CipSettings | None]:
    """How the address is set; None when the device does not tell. Raises Malformed."""
    configuration = yield from get(session, Attribute.CONFIGURATION)
    control = yield from get(session, Attribute.CONTROL)
    if not configuration or not control:
        return None
    status = yield from get(session, Attribute.STATUS)
    capability = yield from get(session, Attribute.CAPABILITY)
    name = yield from get(session, Attribute.HOST_NAME)
    return CipSettings(
        parse_word(status) if status else 0,
        # A device that does not tell its capability may still be settable: trying it shows.
        parse_word(capability) if capability else ConfigurationCapability.SETTABLE,
        parse_word(control),
        parse_configuration(configuration),
        None if name is None else parse_text(name),
    )
