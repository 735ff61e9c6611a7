"""Every sentence that ``find`` says of devices: how one behaves, what is to be remarked about it,
what is wrong on the wire, and what to do next."""

from __future__ import annotations

from portcall.core.finding import Sentence

# How a device behaves, as the method says that saw it.
NO_ADDRESS = Sentence("no-address", "has no address")
NO_STATION_NAME = Sentence("no-station-name", "has no station name")
IN_VLAN = Sentence("in-vlan", "heard in VLAN {vlan}, by tagged frames")
CHASSIS = Sentence("chassis", "calls its chassis {chassis}")
MANAGED_AT = Sentence("managed-at", "says that it is managed at {managed}, too")
MANAGED_ELSEWHERE = Sentence(
    "managed-elsewhere", "says that it is managed at {managed}, where {holder} answers"
)
CIP_UNREADABLE = Sentence("cip-unreadable", "answers CIP, and who it is cannot be read: {because}")
CIP_ODD = Sentence("cip-odd", "CIP: {oddity}")
CIP_DIRECT = Sentence("cip-direct", "answers CIP only when asked directly")
BACNET_BEHIND = Sentence(
    "bacnet-behind", "BACnet device {instance} is behind it, in network {network}"
)
SNMP_V3 = Sentence("snmp-v3", "answers SNMP version 3 only, for which it wants a user")
NO_TLS = Sentence("no-tls", "TLS at port {port} does not come about: {because}")
MODBUS_AS_UNIT = Sentence("modbus-as-unit", "answers Modbus as unit {unit}")
MODBUS_BEHIND = Sentence("modbus-behind", "Modbus unit {unit} behind it: {says}")
MODBUS_NAMELESS = Sentence("modbus-nameless", "answers Modbus, and does not say what it is")
MODBUS_UNITS_NAMELESS = Sentence(
    "modbus-units-nameless",
    "answers Modbus as [several?units ][several!unit ]{units}, not saying what that is",
)
MODBUS_GATEWAY = Sentence(
    "modbus-gateway", "is a Modbus gateway; none of the units that were asked answers"
)
ONE_UNIT = Sentence(
    "one-unit",
    "answers Modbus as unit {unit} alone, of {count} that were asked: an instrument of that "
    "number, or a gateway with one behind it",
)
MODBUS_SILENT = Sentence("modbus-silent", "its Modbus port is open, and it does not answer there")

# What was seen of a part that was asked for.
UNIT_NOT_THERE = Sentence(
    "unit-not-there",
    "the gateway says that unit {unit} does not answer it (Modbus exception {exception:02X})",
)
UNIT_SILENT = Sentence("unit-silent", "no answer came to a question for unit {unit}")
UNIT_NAMELESS = Sentence("unit-nameless", "answers, and does not say what it is", "unit")
UNIT_OF_ITSELF = Sentence(
    "unit-of-itself",
    "the device itself answers for unit {unit}, just as it does without a unit number",
)
SLOT_NOT_THERE = Sentence(
    "slot-not-there",
    "the rack says that nothing can be reached in slot {slot} "
    "(CIP general status {status:#04x}[, {extended:#06x}])",
)
SLOT_OF_ITSELF = Sentence("slot-of-itself", "slot {slot} is that of the module that was asked")
SLOT_SILENT = Sentence("slot-silent", "no answer came to a question for slot {slot}")
PORT_NO_LINK = Sentence("port-no-link", "nothing is plugged in at port {port}, as the device says")

PARTS = {
    each.code: each
    for each in (
        *(
            UNIT_NOT_THERE,
            UNIT_SILENT,
            UNIT_NAMELESS,
            UNIT_OF_ITSELF,
            SLOT_NOT_THERE,
            SLOT_SILENT,
            PORT_NO_LINK,
        ),
        SLOT_OF_ITSELF,
    )
}
"""Those that a look writes down of parts, by their codes."""

MANNERS = {
    each.code: each
    for each in (
        *(NO_ADDRESS, NO_STATION_NAME, IN_VLAN, CHASSIS, MANAGED_AT, MANAGED_ELSEWHERE),
        *(CIP_UNREADABLE, CIP_ODD, CIP_DIRECT, BACNET_BEHIND, SNMP_V3, NO_TLS, MODBUS_AS_UNIT),
        *(MODBUS_BEHIND, MODBUS_NAMELESS, MODBUS_UNITS_NAMELESS, MODBUS_GATEWAY, MODBUS_SILENT),
    )
}
"""Those that a look writes down, by their codes."""

