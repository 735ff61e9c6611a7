"""MACs, IPv4 addresses, masks and ranges: reading them as people write them.

Values are the standard library's ``IPv4Address``, ``IPv4Interface`` and ``IPv4Network``, and
``Mac`` from here. Every reader raises ``AddressError`` with a sentence that names the value, the
octet or digit that is wrong, and its limit.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from ipaddress import IPv4Address, IPv4Interface, IPv4Network, IPv6Address

from portcall.core.trouble import BadInput

_HEX = "0123456789abcdefABCDEF"
_LETTERS = frozenset("abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-")
LIMITED_BROADCAST = IPv4Address("255.255.255.255")
UNSPECIFIED = IPv4Address("0.0.0.0")
SELF_ASSIGNED = IPv4Network("169.254.0.0/16")
"""One subnet on every wire: hosts that got no address choose one there (RFC 3927 §2.1)."""

_USUAL_PREFIX = 24


class AddressError(BadInput):
    """An address, mask, MAC or range that cannot be what was meant."""


class Mac(bytes):
    """A 48-bit MAC address (EUI-48, IEEE 802-2014 §8), written ``02-5A-1D-00-00-10``.

    It is its six octets, which are quick to make, compare and look up: there may be many.
    """

    __slots__ = ()

    def __new__(cls, octets: bytes) -> Mac:
        """Check the length."""
        if len(octets) != 6:
            raise AddressError(f"a MAC has 6 octets, not {len(octets)}")
        return bytes.__new__(cls, octets)

    @property
    def octets(self) -> bytes:
        """As plain bytes, to put on the wire."""
        return bytes(self)

    def __repr__(self) -> str:
        return f"Mac({self})"

    def __str__(self) -> str:
        return self.hex("-").upper()

    @property
    def is_group(self) -> bool:
        """True for multicast and broadcast, which no device can have as its own."""
        return bool(self[0] & 1)


BROADCAST = Mac(b"\xff" * 6)
NO_MAC = Mac(bytes(6))


def is_written_as_mac(text: str) -> bool:
    """Whether a MAC is meant by what was typed where an address could stand, too.

    Twelve hex digits are, however they are grouped, and six groups of one or two. An IPv4 address
    of four three-digit numbers has twelve digits as well; four numbers between dots are an address.
    """
    groups = re.split(r"[:\-. ]+", text.strip())
    if len(groups) == 4 and text.count(".") == 3 and all(each.isdecimal() for each in groups):
        return False
    in_pairs = len(groups) == 6 and all(1 <= len(each) <= 2 for each in groups)
    digits = "".join(groups)
    return (len(digits) == 12 or in_pairs) and all(digit in _HEX for digit in digits)


def parse_mac(text: str) -> Mac:
    """Read a MAC in any usual notation: ``:``, ``-``, ``.`` or spaces between groups, or none.

    Raises AddressError when a character is no hex digit, the digits are not 12, or the address
    is a group or zero address, which no device has.
    """
    shown = text.strip()
    groups = re.split(r"[:\-. ]+", shown)
    if len(groups) == 6 and all(1 <= len(group) <= 2 for group in groups):
        groups = [group.rjust(2, "0") for group in groups]
    digits = "".join(groups)
    for digit in digits:
        if digit not in _HEX:
            raise AddressError(f"{shown}: {digit!r} is not a hex digit (0-9, A-F)")
    if len(digits) != 12:
        raise AddressError(f"{shown or 'empty'}: has {len(digits)} hex digits", "a MAC has 12")
    mac = Mac(bytes.fromhex(digits))
    if mac.is_group:
        raise AddressError(
            f"{shown}: is a group address", "in a device's own MAC the first octet is even"
        )
    if mac == NO_MAC:
        raise AddressError(f"{shown}: is all zeros", "read the MAC on the device's label")
    return mac


def parse_address(text: str) -> IPv4Address:
    """Read a dotted IPv4 address. Raises AddressError naming the octet and its limit."""
    shown = text.strip()
    if is_ipv6(shown):
        raise AddressError(
            f"{shown}: is an IPv6 address",
            "name the device by its IPv4 address, its MAC or its name",
        )
    octets = shown.split(".")
    if len(octets) != 4 or shown == "":
        count = 0 if shown == "" else len(octets)
        noun = "octet" if count == 1 else "octets"
        raise AddressError(f"{shown or 'empty'}: has {count} {noun}", "an IPv4 address has 4")
    values = [_octet(shown, number, octet) for number, octet in enumerate(octets, start=1)]
    return IPv4Address(bytes(values))


def is_ipv6(text: str) -> bool:
    """Whether this is an IPv6 address (RFC 4291 §2.2), with or without the adapter behind it."""
    try:
        return ":" in text and bool(IPv6Address(text))
    except ValueError:
        return False


def _octet(shown: str, number: int, text: str) -> int:
    if not (text.isascii() and text.isdigit()):
        raise AddressError(f"{shown}: octet {number} is {text!r}", "an octet is a number, 0 to 255")
    if len(text) > 1 and text.startswith("0"):
        # Some programs read 010 as octal 8: the same text would be two addresses.
        plain = text.lstrip("0") or "0"
        raise AddressError(
            f"{shown}: octet {number} is written {text}, which some programs read as octal",
            f"write {plain}",
        )
    if len(text) > 3 or int(text) > 255:
        raise AddressError(f"{shown}: octet {number} is {text}", "an octet is 0 to 255")
    return int(text)


def parse_mask(text: str) -> int:
    """Read a mask, dotted or as a prefix length with or without ``/``; gives the prefix length.

    Raises AddressError for a mask that is not contiguous (RFC 950 allows them, RFC 1812 §2.2.5.2
    and every device since do not), or a length that is not 1 to 31.
    """
    shown = text.strip()
    plain = shown.removeprefix("/")
    if plain.isascii() and plain.isdigit():
        length = int(plain) if len(plain) <= 3 else 999
        if not 1 <= length <= 31:
            raise AddressError(f"{shown}: a prefix length is 1 to 31 (24 is 255.255.255.0)")
        return length
    bits = f"{int(parse_address(shown)):032b}"
    if "01" in bits:
        octet = (bits.index("01") + 1) // 8 + 1
        raise AddressError(
            f"{shown}: is not contiguous: octet {octet} has a one after a zero",
            "a mask is ones from the left, then zeros (255.255.255.0)",
        )
    length = bits.count("1")
    if not 1 <= length <= 31:
        raise AddressError(f"{shown}: leaves no subnet to work in", "a usual mask is 255.255.255.0")
    return length


def parse_interface(text: str) -> IPv4Interface:
    """Read ``10.61.20.5/24`` (or ``/255.255.255.0``) as a host's address with its mask.

    Raises AddressError also when the address is the network or broadcast number.
    """
    address_text, slash, mask_text = text.strip().partition("/")
    if not slash:
        raise AddressError(f"{text.strip()}: no mask", f"write it as {text.strip()}/24")
    interface = IPv4Interface((parse_address(address_text), parse_mask(mask_text)))
    check_host(interface)
    return interface


def parse_subnet(text: str) -> IPv4Network:
    """Read ``10.61.20.0/24`` as a subnet; host bits are an error that names the subnet meant."""
    address_text, slash, mask_text = text.strip().partition("/")
    if not slash:
        raise AddressError(f"{text.strip()}: no mask", "write a subnet as 10.61.20.0/24")
    address, prefix = parse_address(address_text), parse_mask(mask_text)
    network = IPv4Network((address, prefix), strict=False)
    if network.network_address != address:
        raise AddressError(
            f"{text.strip()}: is a host in {network}", f"write the subnet as {network}"
        )
    return network


def check_host(interface: IPv4Interface) -> None:
    """Raise AddressError unless this address can be a device's own under this mask."""
    address, network = interface.ip, interface.network
    check_device_address(address)
    if network.prefixlen < 31:
        if address == network.network_address:
            raise AddressError(
                f"{address}: is the network number of {network}",
                f"a device has one of {network[1]} to {network[-2]}",
            )
        if address == network.broadcast_address:
            raise AddressError(
                f"{address}: is the broadcast address of {network}",
                f"a device has one of {network[1]} to {network[-2]}",
            )


