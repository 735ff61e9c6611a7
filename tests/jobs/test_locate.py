"""Which device is meant by what was typed, and where it is to go."""

from ipaddress import IPv4Address, IPv4Interface, IPv4Network, collapse_addresses

import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from portcall.cli.move import _seconds
from portcall.core.adapters.adapter import Adapter, AdapterAddress, AdapterKind, Origin
from portcall.core.address import SELF_ASSIGNED, AddressError, AddressRange, Mac
from portcall.core.catalog.catalog import Catalog
from portcall.core.find.device import Asking, Device
from portcall.core.find.sighting import Method
from portcall.core.finding import Line, Name
from portcall.core.plan.rows import Plan, PlannedDevice, Subnet
from portcall.core.plan.targets import (
    MOST_ADDRESSES,
    Meant,
    parse_device,
    parse_target,
    parse_targets,
)
from portcall.core.talk.request import AddressProtocol
from portcall.core.trouble import BadInput
from portcall.jobs.look.locate import Located, _located
from portcall.jobs.look.orders import usual_ranges
from portcall.jobs.setting.keep_each import _obstacle as kept_obstacle
from portcall.jobs.setting.move_each import _goal, _obstacle, _recognised, with_goal
from portcall.jobs.setting.naming import names_for
from portcall.site.folder import Site

FAN, PIER, OTHER = (Mac(b"\x02\x77\xb1\x4c\x09" + bytes((n,))) for n in (0x21, 0x51, 0x52))
OLD = IPv4Address("203.0.113.47")
FAN_ROW = PlannedDevice(
    Name("Fan-1"), IPv4Interface("10.61.20.21/24"), FAN, IPv4Address("10.61.20.1"), line=2
)
OPEN_ROW = PlannedDevice(Name("pier"), IPv4Interface("10.61.20.51/24"), line=3)
ODD_ROW = PlannedDevice(Name("weigh_house"), IPv4Interface("10.61.20.40/24"), OTHER, line=4)
PLAN = Plan((FAN_ROW, OPEN_ROW, ODD_ROW))
USUAL = AddressRange(OLD, OLD)
SITE = Site(subnets=(Subnet(OPEN_ROW.interface.network),))


@given(st.lists(st.tuples(st.integers(0x0A000000, 0x0AFFFFFF), st.integers(8, 30)), max_size=5))
def test_the_usual_ranges_are_bounded_whatever_the_subnets(pairs):
    networks = [IPv4Network(pair, strict=False) for pair in pairs]
    own = tuple(
        AdapterAddress(IPv4Interface((n[1], n.prefixlen)), Origin.STATIC) for n in networks[:2]
    )
    adapter = Adapter("usb0", 3, AdapterKind.WIRED, OTHER, True, True, 1500, addresses=own)
    site = Site(subnets=tuple(map(Subnet, networks[2:])), maker_defaults=(USUAL,))
    usual = usual_ranges(adapter, site, PLAN, Catalog())
    assert sum(map(len, usual)) <= MOST_ADDRESSES + len(USUAL) + len(PLAN.devices)
    for network in networks:
        # Those that lie in others count once.
        if sum(each.num_addresses for each in collapse_addresses(networks)) <= MOST_ADDRESSES:
            assert network in SELF_ASSIGNED or any(network[1] in span for span in usual)


def test_a_device_is_named_by_its_row_its_mac_or_where_it_is():
    assert parse_device("fan-1", PLAN) == Meant("fan-1", FAN_ROW, FAN)
    assert parse_device("0277.b14c.0921", PLAN).row is FAN_ROW
    assert parse_device("02:77:b1:4c:09:99", PLAN).row is None
    assert parse_device("203.0.113.47", PLAN) == Meant("203.0.113.47", address=OLD)
    # An address that is planned is the row's; who is there is seen when it is looked at.
    assert parse_device("10.61.20.21", PLAN).mac is None
    for text, words in (
        ("10.61.20.300", "octet 4 is 300"),
        ("pump", "is no address, no MAC, and not in the plan: portcall plan show"),
        ("piar", "not in the plan; did you mean pier?"),
        ("\x1b[31mpump", "[31mpump: is no address"),
        ("03-77-B1-4C-09-21", "is a group address"),
    ):
        with pytest.raises(BadInput) as refused:
            parse_device(text, PLAN)
        assert words in str(refused.value)
        assert "\x1b" not in str(refused.value)


DEVICES = st.integers(0x01000000, 0xDFFFFFFF).map(IPv4Address).filter(lambda a: not a.is_loopback)


@given(DEVICES)
@example(IPv4Address("192.168.111.222"))
def test_an_address_is_an_address_wherever_a_device_is_named(address):
    assert parse_device(str(address), PLAN).address == address
    assert parse_target(str(address), PLAN) == address
    assert parse_targets([str(address)], PLAN) == (AddressRange(address, address),)


@given(st.binary(min_size=6, max_size=6).filter(lambda o: not o[0] & 1 and any(o)).map(Mac))
def test_a_mac_is_a_mac_in_every_notation_wherever_a_device_is_named(mac):
    plan = Plan((PlannedDevice(Name("fan-1"), IPv4Interface("10.61.20.21/24"), mac),))
    plain = mac.hex()
    by_fours = ".".join(plain[at : at + 4] for at in (0, 4, 8))
    for text in (str(mac), mac.hex(":"), mac.hex(" "), plain, by_fours):
        assert parse_device(text, plan).mac == mac
        assert parse_target(text, plan) == IPv4Address("10.61.20.21")
        assert [str(span) for span in parse_targets([text], plan)] == ["10.61.20.21"]
        with pytest.raises(BadInput, match="is the MAC of no row of the plan"):
            parse_targets([text], Plan(()))


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("224.0.0.9", "octet 1 is 224"),
        ("250.1.2.3", "octet 1 is 250"),
        ("255.255.255.255", "is the broadcast address of every network"),
        ("fe80::d0:11ff:fe77:4a90", "is an IPv6 address"),
        ("fe80::1%usb0", "is an IPv6 address"),
    ],
)
def test_what_no_device_can_have_is_refused_as_what_it_is(text, words):
    for parse in (parse_device, parse_target, lambda each, plan: parse_targets([each], plan)):
        with pytest.raises(BadInput, match=words):
            parse(text, PLAN)


