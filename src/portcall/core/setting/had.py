"""The settings of a device before a change: all that may be overwritten, to be had again."""

from __future__ import annotations

from dataclasses import dataclass
from ipaddress import IPv4Address, IPv4Interface

from portcall.core.address import UNSPECIFIED
from portcall.core.cip.interface_object import CONTROL_MASK, CipSettings
from portcall.core.document import OddDocument, Part, a_text, a_truth, an_address
from portcall.core.wire.cip_tcpip import Control, InterfaceConfiguration
from portcall.core.wire.dhcp import prefix_length

CIP, DCP = "CIP", "DCP"

_TEXT = "latin-1"
"""Gives every octet a character, and gets it back: names are kept as the device had them."""


@dataclass(frozen=True, slots=True)
class Had:
    """How a device was set, as it said itself by the protocol ``by``.

    ``name`` is the host name (CIP) or station name (DCP), None where it told none. ``control`` is
    the CIP configuration control; ``settings`` are all of these in words.
    """

    by: str
    settings: str
    configuration: InterfaceConfiguration
    name: str | None = None
    control: int | None = None

    @property
    def interface(self) -> IPv4Interface | None:
        """The address with its mask; None where it had none."""
        prefix = prefix_length(self.configuration.mask)
        if prefix is None or self.configuration.address == UNSPECIFIED:
            return None
        return IPv4Interface((self.configuration.address, prefix))

    @property
    def asks(self) -> bool:
        """Whether it asked for its address, by BOOTP or DHCP."""
        return self.control is not None and self.control & CONTROL_MASK != Control.STORED

    @property
    def entry(self) -> dict[str, object]:
        """As it is written into the record."""
        told = self.configuration
        addresses = {key: str(getattr(told, key)) for key in _ADDRESSES}
        domain = told.domain.decode(_TEXT)
        return {**addresses, "domain": domain, "name": self.name, "control": self.control}


def asks_again(entry: Part) -> bool:
    """Whether a device was left asking for its address, as the entry of a record has it.

    Entries of versions before 1.0 have that in their settings only.
    """
    asks = entry.get("asks", a_truth)
    if asks is not None:
        return asks
    return entry.get("settings", a_text, "").endswith(("by BOOTP", "by DHCP"))


_ADDRESSES = ("address", "mask", "gateway", "name_server", "second_name_server")


def had_by_cip(settings: CipSettings) -> Had:
    """The settings that a CIP device tells of the interface that was asked."""
    name = settings.host_name
    return Had(
        CIP,
        str(settings),
        settings.configuration,
        None if name is None else name.decode(_TEXT),
        settings.control,
    )


def read_had(step: Part) -> Had | None:
    """The settings in a record; None where it cannot be read, or is of an older kind."""
    had, by = step.part("had"), step.get("by", a_text)
    if by not in (CIP, DCP) or not {"name", "control"} <= set(had):
        return None
    try:
        addresses = [had.take(key, an_address) for key in _ADDRESSES]
        domain = had.take("domain", str).encode(_TEXT)
        name = had.get("name", str)
        if by == CIP and name is not None:
            name.encode(_TEXT)
    except (OddDocument, UnicodeEncodeError):
        return None
    configuration = InterfaceConfiguration._make((*addresses, domain))
    return Had(by, step.get("settings", a_text, ""), configuration, name, had.get("control", int))


def gateway_for(
    had: IPv4Address, interface: IPv4Interface, wanted: IPv4Address | None
) -> IPv4Address:
    """The gateway to set with an address: the wanted one, or else the one it has.

    One that is not in the new subnet could not be reached there: it has none then.
    """
    if wanted is not None:
        return wanted
    return had if had in interface.network and had != interface.ip else UNSPECIFIED