def check_device_address(address: IPv4Address) -> None:
    """Raise AddressError for addresses no device can have, whatever the mask (RFC 6890)."""
    if address == LIMITED_BROADCAST:
        raise AddressError(f"{address}: is the broadcast address of every network")
    first = address.packed[0]
    if first == 0:
        raise AddressError(f"{address}: octet 1 is 0", "a device's address starts with 1 to 223")
    if first == 127:
        raise AddressError(f"{address}: octet 1 is 127, which stays inside the computer (loopback)")
    if first >= 224:
        raise AddressError(
            f"{address}: octet 1 is {first}", "a device's address starts with 1 to 223"
        )


@dataclass(frozen=True, slots=True)
class AddressRange:
    """Addresses from ``first`` to ``last``, both included."""

    first: IPv4Address
    last: IPv4Address

    def __len__(self) -> int:
        return int(self.last) - int(self.first) + 1

    def __iter__(self) -> Iterator[IPv4Address]:
        return (IPv4Address(number) for number in range(int(self.first), int(self.last) + 1))

    def __contains__(self, address: object) -> bool:
        return isinstance(address, IPv4Address) and self.first <= address <= self.last

    def __str__(self) -> str:
        return str(self.first) if self.first == self.last else f"{self.first}-{self.last}"


def hosts(network: IPv4Network) -> AddressRange:
    """The addresses of a subnet that a device may have: all but network and broadcast number."""
    if network.prefixlen >= 31:
        return AddressRange(network[0], network[-1])
    return AddressRange(network[1], network[-2])