# What is to be remarked about a device.
ASKED_FOR_ONE = Sentence(
    "asked-for-one",
    "has no address, asked for one by {protocol} [several!once][several?{times} times]"
    "[, every {every:.0f} s]",
)
ONLY_IPV6 = Sentence("only-ipv6", "has only an IPv6 address of this link")
ANSWERS_FOR_OTHERS = Sentence(
    "answers-for-others",
    "answers ARP for {count} addresses, as a router does for others (proxy ARP): those beyond the "
    "first few are not asked who they are",
)
SELF_ASSIGNED = Sentence(
    "self-assigned",
    "self-assigned address: a device takes one when nobody gives it an address",
    "address",
)
MAKERS_DEFAULT = Sentence("makers-default", "maker's default address", "address")
ASKED_SINGLY = Sentence(
    "asked-singly",
    "only the usual starting addresses were asked for in {networks}; who else is there",
)
USUAL_START = Sentence("usual-start", "at a usual starting address", "address")
SHARED_WITH = Sentence("shared-with", "{address} is shared with {rivals}")
OUTSIDE = Sentence("outside", "outside this adapter's subnets", "address")
ONE_OF_THEM_SAYS = Sentence("one-of-them-says", "one of those at {addresses} says: {says}")
SAYS_MANNER = Sentence("says-manner", "{says}")
PORT_HERE = Sentence("port-here", "its port at this cable: {port}")
OTHER_MASK = Sentence("other-mask", "its mask is {mask}, this computer's there is {own_mask}")
NOT_RECOGNISED = Sentence("not-recognised", "not recognised: {codes:;}")
NOT_RECOGNISED_ADD = Sentence(
    "not-recognised",
    "not recognised: {codes:;}; a description file of its maker would name it",
)
NOT_PLANNED = Sentence("not-planned", "not in the plan")
PLANNED_AT = Sentence("planned-at", "planned at {planned}")
PLANNED_AT_UNASKED = Sentence(
    "planned-at-unasked", "planned at {planned}, where it was not asked for"
)
ANOTHERS_PLACE = Sentence("anothers-place", "the plan has {planned_mac} at {address} ({name})")
ROW_WITHOUT_MAC = Sentence(
    "row-without-mac", "at the address of {name}, whose MAC the plan does not have yet"
)

PORT_OF = Sentence("port-of", "is {part} of {mac}[ ({name})], which tells that by {method}")
SAME_PLATE = Sentence(
    "same-plate",
    "{mac} says the same product and serial number, {serial}: one device with two plugs? Then plan "
    "one of them as a part of the other",
)

# Things that a list of devices leaves out.
TOO_MANY = Sentence(
    "too-many",
    "INCOMPLETE: more devices were seen than can be listed; the later ones are left out",
)
UNSEARCHED = Sentence(
    "unsearched",
    "INCOMPLETE: {networks} [several!was][several?were] heard, and not searched",
)

# What is wrong on the wire.
OWN_TAKEN = Sentence("own-taken", "{own} is this computer's own address, and {holder} has it, too")
HELD_BY_SEVERAL = Sentence(
    "held-by-several",
    "{address} is the address of {count} devices: {holders:and}[; one of them says: {says}]"
    "[in_reach?; which is which]",
)
IN_ANOTHERS_PLACE = Sentence(
    "in-anothers-place",
    "{address} is planned for {name} ({planned_mac}), and {mac} has it"
    "[; it is {is_row}, planned at {is_planned}][; its MAC {how} the planned one: check the label]",
)
MASK_OF_ITS_OWN = Sentence(
    "mask-of-its-own",
    "{address}[ ({device_name})] has the mask {mask}; that of {network} is {network_mask}"
    "[settable?; if that is not meant]",
)
DHCP_SERVER = Sentence(
    "dhcp-server",
    "a DHCP server is on this wire: [{address}][address!no known address][ ({mac})] gives "
    "addresses to devices",
)

# What to do next.
PLANNED_ASKING = Sentence(
    "planned-asking",
    "{count:planned device asks|planned devices ask} for an address",
    "names",
)
CHECK_LABEL = Sentence(
    "check-label",
    "check the label of {name}: {mac} is here, and {near}",
)
UNPLANNED_ASKING = Sentence(
    "unplanned-asking",
    "{count:device asks|devices ask} for an address, and there is no plan yet; to be asked which "
    "it gets",
)
STRANGERS_ASKING = Sentence(
    "strangers-asking",
    "{count:device that is not in the plan asks|devices that are not in the plan ask} for an "
    "address; with the one you choose",
)
NOT_AT_PLANNED = Sentence(
    "not-at-planned",
    "{count:planned device is|planned devices are} not at the planned address",
    "names",
)
NOT_ASKED_AT_PLANNED = Sentence(
    "not-asked-at-planned",
    "{count:planned device was|planned devices were} heard elsewhere, and not asked for at the "
    "planned address",
    "names",
)
NOT_HEARD = Sentence(
    "not-heard",
    "{count:planned device was|planned devices were} not heard ({names:8}); the first",
)
ONLY_NUMBERS = Sentence(
    "only-numbers",
    "{count:device says what it is|devices say what they are} only in numbers; with a description "
    "file of the maker",
)
OTHERS_NOT_PLANNED = Sentence(
    "others-not-planned", "{count:device is|devices are} not in the plan: {devices:8}"
)
NOT_IN_SUBNET = Sentence(
    "not-in-subnet",
    "this computer is not in {network}, where {count:device} can be found",
)

# Why a device gets no row as it is.
ROW_HAS_NO_ADDRESS = Sentence(
    "row-has-no-address", "it has no address[ and asks for one by {protocol}]"
)
ANSWERS_FOR_MANY = Sentence(
    "answers-for-many", "it answers for {count} addresses, as a router does for others"
)
MAC_NEARLY = Sentence("mac-nearly", "its MAC {near}")
PLANNED_WITHOUT_MAC = Sentence("planned-without-mac", "{name} is planned here, without a MAC")
PLANNED_FOR = Sentence("planned-for", "{address} is planned for {name}, {planned_mac}")
AT_DEFAULT = Sentence("at-default", "{address} is a maker's default address")
TOOK_IT_ITSELF = Sentence("took-it-itself", "it took {address} itself, because nobody gave it one")
BREAKS_RULES = Sentence("breaks-rules", "{rules:;}")
