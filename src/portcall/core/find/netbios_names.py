"""Names by NetBIOS node status: what panels and industrial computers call themselves."""

from __future__ import annotations

from ipaddress import IPv4Address

from portcall.core.find.protocol import Protocol, ToEach
from portcall.core.find.sighting import Field, Learnt, Method, said_by
from portcall.core.printable import decoded
from portcall.core.wire import netbios
from portcall.core.wire.octets import Malformed


class NodeStatusQuestion:
    """The question to each device, and the reading of its answer."""

    method = Method.NETBIOS
    port = netbios.PORT

    def __init__(self, number: int = 1) -> None:
        self._number = number
        self._request = netbios.encode_request(number)

    def ask(self, address: IPv4Address, attempt: int) -> bytes:
        """The same question at each attempt."""
        return self._request

    def read(self, address: IPv4Address, payload: bytes) -> Learnt:
        """The workstation name, and the group it says it is in."""
        status = netbios.parse(payload)
        if status.transaction != self._number:
            raise Malformed("NetBIOS: answer to another request", 0)

        def first(group: bool) -> str:
            return next(
                (
                    decoded(each.name)
                    for each in status.names
                    if each.suffix == netbios.WORKSTATION and each.is_group is group
                ),
                "",
            )

        group = first(True)
        description = f"in the workgroup {group}" if group else None
        return Learnt(
            said_by(Method.NETBIOS, (Field.NAME, first(False)), (Field.DESCRIPTION, description))
        )


PROTOCOL = Protocol(
    Method.NETBIOS,
    "NetBIOS",
    32,
    # Computers answer it; a device that another protocol identified is not asked.
    to_each=ToEach(lambda community: NodeStatusQuestion(), if_unknown=True),
)
