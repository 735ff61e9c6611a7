"""Finding by LLDP: neighbours announce themselves, every half minute by default."""

from __future__ import annotations

from portcall.core.address import Mac
from portcall.core.find.sighting import Field, Method, Sighting, words
from portcall.core.printable import decoded
from portcall.core.wire import lldp


def sighting(sender: Mac, said: lldp.Announcement, now: float) -> Sighting:
    """What an announcement says, as a sighting of the MAC that sent it.

    The management address is the device's own way of saying where it is to be reached.
    """
    description = decoded(said.description)
    port = decoded(said.port) if said.port_subtype == lldp.Subtype.PORT_NAME else ""
    wired = ", ".join(part for part in (port, decoded(said.port_description)) if part)
    values = words(
        Method.LLDP,
        (Field.NAME, decoded(said.name)),
        (Field.DESCRIPTION, description),
        (Field.MANNER, f"its port at this cable: {wired}" if wired else None),
    )
    mac = sender
    if said.chassis_subtype == lldp.Subtype.CHASSIS_MAC and len(said.chassis) == 6:
        # A switch speaks from each port's own MAC; what it is known by is that of its chassis.
        mac = Mac(said.chassis)
    return Sighting(now, Method.LLDP, mac, said.management, values)
