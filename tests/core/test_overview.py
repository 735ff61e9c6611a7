"""What a list of devices comes to: what is wrong, where they are, what to do next."""

from ipaddress import IPv4Address, IPv4Interface, IPv4Network

import saying

from portcall.core.address import AddressRange, parse_mac
from portcall.core.find.devices import merge
from portcall.core.find.overview import Scene, faults, neighbourhoods, next_steps
from portcall.core.find.proposing import propose
from portcall.core.find.sighting import Method, Sighting
from portcall.core.finding import Line, Name
from portcall.core.plan.rows import Plan, PlannedDevice
from portcall.core.talk.request import AddressProtocol

FAN, PUMP, PLC, OTHER, NEAR = (
    parse_mac(text)
    for text in (
        "02-77-B1-4C-09-21",
        "02-77-B1-4C-0E-58",
        "02-5A-1D-20-7F-10",
        "02-60-D1-12-08-77",
        "02-77-B1-4C-09-2F",
    )
)
OWN = (IPv4Interface("10.61.20.200/24"),)


def row(name, address, mac=None):
    return PlannedDevice(Name(name), IPv4Interface(address), mac, line=2)


ASKED = [AddressRange(IPv4Address("10.61.20.20"), IPv4Address("10.61.20.22"))]
PLAN = Plan((row("fan", "10.61.20.21/24", FAN), row("pump", "10.61.20.22/24", PUMP)))


def seen(mac, address=None, method=Method.ARP, asks=None, **said):
    words = saying.said(method, **said)
    return Sighting(1.0, method, mac, IPv4Address(address) if address else None, words, asks)


def scene(*sightings, plan=PLAN, own=OWN, asked=()):
    return Scene(merge(sightings, plan=plan), own, plan, asked=asked)


def lines(*sightings, **of):
    return [str(step) for step in next_steps(scene(*sightings, **of))]


def test_a_proposed_row_runs_in_no_spreadsheet_and_names_no_mac_that_nobody_told():
    scene = Scene(
        merge(
            [
                Sighting(
                    0.0,
                    Method.CIP,
                    OTHER,
                    IPv4Address("10.61.20.9"),
                    saying.said(Method.CIP, name="=1+1", product="+5 V"),
                ),
                Sighting(0.0, Method.CIP, None, IPv4Address("203.0.113.40")),
            ]
        )
    )
    defaults = [AddressRange(IPv4Address("203.0.113.40"), IPv4Address("203.0.113.49"))]
    (made,), (left,) = propose(scene, defaults)
    assert (made.cells["name"], made.cells["product"]) == ("'=1+1", "'+5 V")
    assert (made.row.name, made.row.expected.product) == ("=1+1", "+5 V")
    assert left.reason.line == Line("plan add", "NAME", "ADDRESS/N")


def test_devices_stand_by_subnet_this_computers_first_and_those_without_address_last():
    groups = neighbourhoods(
        scene(
            seen(OTHER, "10.61.10.9"),
            seen(FAN, "10.61.20.21"),
            seen(PLC, "169.254.7.7"),
            seen(PUMP, asks=AddressProtocol.DHCP),
        )
    )
    assert [(str(g.network), g.assumed, g.here, len(g.devices)) for g in groups] == [
        ("10.61.20.0/24", False, True, 1),
        ("10.61.10.0/24", True, False, 1),
        ("169.254.0.0/16", False, False, 1),
        ("None", False, None, 1),
    ]
    file = neighbourhoods(scene(seen(OTHER, "10.61.10.9"), own=None))
    assert [each.here for each in file] == [None]


