"""Identifying by SNMP: the system group, by version 2c, and by version 1 where that is silent."""

from __future__ import annotations

from ipaddress import IPv4Address

from portcall.core.catalog.catalog import Codes, Numbering
from portcall.core.find.sighting import Field, Learnt, Method, words
from portcall.core.printable import decoded
from portcall.core.wire import snmp
from portcall.core.wire.octets import Malformed

DEFAULT_COMMUNITY = "public"


class SystemGroup:
    """What to ask of each device, and how its answer reads."""

    method = Method.SNMP
    port = snmp.PORT

    def __init__(self, community: str = DEFAULT_COMMUNITY, number: int = 1) -> None:
        self._number = number
        wanted = dict.fromkeys(snmp.SYSTEM)
        self._requests = tuple(
            snmp.encode_get(snmp.SnmpMessage(version, community.encode(), number, wanted))
            for version in (snmp.Version.V2C, snmp.Version.V1)
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
        said = words(
            Method.SNMP,
            (Field.DESCRIPTION, text(snmp.SYS_DESCR)),
            (Field.NAME, text(snmp.SYS_NAME)),
            (Field.PLACE, text(snmp.SYS_LOCATION)),
        )
        return Learnt(said, codes)