def test_where_it_goes():
    meant = parse_device("fan-1", PLAN)
    assert with_goal(meant, None, SITE, PLAN) is meant
    there = with_goal(meant, "10.61.20.99", SITE, PLAN).row
    assert (str(there.interface), there.gateway) == ("10.61.20.99/24", FAN_ROW.gateway)
    away = with_goal(meant, "203.0.113.9", SITE, PLAN).row
    assert (str(away.interface), away.gateway, away.mask_assumed) == ("203.0.113.9/24", None, True)
    # The row without a MAC is the one whose address is given to a device that no row has.
    stranger = parse_device("203.0.113.47", PLAN)
    assert with_goal(stranger, "10.61.20.51", SITE, PLAN).row.name == "pier"
    free = with_goal(parse_device(str(PIER), PLAN), "10.61.20.77", SITE, PLAN).row
    assert (free.name, free.mac, free.mask_assumed) == (str(PIER), PIER, False)
    assert _goal("203.0.113.9/26", None, SITE) == (IPv4Interface("203.0.113.9/26"), False)
    for words, to in (("gives it to weigh_house", "10.61.20.40"), ("broadcast", "10.61.20.255")):
        with pytest.raises((BadInput, AddressError), match=words):
            with_goal(meant, to, SITE, PLAN)
    for text in ("pier", str(PIER)):
        with pytest.raises(BadInput, match="--to"):
            with_goal(parse_device(text, PLAN), None, SITE, PLAN)


def at(mac, *addresses, **more):
    return Device(mac, tuple(map(IPv4Address, addresses)), **more)


def located(text, *devices, everywhere=True):
    return _located(parse_device(text, PLAN), devices, PLAN, everywhere)


def test_who_is_found_and_why_not():
    fan = at(FAN, "203.0.113.47")
    assert located("fan-1", fan).device is fan
    assert _recognised(located("203.0.113.47", fan), PLAN).meant.row is FAN_ROW
    assert _recognised(located("203.0.113.47", at(PIER, OLD)), PLAN).device is None
    near = located("fan-1", at(Mac(FAN[:5] + b"\x29"), OLD))
    assert "02-77-B1-4C-09-29 differs in one digit from it" in str(near.reason)
    for text, devices, words in (
        ("203.0.113.47", (fan, at(PIER, OLD)), f"is shared by {FAN} and {PIER}"),
        ("203.0.113.47", (), "nothing answers at 203.0.113.47"),
        ("10.61.20.21", (at(PIER, "10.61.20.21"),), f"Fan-1 is planned with {FAN}, and {PIER}"),
        ("fan-1", (), f"{FAN} was not heard on this wire"),
    ):
        assert words in str(located(text, *devices).reason)
    assert located("fan-1", everywhere=False).reason.line == Line("why", FAN_ROW.name)


def test_what_stands_in_the_way_of_a_move():
    def obstacle(device):
        outcome = _obstacle(Located(Meant("fan-1", FAN_ROW, FAN), device))
        return outcome and outcome.findings[0]

    assert obstacle(at(FAN, OLD)) is None
    assert obstacle(at(FAN, methods=(Method.DCP,), rivals=(PIER,))) is None
    asking = obstacle(at(FAN, asks=(Asking(AddressProtocol.BOOTP, 2, 0.0, 4.0),)))
    assert asking.line == Line("assign", FAN_ROW.name, "--keep")
    assert obstacle(at(FAN)).code == "panel-only"
    assert obstacle(at(FAN, OLD, rivals=(PIER,))) is None


def test_nothing_is_set_by_address_where_another_device_has_it_too():
    shared = at(FAN, OLD, rivals=(PIER,))
    assert Located(Meant("fan-1", FAN_ROW, FAN), shared).rivals == (PIER,)
    by_dcp = at(FAN, OLD, methods=(Method.DCP,), rivals=(PIER,))
    assert Located(Meant("fan-1", FAN_ROW, FAN), by_dcp).rivals == ()
    here = at(FAN, FAN_ROW.address, rivals=(PIER,))
    outcome = kept_obstacle(Located(Meant("fan-1", FAN_ROW, FAN), here))
    (finding,) = outcome.findings
    assert (finding.code, finding.line) == (
        "shared-with",
        Line("move", FAN, "--to", "ADDRESS/N"),
    )


def test_names_come_from_the_plan_where_they_can():
    assert names_for(parse_device("fan-1", PLAN), None) == ("fan-1", ())
    assert names_for(parse_device("203.0.113.47", PLAN), None) == (None, ())
    name, (why,) = names_for(parse_device("weigh_house", PLAN), None)
    assert (name, "_ is no lower-case letter" in str(why), "--name" in str(why)) == (
        None,
        True,
        True,
    )
    assert names_for(parse_device("weigh_house", PLAN), "weigh-house") == ("weigh-house", ())
    with pytest.raises(BadInput):
        names_for(parse_device("fan-1", PLAN), "Fan_1")


def test_how_long_to_wait():
    assert (_seconds("forever"), _seconds("2.5")) == (None, 2.5)
    for text in ("0", "-1", "nan", "inf", "soon"):
        with pytest.raises(BadInput, match="is a number of seconds over 0, or forever"):
            _seconds(text)