def test_each_fault_is_told_once():
    found = faults(
        scene(
            seen(FAN, "10.61.20.21"),
            seen(OTHER, "10.61.20.21"),
            seen(None, "10.61.20.21", Method.CIP, product="Gale 7"),
            seen(NEAR, "10.61.20.22"),
            seen(PLC, "10.61.20.10", Method.CIP, mask="255.255.0.0", name="plc"),
            seen(parse_mac("02-D0-11-3E-00-01"), "10.61.20.1", Method.DHCP, serves="DHCP"),
        )
    )
    assert tuple(map(str, found)) == (
        f"10.61.20.21 is the address of 2 devices: {OTHER} and {FAN} (fan); "
        "one of them says: Gale 7; which is which: portcall why 10.61.20.21",
        f"10.61.20.22 is planned for pump ({PUMP}), and {NEAR} has it: portcall why pump",
        "10.61.20.10 (plc) has the mask 255.255.0.0; that of 10.61.20.0/24 is 255.255.255.0; "
        f"if that is not meant: portcall move {PLC} --to 10.61.20.10/24",
        "a DHCP server is on this wire: 10.61.20.1 (02-D0-11-3E-00-01) gives addresses to devices",
    )
    (own,) = faults(scene(seen(FAN, "10.61.20.200")))
    assert str(own) == (
        f"10.61.20.200 is this computer's own address, and {FAN} (fan) has it, too: "
        "portcall match 10.61.20.0/24 --replace"
    )
    assert faults(scene(seen(None, "10.61.20.200", Method.MDNS, name="laptop"))) == ()
    assert faults(scene(seen(FAN, "10.61.20.21"), seen(PUMP, "10.61.20.22"))) == ()
    # Where nobody knows the mask, none differs.
    assert faults(scene(seen(PLC, "10.61.10.9", Method.CIP, mask="255.255.0.0"))) == ()


def test_a_planned_device_in_anothers_place_and_a_mistyped_label_are_named():
    (swapped,) = faults(scene(seen(FAN, "10.61.20.22")))
    assert str(swapped).endswith(
        f"and {FAN} has it; it is fan, planned at 10.61.20.21: portcall move fan"
    )
    (mistyped,) = faults(scene(seen(NEAR, "10.61.20.21")))
    assert str(mistyped).endswith(
        "has it; its MAC differs in one digit from the planned one: check the label: "
        "portcall why fan"
    )


def test_a_line_to_type_serves_all_devices_that_need_it():
    asks = AddressProtocol.DHCP
    assert lines(seen(FAN, asks=asks), seen(PUMP, asks=asks)) == [
        "2 planned devices ask for an address: portcall assign fan pump --keep"
    ]
    assert lines(seen(FAN, asks=asks), own=()) == [
        "1 planned device asks for an address: portcall assign fan --match --keep"
    ]
    assert lines(seen(FAN, "203.0.113.40"), seen(PUMP, "203.0.113.41"), asked=ASKED) == [
        "2 planned devices are not at the planned address: portcall move fan pump"
    ]
    assert lines(seen(FAN, "10.61.20.22"), seen(PLC, "10.61.20.22"), asked=ASKED) == [
        "1 planned device is not at the planned address: portcall move fan"
    ]
    # Who was asked for and not heard is named; and who was not asked for is not.
    assert lines(seen(FAN, "10.61.20.21"), asked=ASKED) == [
        "1 planned device was not heard (pump); the first: portcall why pump"
    ]
    # Who has several addresses may be at the planned one, too, where nobody asked for it.
    assert lines(seen(FAN, "10.61.20.22"))[0] == (
        "1 planned device was heard elsewhere, and not asked for at the planned address: "
        "portcall verify fan"
    )
    assert lines(seen(FAN, "10.61.20.21"), seen(OTHER, "10.61.10.9")) == [
        "1 device is not in the plan: 10.61.10.9",
        "this computer is not in 10.61.10.0/24, where 1 device can be found: "
        "portcall visit 10.61.10.9",
    ]
    assert lines(seen(NEAR, asks=asks)) == [
        f"check the label of fan: {NEAR} is here, and differs in one digit from fan in the plan "
        f"({FAN})"
    ]
    assert lines(seen(OTHER, asks=asks), plan=Plan()) == [
        "1 device asks for an address, and there is no plan yet; to be asked which it gets: "
        "portcall assign --keep"
    ]
    assert lines(seen(FAN, "10.61.20.21"), seen(PUMP, "10.61.20.22")) == []


def test_a_subnet_of_the_plan_has_its_mask():
    plan = Plan((row("far", "10.62.0.5/16", FAN),))
    here = scene(seen(FAN, "10.62.0.5"), plan=plan)
    assert here.network_of(IPv4Address("10.62.9.9")) == (IPv4Network("10.62.0.0/16"), False)
