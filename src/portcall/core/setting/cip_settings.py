"""Setting a CIP device's address: what to change, and changing it.

Two scripts, ``read`` and ``write``, and between them the decision, which is plain arithmetic: what
the device had can be written down before anything is changed, and doing it again does nothing.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from ipaddress import IPv4Address, IPv4Interface

from portcall.core.cip.identity_object import RESET, ask_identity
from portcall.core.cip.interface_object import (
    CONTROL_MASK,
    CipSettings,
    OtherAddresses,
    obtains,
    read_settings,
)
from portcall.core.cip.session import ask, close_session, open_session
from portcall.core.printable import decoded
from portcall.core.setting.had import Had, gateway_for
from portcall.core.talk.dialogue import Script
from portcall.core.wire import cip, cip_message
from portcall.core.wire.cip_tcpip import (
    TCP_IP_INTERFACE,
    Attribute,
    ConfigurationCapability,
    Control,
    encode_configuration,
    encode_text,
    encode_word,
)


@dataclass(frozen=True, slots=True)
class AttributeChange:
    """An attribute to set, in words and octets; ``minor`` ones do not stop the others."""

    what: str
    attribute: Attribute
    data: bytes
    instance: int
    minor: bool = False


@dataclass(frozen=True, slots=True)
class Answered:
    """The answer of a device to a change: a general status, or None for silence."""

    change: AttributeChange
    status: int | None

    def __str__(self) -> str:
        if self.status is None:
            return f"no answer to setting {self.change.what}"
        if self.status == cip_message.SUCCESS:
            return f"{self.change.what} set"
        return f"setting {self.change.what}: {cip_message.status_words(self.status)}"


def read(at: IPv4Address) -> Script[cip.Identity | CipSettings | OtherAddresses]:
    """Read the identity, and the settings of the address ``at``; an untold one is left out."""
    identity = yield from ask_identity()
    if identity is not None:
        yield identity
    session = yield from open_session()
    if session is None:
        return
    settings = yield from read_settings(session, at)
    if settings is not None:
        yield settings
    yield from close_session(session)


def write(changes: Sequence[AttributeChange], restart: bool = False) -> Script[Answered]:
    """Make changes in this order, up to the first that the device does not take.

    A device that gets its address by BOOTP or DHCP may refuse a new one until its configuration
    control is set (status 0x0C, volume 2 §5-4.3.2.5). A change that is refused so is tried once
    more after the others. With ``restart`` the device is told to start again at the end (volume 1
    §5-2.3.1, Reset).
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
        yield from ask(session, RESET)
    yield from close_session(session)


def keeping(now: CipSettings, name: str | None = None) -> tuple[AttributeChange, ...]:
    """The changes that are left until the device holds the address it has."""
    changes = list(_naming(now, name))
    if not now.is_stored:
        changes.append(_control(now, Control.STORED))
    return tuple(changes)


def moving(
    now: CipSettings,
    interface: IPv4Interface,
    gateway: IPv4Address | None,
    name: str | None = None,
) -> tuple[AttributeChange, ...]:
    """The changes that are left until the device holds this address; its other settings stay.

    So does its gateway, where none is given and the one that it has is in the new subnet.
    """
    changes = list(_naming(now, name))
    wanted = now.configuration._replace(
        address=interface.ip,
        mask=interface.netmask,
        gateway=gateway_for(now.configuration.gateway, interface, gateway),
    )
    if wanted != now.configuration:
        data = encode_configuration(wanted)
        changes.append(
            AttributeChange(f"the address {interface}", Attribute.CONFIGURATION, data, now.instance)
        )
    if not now.is_stored:
        changes.append(_control(now, Control.STORED))
    return tuple(changes)


def undoing(now: CipSettings, had: Had) -> tuple[AttributeChange, ...]:
    """The changes that are left until the device is set as it was.

    One that asked for its address asks again from its next start; what it has until then stays.
    """
    changes = list(_naming(now, had.name))
    if not had.asks and now.configuration != had.configuration:
        data = encode_configuration(had.configuration)
        what = f"the address {had.interface or had.configuration.address}"
        changes.append(AttributeChange(what, Attribute.CONFIGURATION, data, now.instance))
    if had.control is not None and now.control != had.control:
        what = f"its address {obtains(had.control) or 'as before'}"
        data = encode_word(had.control)
        changes.append(AttributeChange(what, Attribute.CONTROL, data, now.instance))
    return tuple(changes)


def releasing(now: CipSettings, before: Had | None = None) -> tuple[AttributeChange, ...]:
    """The change that makes a device ask for its address again; () when it can ask neither by BOOTP
    nor by DHCP.

    It asks as it did ``before``, or else by BOOTP if it can.
    """
    ways = [
        (Control.BOOTP, ConfigurationCapability.BOOTP),
        (Control.DHCP, ConfigurationCapability.DHCP),
    ]
    asked = before.control if before is not None else None
    if asked is not None and asked & CONTROL_MASK == Control.DHCP:
        ways.reverse()
    return tuple(_control(now, control) for control, bit in ways if now.capability & bit)[:1]


def _control(now: CipSettings, control: Control) -> AttributeChange:
    # The higher bits say whether the device asks name servers; they stay as they are.
    number = now.control & ~CONTROL_MASK | control
    words = {
        Control.STORED: "the address it has as its own",
        Control.BOOTP: "asking by BOOTP",
        Control.DHCP: "asking by DHCP",
    }
    return AttributeChange(words[control], Attribute.CONTROL, encode_word(number), now.instance)


def _naming(now: CipSettings, name: str | None) -> tuple[AttributeChange, ...]:
    if name is None or now.host_name is None or decoded(now.host_name) == name:
        return ()
    data = encode_text(name.encode("latin-1"))
    what = f"the host name {name}"
    return (AttributeChange(what, Attribute.HOST_NAME, data, now.instance, minor=True),)


def _setting(change: AttributeChange) -> cip_message.Request:
    return cip_message.Request(
        TCP_IP_INTERFACE,
        change.instance,
        change.attribute,
        cip_message.SET_ATTRIBUTE_SINGLE,
        change.data,
    )