def assumed_prefix(address: IPv4Address) -> int:
    """The prefix length of an address where nobody says: 24, but for one that is self-assigned."""
    return SELF_ASSIGNED.prefixlen if address in SELF_ASSIGNED else _USUAL_PREFIX


def assumed_network(address: IPv4Address) -> IPv4Network:
    """The subnet an address is taken to be in where nobody says."""
    return IPv4Network((address, assumed_prefix(address)), strict=False)


def may_be_chosen(address: IPv4Address) -> bool:
    """False for the first and last 256 self-assigned ones, which are reserved (RFC 3927 §2.1)."""
    return address not in SELF_ASSIGNED or 0 < address.packed[2] < 255


def parse_range(text: str) -> AddressRange:
    """Read what to look at: a subnet, one address, ``10.61.20.5-10.61.20.40`` or ``…5-40``."""
    shown = text.strip()
    if "/" in shown:
        return hosts(parse_subnet(shown))
    first_text, dash, last_text = shown.partition("-")
    first = parse_address(first_text)
    if not dash:
        check_device_address(first)
        return AddressRange(first, first)
    if "." not in last_text:
        last_text = f"{first_text.strip().rpartition('.')[0]}.{last_text.strip()}"
    last = parse_address(last_text)
    if last < first:
        raise AddressError(f"{shown}: ends below where it starts", f"write {last}-{first}")
    check_device_address(first)
    check_device_address(last)
    return AddressRange(first, last)


def joined(ranges: Iterable[AddressRange]) -> tuple[AddressRange, ...]:
    """The same addresses, each once, in order."""
    result: list[AddressRange] = []
    for span in sorted(ranges, key=lambda each: (each.first, each.last)):
        if result and int(span.first) <= int(result[-1].last) + 1:
            last = max(result[-1].last, span.last)
            result[-1] = AddressRange(result[-1].first, last)
        else:
            result.append(span)
    return tuple(result)


def is_host_name(text: str) -> bool:
    """Whether a name may be a host's: letters, digits and inner hyphens (RFC 1123 §2.1)."""
    return (
        0 < len(text) <= 63
        and _LETTERS.issuperset(text)
        and not (text.startswith("-") or text.endswith("-"))
    )
