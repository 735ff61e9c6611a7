"""Finding by LLDP: neighbours announce themselves, every half minute by default."""

from __future__ import annotations

from portcall.core.address import UNSPECIFIED, Mac
from portcall.core.find import sentences as say
from portcall.core.find.protocol import Protocol
from portcall.core.find.sighting import Field, Method, Sighting, said_by
from portcall.core.printable import NO_TEXT, decoded
from portcall.core.wire import lldp

_MOST_OTHERS = 4


def sighting(sender: Mac, said: lldp.Announcement, now: float) -> Sighting:
    """The sighting that an announcement makes.

    A management address is where it says that it can be reached, which may be another device's
    doing: it is no proof that the device has that address.
    """
    description = decoded(said.description)
    port = decoded(said.port) if said.port_subtype in lldp.PORT_TEXTS else NO_TEXT
    wired = ", ".join(part for part in (port, decoded(said.port_description)) if part)
    mac, chassis, told = sender, NO_TEXT, list(said.management)
    if said.chassis_subtype == lldp.Subtype.CHASSIS_MAC and len(said.chassis) == 6:
        # A switch sends from the MAC of each port, but it is known by the MAC of its chassis.
        mac = Mac(said.chassis)
    elif said.chassis_subtype == lldp.Subtype.NETWORK_ADDRESS:
        told += lldp.network_address(said.chassis)
    elif said.chassis_subtype in lldp.CHASSIS_TEXTS:
        chassis = decoded(said.chassis)
    first, *others = dict.fromkeys(a for a in told if a != UNSPECIFIED) or (None,)
    values = said_by(
        Method.LLDP,
        (Field.NAME, decoded(said.name)),
        (Field.DESCRIPTION, description),
        (Field.PORT_HERE, wired),
        (Field.MANNER, say.CHASSIS(chassis=chassis) if chassis else None),
        (Field.MANNER, say.MANAGED_AT(managed=others[:_MOST_OTHERS]) if others else None),
    )
    return Sighting(now, Method.LLDP, mac, first, values)


PROTOCOL = Protocol(Method.LLDP, "LLDP", 30, says_who=False, needs_link=True)
