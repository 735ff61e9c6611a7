"""The ways of finding, gathered: a protocol is its module, and its line here."""

from __future__ import annotations

from portcall.core.find import (
    arp_sweep,
    bacnet_devices,
    cip_identity,
    dcp_identify,
    ipv6_echo,
    lldp_listen,
    mdns_names,
    modbus_identity,
    netbios_names,
    opcua_server,
    overhear,
    snmp_system,
    web_page,
)
from portcall.core.find.protocol import Protocol
from portcall.core.find.sighting import Method

_ON_THE_WIRE = (
    overhear.PROTOCOL,
    lldp_listen.PROTOCOL,
    Protocol(Method.DHCP, "DHCP", 51, says_who=False, needs_link=True),
    arp_sweep.PROTOCOL,
    ipv6_echo.PROTOCOL,
    dcp_identify.PROTOCOL,
    cip_identity.PROTOCOL,
    bacnet_devices.PROTOCOL,
    mdns_names.PROTOCOL,
    snmp_system.PROTOCOL,
    netbios_names.PROTOCOL,
    modbus_identity.PROTOCOL,
    opcua_server.PROTOCOL,
    web_page.PROTOCOL,
    Protocol(Method.PORTS, "an open port", 54, says_who=False),
)
"""In the order in which they start."""

_LISTS = (
    Protocol(Method.PLAN, "the plan", 0, says_who=False),
    Protocol(Method.CATALOG, "the catalogue", 20, says_who=False),
    Protocol(Method.REGISTRY, "the registry", 21, says_who=False),
)
"""What is looked up, and is nothing on the wire."""

PROTOCOLS = {each.method: each for each in (*_ON_THE_WIRE, *_LISTS)}

WIRE_METHODS = tuple(each.method for each in _ON_THE_WIRE)
"""The methods that use the wire, in the order in which they start."""

ON_THE_LINK = tuple(each.method for each in _ON_THE_WIRE if each.needs_link)
"""The methods that need raw Ethernet."""

BY_ADDRESS = tuple(each.method for each in _ON_THE_WIRE if not each.needs_link)
"""The methods that need an address of this computer that a device can answer to."""

BEHIND_DOORS = tuple(each.method for each in _ON_THE_WIRE if each.doors)
"""The methods that ask behind a TCP port who a device is."""

ASKING_EACH = tuple(
    each.method
    for each in _ON_THE_WIRE
    if each.to_each or each.doors or each.method is Method.PORTS
)
"""The methods by which each device is asked by itself."""

TRUST = tuple(sorted(PROTOCOLS, key=lambda method: PROTOCOLS[method].trust))
"""The order of trust: when several methods gave a value, that of the first is shown."""

AT_DOOR = {port: each for each in _ON_THE_WIRE for port in each.doors}
"""Which protocol is spoken behind a TCP port."""


def method_named(name: object) -> Method | None:
    """The method of a name out of a record, or None."""
    return next((each for each in PROTOCOLS if each == name), None)
