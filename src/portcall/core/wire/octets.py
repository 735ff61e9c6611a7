"""Reading octets within bounds: the only way bytes from the network are taken apart."""

from __future__ import annotations

from ipaddress import IPv4Address

from portcall.core.address import Mac


class Malformed(Exception):
    """Bytes that are not what the standard says; ``where`` is the octet at which it showed."""

    def __init__(self, what: str, where: int) -> None:
        super().__init__(f"{what} (at octet {where})")
        self.what = what
        self.where = where


class Reader:
    """Takes values off the front of a bytes-like object and never reads past its end."""

    __slots__ = ("_data", "_layer", "position")

    def __init__(self, data: bytes | bytearray | memoryview, layer: str) -> None:
        self._data = bytes(data)
        self._layer = layer
        self.position = 0

    @property
    def remaining(self) -> int:
        """Octets not read yet."""
        return len(self._data) - self.position

    def take(self, count: int) -> bytes:
        """The next ``count`` octets. Raises Malformed when there are fewer."""
        end = self.position + count
        if end > len(self._data):
            raise Malformed(
                f"{self._layer} needs {count} more octets, {self.remaining} are left", self.position
            )
        taken = self._data[self.position : end]
        self.position = end
        return taken

    def rest(self) -> bytes:
        """All that is left."""
        return self.take(self.remaining)

    def u8(self) -> int:
        """One octet."""
        position = self.position
        if position >= len(self._data):
            self.take(1)
        self.position = position + 1
        return self._data[position]

    def u16(self) -> int:
        """Two octets in network order."""
        return int.from_bytes(self.take(2), "big")

    def u32(self) -> int:
        """Four octets in network order."""
        return int.from_bytes(self.take(4), "big")

    def u16_little(self) -> int:
        """Two octets, least significant first, as CIP has them."""
        return int.from_bytes(self.take(2), "little")

    def u32_little(self) -> int:
        """Four octets, least significant first, as CIP has them."""
        return int.from_bytes(self.take(4), "little")

    def mac(self) -> Mac:
        """Six octets as a MAC."""
        return Mac(self.take(6))

    def address(self) -> IPv4Address:
        """Four octets as an IPv4 address."""
        return IPv4Address(self.take(4))

    def wrong(self, what: str) -> Malformed:
        """A Malformed for what was just read."""
        return Malformed(f"{self._layer}: {what}", self.position)


def internet_checksum(data: bytes) -> int:
    """The ones' complement sum over 16-bit words (RFC 1071); 0 over data with a right checksum.

    Adding with end-around carry is adding modulo 65535 (RFC 1071 §2), where 65536 is 1: so the
    sum of the words is the remainder of the data taken as one large number. A sum of all ones
    stays all ones; only of nothing but zeros is it zero.
    """
    number = int.from_bytes(data, "big") << (8 * (len(data) % 2))
    total = number % 0xFFFF or (0xFFFF if number else 0)
    return total ^ 0xFFFF
