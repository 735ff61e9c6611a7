"""Finding by LLDP: neighbours announce themselves, every half minute by default."""

from __future__ import annotations

from portcall.core.address import UNSPECIFIED, Mac
from portcall.core.find.device import Device
from portcall.core.find.sighting import Field, Method, Sighting, words
from portcall.core.printable import decoded
from portcall.core.wire import lldp

_MOST_OTHERS = 4
_HERE = "its port at this cable: "


def sighting(sender: Mac, said: lldp.Announcement, now: float) -> Sighting:
    """What an announcement says, as a sighting of the MAC that sent it.

    A management address is where it says that it can be reached, which may be another device's
    doing: it is no proof that the device has that address.
    """
    description = decoded(said.description)
    port = decoded(said.port) if said.port_subtype in lldp.PORT_TEXTS else ""
    wired = ", ".join(part for part in (port, decoded(said.port_description)) if part)
    mac, chassis, told = sender, "", list(said.management)
    if said.chassis_subtype == lldp.Subtype.CHASSIS_MAC and len(said.chassis) == 6:
        # A switch speaks from each port's own MAC; what it is known by is that of its chassis.
        mac = Mac(said.chassis)
    elif said.chassis_subtype == lldp.Subtype.NETWORK_ADDRESS:
        told += lldp.network_address(said.chassis)
    elif said.chassis_subtype in lldp.CHASSIS_TEXTS:
        chassis = decoded(said.chassis)
    first, *others = dict.fromkeys(a for a in told if a != UNSPECIFIED) or (None,)
    listed = ", ".join(str(address) for address in others[:_MOST_OTHERS])
    values = words(
        Method.LLDP,
        (Field.NAME, decoded(said.name)),
        (Field.DESCRIPTION, description),
        (Field.MANNER, f"{_HERE}{wired}" if wired else None),
        (Field.MANNER, f"calls its chassis {chassis}" if chassis else None),
        (Field.MANNER, f"says that it is managed at {listed}, too" if listed else None),
    )
    return Sighting(now, Method.LLDP, mac, first, values)


def port_here(device: Device) -> str:
    """The port of its own that a device says this cable is in; "" where it says none."""
    manners = (each for each in device.said if each.field is Field.MANNER)
    told = (each.value for each in manners if each.method is Method.LLDP)
    return next((each.removeprefix(_HERE) for each in told if each.startswith(_HERE)), "")
