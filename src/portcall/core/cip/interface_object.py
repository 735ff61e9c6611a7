"""The TCP/IP interface object of a CIP device (volume 2 §5-4): how its address is set.

A device with two ports has two instances of it, each with an address of its own. Which one is meant
is told by the address at which the device was reached, and by nothing else.
"""

from __future__ import annotations

from dataclasses import dataclass
from ipaddress import IPv4Address, IPv4Interface

from portcall.core.cip.session import Part, Session, ask
from portcall.core.wire import cip_message
from portcall.core.wire.cip_tcpip import (
    LAST_INSTANCE,
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
    instance: int = 1
    """The number of the interface that these are the settings of."""

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


@dataclass(frozen=True, slots=True)
class OtherAddresses:
    """No interface of the device has the address at which it was reached; these are theirs."""

    addresses: tuple[IPv4Address, ...]

    def __str__(self) -> str:
        listed = ", ".join(str(address) for address in self.addresses)
        return (
            f"none of its interfaces says that it has this address, but {listed}; which of them is "
            "meant is not certain. If it waits for a restart, switch it off and on"
        )


@dataclass(frozen=True, slots=True)
class Found:
    """The instance that has an address, and its configuration."""

    instance: int
    configuration: InterfaceConfiguration


def get(session: Session, instance: int, attribute: int) -> Part[bytes | None]:
    """One attribute of an instance; None when the device refuses or is silent."""
    response = yield from ask(session, cip_message.Request(TCP_IP_INTERFACE, instance, attribute))
    if response is None or response.status != cip_message.SUCCESS:
        return None
    return response.data


def find_instance(session: Session, at: IPv4Address) -> Part[Found | OtherAddresses | None]:
    """The instance that has the address ``at``; None when the device tells of none.

    Raises Malformed.
    """
    others: list[IPv4Address] = []
    last = None
    for instance in range(1, MOST_INSTANCES + 1):
        wanted = cip_message.Request(TCP_IP_INTERFACE, instance, Attribute.CONFIGURATION)
        response = yield from ask(session, wanted)
        if response is None:
            # The device did not answer. Waiting takes time, and it would not answer the next
            # question either.
            break
        data = response.data if response.status == cip_message.SUCCESS else b""
        if data:
            configuration = parse_configuration(data)
            if configuration.address == at:
                return Found(instance, configuration)
            others.append(configuration.address)
        if last is None:
            highest = yield from get(session, _CLASS, LAST_INSTANCE)
            # The device does not report how many interfaces it has: ask for one after another until
            # one is missing.
            last = parse_word(highest) if highest else 0
        if instance >= last and not (last == 0 and data):
            break
    return OtherAddresses(tuple(others)) if others else None


_CLASS = 0
"""The instance that stands for the class itself (volume 1 §4-4.1)."""

MOST_INSTANCES = 8


def read_settings(session: Session, at: IPv4Address) -> Part[CipSettings | OtherAddresses | None]:
    """How the address ``at`` is set; None when the device does not tell. Raises Malformed."""
    found = yield from find_instance(session, at)
    if not isinstance(found, Found):
        return found
    instance = found.instance
    control = yield from get(session, instance, Attribute.CONTROL)
    if not control:
        return None
    status = yield from get(session, instance, Attribute.STATUS)
    capability = yield from get(session, instance, Attribute.CAPABILITY)
    name = yield from get(session, instance, Attribute.HOST_NAME)
    return CipSettings(
        parse_word(status) if status else 0,
        # A device that does not report this capability may still be settable; trying it shows.
        parse_word(capability) if capability else ConfigurationCapability.SETTABLE,
        parse_word(control),
        found.configuration,
        None if name is None else parse_text(name),
        instance,
    )
