"""Identifying by SNMP: the system group, by version 2c, and by version 1 where that is silent.

Where both are, there may be an engine of version 3, which tells whose it is and no more.
"""

from __future__ import annotations

from ipaddress import IPv4Address

from portcall.core.catalog.catalog import Codes, Numbering
from portcall.core.find import sentences as say
from portcall.core.find.protocol import Protocol, ToEach
from portcall.core.find.sighting import Field, Learnt, Method, said_by
from portcall.core.printable import decoded
from portcall.core.wire import snmp
from portcall.core.wire.octets import Malformed

DEFAULT_COMMUNITY = "public"


class SystemGroup:
    """The question to each device, and the reading of its answer."""

    method = Method.SNMP
    port = snmp.PORT

    def __init__(self, community: str = DEFAULT_COMMUNITY, number: int = 1) -> None:
        self._number = number
        name = community.encode()
        wanted = dict.fromkeys(snmp.SYSTEM)
        # In version 1 one object that is not there refuses the whole question (RFC 1157 §4.1.2).
        # What follows each object's name is asked for: that is the object, or another.
        before = dict.fromkeys(key.removesuffix(".0") for key in snmp.SYSTEM)
        self._requests = (
            snmp.encode_get(snmp.SnmpMessage(snmp.Version.V2C, name, number, wanted)),
            snmp.encode_get_next(snmp.SnmpMessage(snmp.Version.V1, name, number, before)),
        )

    def ask(self, address: IPv4Address, attempt: int) -> bytes:
        """Version 2c first; who stays silent may know only version 1."""
        return self._requests[attempt]

    def read(self, address: IPv4Address, payload: bytes) -> Learnt:
        """The four values, and the maker's number in the object identifier."""
        message = snmp.parse(payload)
        if message.request != self._number:
            raise Malformed("SNMP: answer to another request", 0)

        def text(key: str) -> str:
            value = message.values.get(key)
            return decoded(value) if isinstance(value, bytes) else ""

        identifier = message.values.get(snmp.SYS_OBJECT_ID)
        codes = None
        if isinstance(identifier, str) and identifier.startswith(snmp.ENTERPRISES):
            maker = identifier.removeprefix(snmp.ENTERPRISES).split(".")[0]
            codes = Codes(Numbering.SNMP, int(maker)) if maker.isdigit() else None
        said = said_by(
            Method.SNMP,
            (Field.DESCRIPTION, text(snmp.SYS_DESCR)),
            (Field.NAME, text(snmp.SYS_NAME)),
            (Field.PLACE, text(snmp.SYS_LOCATION)),
        )
        return Learnt(said, codes)


class MaskQuestion:
    """Which mask a device has at the address that it is asked at."""

    method = Method.SNMP
    port = snmp.PORT

    def __init__(self, community: str = DEFAULT_COMMUNITY, number: int = 1) -> None:
        self._community = community.encode()
        self._number = number

    def ask(self, address: IPv4Address, attempt: int) -> bytes:
        """Version 2c first; who stays silent may know only version 1."""
        version = (snmp.Version.V2C, snmp.Version.V1)[attempt]
        wanted = {f"{snmp.NET_MASK}{address}": None}
        return snmp.encode_get(snmp.SnmpMessage(version, self._community, self._number, wanted))

    def read(self, address: IPv4Address, payload: bytes) -> Learnt:
        """The mask, where it tells one."""
        message = snmp.parse(payload)
        if message.request != self._number:
            raise Malformed("SNMP: answer to another request", 0)
        mask = message.values.get(f"{snmp.NET_MASK}{address}")
        told = mask if isinstance(mask, IPv4Address) else None
        return Learnt(said_by(Method.SNMP, (Field.MASK, told)))


class EngineQuestion:
    """Whose engine of version 3 answers; it tells that to everybody (RFC 3414 §4)."""

    method = Method.SNMP
    port = snmp.PORT

    def __init__(self, number: int = 1) -> None:
        self._number = number
        self._request = snmp.encode_discovery(number)

    def ask(self, address: IPv4Address, attempt: int) -> bytes:
        """The same question at each attempt."""
        return self._request

    def read(self, address: IPv4Address, payload: bytes) -> Learnt:
        """The maker's number, which an engine's ID begins with (RFC 3411 §5)."""
        number, engine = snmp.parse_engine(payload)
        if number != self._number:
            raise Malformed("SNMP: answer to another request", 0)
        codes = None
        if engine[0] & 0x80:
            codes = Codes(Numbering.SNMP, int.from_bytes(engine[:4], "big") & 0x7FFFFFFF)
        return Learnt(said_by(Method.SNMP, (Field.MANNER, say.SNMP_V3())), codes)


PROTOCOL = Protocol(Method.SNMP, "SNMP", 31, to_each=ToEach(SystemGroup))
