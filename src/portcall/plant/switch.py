"""The tables of a simulated managed switch, as SNMP has them."""

from __future__ import annotations

from portcall.core.address import Mac
from portcall.core.wire import lldp, snmp
from portcall.plant.scenario import DeviceEntry, Speaks

_INTERFACES_FROM = 1000
"""A switch numbers its interfaces otherwise than its ports."""


def switch_values(entry: DeviceEntry) -> dict[str, snmp.Value]:
    """Its objects by their names; none of a device that is no switch."""
    if not entry.behind:
        return {}
    values: dict[str, snmp.Value] = {f"{snmp.BRIDGE_ADDRESS}.0": entry.mac.octets}
    announces = Speaks.LLDP in entry.speaks
    if announces:
        values[f"{snmp.LLDP_CHASSIS}.0"] = entry.mac.octets
    for number, port in enumerate(entry.behind, 1):
        interface = _INTERFACES_FROM + number
        values[f"{snmp.BRIDGE_PORT_INTERFACE}.{number}"] = interface
        values[f"{snmp.INTERFACE_NAME}.{interface}"] = port.name.encode()
        for mac in port.behind:
            values[f"{snmp.VLAN_FORWARDING}.1.{_index(mac)}"] = number
        if not announces:
            continue
        values[f"{snmp.LLDP_PORT_ID_SUBTYPE}.{number}"] = int(lldp.Subtype.PORT_NAME)
        values[f"{snmp.LLDP_PORT_ID}.{number}"] = port.name.encode()
        for nth, each in enumerate(port.neighbours, 1):
            row = f"0.{number}.{nth}"
            assert each.mac is not None
            values |= {
                f"{snmp.LLDP_REMOTE_CHASSIS_SUBTYPE}.{row}": int(lldp.Subtype.CHASSIS_MAC),
                f"{snmp.LLDP_REMOTE_CHASSIS}.{row}": each.mac.octets,
                f"{snmp.LLDP_REMOTE_PORT_SUBTYPE}.{row}": int(lldp.Subtype.PORT_NAME),
                f"{snmp.LLDP_REMOTE_PORT}.{row}": each.port.encode(),
                f"{snmp.LLDP_REMOTE_NAME}.{row}": each.name.encode(),
            }
    return values


def _index(mac: Mac) -> str:
    return ".".join(map(str, mac))
