"""Merging sightings, remarks, verdicts, adapters: what is concluded from what was seen."""

import re
from dataclasses import replace
from ipaddress import IPv4Address, IPv4Interface, IPv4Network

import pytest
import saying
from hypothesis import example, given
from hypothesis import strategies as st

from portcall.core.adapters.adapter import (
    Adapter,
    AdapterAddress,
    AdapterKind,
    Origin,
    Route,
    choose,
)
from portcall.core.adapters.adapter_watch import AdapterWatch, ChangeKind
from portcall.core.adapters.obstacles import Workstation, obstacles
from portcall.core.address import Mac, parse_mac, parse_range
from portcall.core.find.device import Asking
from portcall.core.find.devices import merge
from portcall.core.find.protocols import PROTOCOLS
from portcall.core.find.remarks import remarks
from portcall.core.find.sighting import Field, Method, Sighting, said_by
from portcall.core.finding import Name
from portcall.core.plan.expected import Expected
from portcall.core.plan.rows import Plan, PlannedDevice
from portcall.core.printable import decoded, printable
from portcall.core.reach.statistics import Reachability
from portcall.core.talk.request import AddressProtocol
from portcall.core.trouble import NotPossibleHere
from portcall.core.verify.judgement import Asked, RowsSeen, Verdict, judge, unplanned

FAN = parse_mac("02-77-B1-4C-09-21")
PLC = parse_mac("02-5A-1D-20-7F-10")
OTHER = parse_mac("02-60-D1-00-5E-01")
AT_10, AT_21, AT_40 = (IPv4Address(f"10.61.20.{n}") for n in (10, 21, 40))
OWN = (IPv4Interface("10.61.20.200/24"),)
ROW = PlannedDevice(Name("fan-drive-1"), IPv4Interface("10.61.20.21/24"), FAN)
PLAN = Plan((replace(ROW, mask_assumed=True),))
"""Nobody planned its mask."""


def seen(mac=None, address=None, method=Method.ARP, asks=None, at=0.0, **said):
    told = {field: value for field, value in said.items() if value is not None}
    values = saying.said(method, **told)
    return Sighting(at, method, mac, address, values, asks)


# Merging.


@given(st.permutations(range(5)))
def test_same_mac_is_the_same_device_in_whatever_order_it_was_seen(order):
    sightings = [
        seen(PLC, AT_10),
        seen(address=AT_10, method=Method.CIP, product="Skerry 40", maker="CIP vendor 64101"),
        seen(PLC, AT_40),
        seen(FAN, asks=AddressProtocol.BOOTP, method=Method.LISTEN),
        seen(FAN, asks=AddressProtocol.BOOTP, method=Method.LISTEN),
    ]
    plc, fan = merge([sightings[n] for n in order], lambda mac: None, PLAN)
    assert (plc.mac, plc.addresses) == (PLC, (AT_10, AT_40))
    assert plc.value(Field.PRODUCT) == "Skerry 40"
    assert set(plc.methods) == {Method.ARP, Method.CIP}
    assert (fan.mac, fan.addresses, fan.asks) == (
        FAN,
        (),
        (Asking(AddressProtocol.BOOTP, 2, 0.0, 0.0),),
    )
    assert fan.value(Field.NAME) == "fan-drive-1"


def test_one_address_behind_two_macs_is_a_conflict_and_is_not_merged():
    devices = merge(
        [
            seen(FAN, AT_21),
            seen(OTHER, AT_21),
            seen(address=AT_21, method=Method.CIP, serial="77B10921"),
        ]
    )
    assert {(d.mac, d.rivals) for d in devices if d.mac} == {(FAN, (OTHER,)), (OTHER, (FAN,))}
    # Whose serial number it is cannot be known, and is said so of both.
    assert [d.values(Field.EITHER) for d in devices] == [("77B10921",), ("77B10921",)]
    assert [d.value(Field.SERIAL) for d in devices] == [None, None]


def test_where_methods_disagree_both_are_kept_and_the_trusted_one_is_shown():
    (device,) = merge(
        [
            seen(FAN, AT_21),
            seen(address=AT_21, method=Method.WEB, maker="http page"),
            seen(address=AT_21, method=Method.MODBUS, maker="Whimbrel Drives Ltd"),
        ],
        lambda mac: "Whimbrel Drives",
    )
    assert set(device.values(Field.MAKER)) == {
        "Whimbrel Drives",
        "http page",
        "Whimbrel Drives Ltd",
    }
    assert device.value(Field.MAKER) == "Whimbrel Drives Ltd"


def test_devices_are_sorted_by_address_as_numbers_those_without_last():
    found = merge([seen(OTHER), seen(FAN, IPv4Address("10.61.20.9")), seen(PLC, AT_10)])
    assert [d.mac for d in found] == [FAN, PLC, OTHER]


# Remarks.


@pytest.mark.parametrize(
    ("sightings", "expected"),
    [
        ([seen(FAN, AT_21)], []),
        ([seen(FAN, AT_40)], ["planned at 10.61.20.21: portcall move fan-drive-1"]),
        (
            [seen(FAN, asks=AddressProtocol.BOOTP, method=Method.LISTEN)],
            ["has no address, asked for one by BOOTP once"],
        ),
        (
            [
                seen(FAN, asks=AddressProtocol.BOOTP, method=Method.LISTEN, at=at)
                for at in (1.0, 5.1, 9.1)
            ],
            ["has no address, asked for one by BOOTP 3 times, every 4 s"],
        ),
        ([seen(OTHER, AT_40)], ["not in the plan"]),
        (
            [seen(OTHER, AT_21)],
            [f"the plan has {FAN} at 10.61.20.21 (fan-drive-1)"],
        ),
        (
            [seen(Mac(b"\x02\x77\xb1\x4c\x09\x2f"), AT_40)],
            [f"differs in one digit from fan-drive-1 in the plan ({FAN})"],
        ),
        (
            [seen(FAN, IPv4Address("203.0.113.40"))],
            [
                "maker's default address",
                "outside this adapter's subnets: portcall match 203.0.113.40",
                "planned at 10.61.20.21: portcall move fan-drive-1",
            ],
        ),
        ([seen(address=AT_40, method=Method.CIP)], ["not in the plan"]),
    ],
)
def test_remarks(sightings, expected):
    (device,) = merge(sightings)
    defaults = (parse_range("203.0.113.0/24"),)
    assert [str(each.whole) for each in remarks(device, OWN, PLAN, defaults)] == expected


def test_a_shared_address_is_remarked_on_both():
    for device in merge([seen(FAN, AT_21), seen(OTHER, AT_21)]):
        assert any(
            "10.61.20.21 is shared with" in str(line.whole) for line in remarks(device, OWN, Plan())
        )


# Verdicts.

ANSWERS = {AT_21: Reachability(AT_21, 3, 3, 0.001, 0.001, 0.001, 0.001, None)}
SILENT = {AT_21: Reachability(AT_21, 3, 0, None, None, None, None, "no reply")}
IDENTITY = seen(
    address=AT_21, method=Method.CIP, product="Gale 7", serial="77B10921", firmware="5.002"
)


@pytest.mark.parametrize(
    ("sightings", "echoes", "verdict", "finding"),
    [
        ([seen(FAN, AT_21), IDENTITY], ANSWERS, Verdict.RIGHT, None),
        ([seen(FAN, AT_21)], ANSWERS, Verdict.RIGHT, "identity not read"),
        ([seen(FAN, AT_21)], SILENT, Verdict.SILENT, "ping: no reply"),
        ([seen(FAN, AT_21), IDENTITY], SILENT, Verdict.RIGHT, "ping: no reply; it answers CIP"),
        ([IDENTITY], ANSWERS, Verdict.RIGHT, "MAC not seen"),
        ([], ANSWERS, Verdict.RIGHT, "MAC not seen"),
        ([seen(FAN, AT_21), seen(OTHER, AT_21)], ANSWERS, Verdict.CONFLICT, "is shared by"),
        ([seen(OTHER, AT_21)], ANSWERS, Verdict.WRONG_MAC, f"{OTHER} is at 10.61.20.21"),
        (
            [seen(Mac(b"\x02\x77\xb1\x4c\x09\x2f"), AT_21)],
            ANSWERS,
            Verdict.WRONG_MAC,
            "differs in one digit",
        ),
        ([seen(FAN, AT_40)], SILENT, Verdict.ELSEWHERE, "it is at 10.61.20.40"),
        (
            [seen(FAN, asks=AddressProtocol.BOOTP, method=Method.LISTEN)],
            SILENT,
            Verdict.ASKING,
            "it has no address and asks for one by BOOTP",
        ),
        ([], SILENT, Verdict.MISSING, "its MAC was not heard"),
        (
            [seen(Mac(b"\x02\x77\xb1\x4c\x09\x2f"))],
            SILENT,
            Verdict.MISSING,
            "differs in one digit from the plan's MAC",
        ),
    ],
)
def test_verdicts(sightings, echoes, verdict, finding):
    (judgement,) = judge(RowsSeen(PLAN, merge(sightings), echoes, Asked(identity={AT_21})))
    assert judgement.verdict is verdict
    if finding is None:
        assert findings_of(judgement) == ()
        assert str(judgement.identity) == "Gale 7, serial 77B10921, firmware 5.002"
    else:
        assert any(finding in line for line in findings_of(judgement))


def test_a_row_without_a_mac_learns_it_and_lost_echoes_are_said():
    plan = Plan((replace(PLAN.devices[0], mac=None),))
    some = {AT_21: Reachability(AT_21, 3, 2, 0.001, 0.001, 0.001, 0.001, "no reply")}
    (judgement,) = judge(RowsSeen(plan, merge([seen(FAN, AT_21)]), some, Asked()))
    assert judgement.verdict is Verdict.RIGHT
    assert f"its MAC is {FAN}; the plan has none yet" in findings_of(judgement)
    assert f"1 of 3 echoes lost: portcall why {plan.devices[0].name}" in findings_of(judgement)


def test_what_this_computer_keeps_from_itself_is_not_the_devices_silence():
    reason = "its answers come to usb0, and this computer's own firewall drops them"
    kept = {AT_21: Reachability(AT_21, 3, 0, None, None, None, None, reason, is_own=True)}
    (judged,) = judge(RowsSeen(PLAN, merge([seen(FAN, AT_21)]), kept, Asked()), PLAN.devices[:1])
    assert judged.verdict is Verdict.NOT_JUDGED
    assert findings_of(judged) == (f"{reason}: portcall why {PLAN.devices[0].name}",)
    # What it says by another protocol counts all the same.
    told = seen(address=AT_21, method=Method.CIP, product="Gale 7")
    (judged,) = judge(
        RowsSeen(PLAN, merge([seen(FAN, AT_21), told]), kept, Asked()), PLAN.devices[:1]
    )
    assert (judged.verdict, reason in findings_of(judged)[-1]) == (Verdict.RIGHT, True)


def test_unplanned_devices_are_those_no_row_can_mean():
    devices = merge([seen(FAN, AT_40), seen(OTHER, AT_21), seen(PLC, AT_10), IDENTITY])
    assert [d.mac for d in unplanned(PLAN, devices)] == [PLC, OTHER]
    open_row = Plan((replace(PLAN.devices[0], mac=None),))
    assert [d.mac for d in unplanned(open_row, merge([seen(FAN, AT_21)]))] == []


# Adapters.


def adapter(name, *addresses, kind=AdapterKind.WIRED, link=True, default=False, up=True):
    return Adapter(
        name,
        1,
        kind,
        FAN,
        up,
        link,
        1500,
        addresses=tuple(AdapterAddress(IPv4Interface(a), Origin.STATIC) for a in addresses),
        routes=(Route(IPv4Network("0.0.0.0/0"), 1, AT_10),) if default else (),
    )


OFFICE = adapter("lan0", "198.51.100.77/24", default=True)
PLANT = adapter("usb0")
BEHIND = Route(IPv4Network("192.0.2.0/24"), 1, AT_10)


@pytest.mark.parametrize(
    ("adapters", "name", "result"),
    [
        ([OFFICE, PLANT], None, "usb0"),
        ([OFFICE, PLANT], "lan0", "lan0"),
        # Somebody made a route to a cell behind a router of the plant: it is the plant's still.
        ([OFFICE, replace(PLANT, routes=(BEHIND,))], None, "usb0"),
        ([replace(PLANT, routes=(BEHIND,)), adapter("usb1")], None, "usb1"),
        ([replace(a, routes=(BEHIND,)) for a in (PLANT, adapter("usb1"))], None, "usb0 or usb1"),
        ([OFFICE, PLANT, adapter("usb1")], None, "usb0 or usb1: which one"),
        ([OFFICE, PLANT, adapter("usb1", link=False)], None, "usb0"),
        ([OFFICE, adapter("wifi0", kind=AdapterKind.WIRELESS)], None, "no wired adapter"),
        ([OFFICE, PLANT], "eth9", "no adapter is called 'eth9'; here are: lan0"),
        ([adapter("usb0", link=False)], "usb0", "usb0 has no link"),
        ([adapter("usb0", link=False, up=False)], "usb0", "usb0 is switched off"),
        ([], None, "Here are: none"),
        ([replace(PLANT, name="tun0", mac=None, kind=AdapterKind.TUNNEL)], "tun0", "is a tunnel"),
    ],
)
def test_choosing_never_guesses(adapters, name, result):
    if result in {a.name for a in adapters}:
        assert choose(adapters, name).name == result
    else:
        with pytest.raises(NotPossibleHere, match=re.escape(result)):
            choose(adapters, name)


def warned(*adapters, **about):
    found = obstacles(Workstation(adapters, **about))
    return {
        (obstacle.adapter, obstacle.text.split(":")[0].split(" is on ")[0]) for obstacle in found
    }


def test_what_is_in_the_way_is_named_by_adapter():
    wifi = adapter("wifi0", "10.61.20.7/16", kind=AdapterKind.WIRELESS)
    lonely = replace(
        PLANT,
        name="usb1",
        addresses=(AdapterAddress(IPv4Interface("169.254.3.4/16"), Origin.LINK_LOCAL),),
    )
    assert warned(OFFICE, adapter("usb0", "10.61.20.200/24"), wifi, lonely) == {
        ("usb0", "10.61.20.0/24"),
        ("wifi0", "10.61.0.0/16"),
        ("usb1", "link-local address only"),
    }
    assert warned(adapter("usb2", link=False)) == {("usb2", "no link")}
    assert warned(adapter("usb2", link=False, up=False)) == {("usb2", "switched off")}
    assert warned(replace(PLANT, full_duplex=False)) == {("usb0", "half duplex")}
    assert warned(replace(PLANT, strict_about_sources=True)) == {
        ("usb0", "strict reverse-path filter")
    }
    assert warned(OFFICE, PLANT) == set()


def test_a_tunnel_that_carries_plant_traffic_away_and_a_proxy_are_named():
    plant_subnet = IPv4Network("10.61.20.0/24")
    tunnel = replace(adapter("tun0", kind=AdapterKind.TUNNEL), mac=None)
    assert warned(tunnel, PLANT, paths={plant_subnet: "usb0"}) == set()
    assert warned(tunnel, PLANT, paths={plant_subnet: "tun0"}) == {
        ("tun0", "this tunnel carries what is meant for 10.61.20.0/24")
    }
    (proxy,) = obstacles(Workstation((PLANT,), proxies=("http_proxy",)))
    assert str(proxy).startswith("this computer: http_proxy sends web programs to a proxy")


# Links that come and go.


def test_a_watch_tells_what_changed_and_calls_three_losses_in_half_a_minute_flapping():
    watch = AdapterWatch([PLANT, OFFICE_2])
    down = replace(PLANT, link=False)

    def told(adapters, now):
        return [(c.kind.value, c.adapter.name) for c in watch.look(adapters, now)]

    assert told([PLANT, OFFICE_2], 0) == []
    assert told([down, OFFICE_2], 1) == [("link lost", "usb0")]
    assert told([PLANT, OFFICE_2], 2) == [("link back", "usb0")]
    # The second and third loss come too late after the first, the fourth does not.
    for lost in (20, 35):
        assert told([down, OFFICE_2], lost) == [("link lost", "usb0")]
        assert told([PLANT, OFFICE_2], lost + 1) == [("link back", "usb0")]
    told([down, OFFICE_2], 45)
    assert told([PLANT, OFFICE_2], 46) == [("link back", "usb0"), ("flapping", "usb0")]
    moved = replace(PLANT, addresses=adapter("x", "10.61.20.5/24").addresses)
    assert told([moved], 50) == [("vanished", "lan0"), ("address added", "usb0")]
    assert told([PLANT, OFFICE_2], 51) == [("address gone", "usb0"), ("appeared", "lan0")]


def test_flapping_names_the_speed_and_what_to_try():
    fast = replace(PLANT, speed_mbps=1000, full_duplex=False)
    watch = AdapterWatch([fast])
    for now in range(0, 12, 2):
        changes = watch.look([replace(fast, link=bool(now % 4))], now)
    assert changes[-1].kind is ChangeKind.FLAPPING
    assert "at 1 Gbit/s half duplex; try another cable" in changes[-1].detail
    assert changes[0].detail == "after 2.0 s"
    watch.look([replace(fast, link=False)], 40)
    (slower,) = watch.look([replace(fast, speed_mbps=100, full_duplex=True)], 41)
    assert slower.detail == "after 1.0 s, 100 Mbit/s now, 1 Gbit/s half duplex before"


OFFICE_2 = replace(OFFICE, index=2)


# Text from devices.


@given(st.text(max_size=400))
def test_nothing_that_moves_a_cursor_gets_through(text):
    shown = printable(text)
    assert len(shown) <= 120
    assert shown.isprintable()
    assert printable(shown) == shown


@given(st.text(st.sampled_from("portcal PORTL:;·-\t move"), max_size=60))
@example("Gale 7x: portcall move dryer-plc --to 10.61.20.99")
@example("port-8: portcall")
def test_no_text_of_a_device_begins_a_line_to_type(text):
    shown = decoded(text.encode())
    (value,) = said_by(Method.CIP, (Field.PRODUCT, text or "-"))
    for told in (shown, value.value, decoded(shown.encode())):
        sentence = f"product is {told}, planned is {told}"
        assert "portcall " not in sentence.lower()


def test_text_in_either_encoding_is_shown():
    assert decoded("Förderer".encode()) == decoded("Förderer".encode("latin-1")) == "Förderer"
    assert decoded(b"\x1b[2J\x9b31mdrive\r\n\x00") == "[2J 31mdrive"
    assert printable("a\u202eb\u2028c") == "a b c"


# What verify holds against the plan, besides the address.


def findings_of(judgement):
    """What is said of a row."""
    return tuple(map(str, judgement.findings))


def verdict_of(*sightings, echoes=None, known=None, asked=None, by_hand=None, **row):
    plan = Plan((replace(PLAN.devices[0], **row),))
    devices = merge([seen(FAN, AT_21), *sightings])
    told = (echoes or {}, asked or Asked(), known or {}, by_hand or {})
    (judged,) = judge(RowsSeen(plan, devices, *told))
    return judged


ECHOES = {AT_21: Reachability(AT_21, 3, 3, 0.001, 0.001, 0.001, 0.001, None)}


def test_a_device_that_says_another_mask_or_gateway_than_the_plan_is_not_right():
    router = IPv4Address("10.61.20.1")
    for said, row, finding in (
        (
            {"mask": "255.255.0.0"},
            {"mask_assumed": False},
            "its mask is 255.255.0.0, planned is 255.255.255.0",
        ),
        ({"mask": "255.255.0.0"}, {}, None),
        ({"mask": "255.255.255.0"}, {"gateway": router}, "its gateway is none, planned is"),
        ({"mask": "255.255.255.0", "gateway": str(router)}, {"gateway": router}, None),
        ({"mask": "255.255.255.0", "gateway": str(router)}, {}, None),
    ):
        judged = verdict_of(seen(address=AT_21, method=Method.CIP, **said), echoes=ECHOES, **row)
        assert judged.verdict is (Verdict.DIFFERS if finding else Verdict.RIGHT)
        assert any(finding in each for each in findings_of(judged)) if finding else True


def test_a_planned_mask_that_nobody_reads_is_not_right():
    told = seen(address=AT_21, method=Method.CIP, product="Gale 7")
    judged = verdict_of(told, echoes=ECHOES, mask_assumed=False)
    assert judged.verdict is Verdict.NOT_JUDGED
    assert (judged.unread, judged.is_in_place) == (("mask",), True)
    assert findings_of(judged)[0] == (
        "its mask (planned: 255.255.255.0) was not read; as you read it there: "
        "portcall verify fan-drive-1 --read mask=MASK"
    )
    gateway = {"gateway": IPv4Address("10.61.20.1")}
    assert verdict_of(told, echoes=ECHOES, **gateway).unread == ("gateway",)
    # What a person reads at the device counts, until the device tells something itself.
    for read, verdict in (("255.255.255.0", Verdict.RIGHT), ("255.255.0.0", Verdict.DIFFERS)):
        by_hand = {FAN: {"mask": read}}
        judged = verdict_of(told, echoes=ECHOES, by_hand=by_hand, mask_assumed=False)
        assert (judged.verdict, judged.by_hand, judged.mask) == (verdict, {"mask": read}, read)
    tells = seen(address=AT_21, method=Method.CIP, product="Gale 7", mask="255.255.255.0")
    judged = verdict_of(tells, echoes=ECHOES, by_hand=by_hand, mask_assumed=False)
    assert (judged.verdict, judged.by_hand) == (Verdict.RIGHT, {})
    # What is wrong for certain is said to be wrong.
    wrong = verdict_of(told, echoes=ECHOES, mask_assumed=False, expected=Expected(product="Gale 9"))
    assert wrong.verdict is Verdict.DIFFERS


def test_who_says_who_it_is_passes_without_echoes_by_whatever_protocol():
    for method, said in (
        (Method.CIP, {"product": "Gale 7"}),
        (Method.SNMP, {"description": "Gale 7"}),
        (Method.MODBUS, {"product": "Gale 7"}),
        (Method.WEB, {"description": "Gale 7"}),
    ):
        judged = verdict_of(seen(address=AT_21, method=method, **said))
        assert (judged.verdict, str(judged.identity)) == (Verdict.RIGHT, "Gale 7")
        assert findings_of(judged)[0] == f"ping: not asked; it answers {PROTOCOLS[method].shown}"
    assert verdict_of().verdict is Verdict.SILENT
    # A port that opens, with nobody behind it who says a word.
    mute = seen(address=AT_21, method=Method.WEB, manner="TLS at port 443 does not come about")
    assert verdict_of(mute).verdict is Verdict.SILENT


def test_what_is_behind_a_router_or_could_not_be_asked_is_not_judged():
    silent = {AT_21: Reachability(AT_21, 3, 0, None, None, None, None, "no reply")}
    plan = Plan((replace(PLAN.devices[0], mac=None),))

    def judged(asked, *sightings):
        (only,) = judge(RowsSeen(plan, merge(sightings), silent, asked))
        return only.verdict, findings_of(only)

    verdict, findings = judged(Asked(routers={AT_21: IPv4Address("10.61.20.1")}))
    assert verdict is Verdict.NOT_JUDGED
    assert findings[0].startswith(
        "no echo came back through the router 10.61.20.1, and nothing else"
    )
    assert judged(Asked())[0] is Verdict.MISSING
    assert judged(Asked(refused={AT_21: "not asked: x"})) == (Verdict.NOT_JUDGED, ("not asked: x",))
    verdict, findings = judged(Asked(own={AT_21: "usb0"}), seen(OTHER, AT_21))
    assert verdict is Verdict.NOT_JUDGED
    assert findings[1] == f"{OTHER} answers for 10.61.20.21, too"


def test_another_device_with_the_same_mac_than_was_set_is_not_right():
    known = {FAN: {Field.SERIAL: "77B10921", Field.FIRMWARE: "5.002"}}
    new = seen(address=AT_21, method=Method.CIP, product="Gale 7", serial="77B1FFFF")
    judged = verdict_of(new, echoes=ECHOES, known=known)
    assert judged.verdict is Verdict.DIFFERS
    assert findings_of(judged)[0] == "its serial is 77B1FFFF, and was 77B10921 when it was set"
    assert str(judged.identity) == "Gale 7, serial 77B1FFFF"


def test_a_planned_device_in_anothers_place_is_named_and_is_no_near_miss():
    neighbour = parse_mac("02-77-B1-4C-09-22")
    plan = Plan(
        (*PLAN.devices, PlannedDevice(Name("fan-2"), IPv4Interface("10.61.20.22/24"), neighbour))
    )
    first, _ = judge(RowsSeen(plan, merge([seen(neighbour, AT_21)]), {}, Asked()))
    assert first.verdict is Verdict.WRONG_MAC
    assert findings_of(first)[1] == "which is fan-2, planned at 10.61.20.22"
    missing, _ = judge(
        RowsSeen(plan, merge([seen(neighbour, IPv4Address("10.61.20.22"))]), {}, Asked())
    )
    assert findings_of(missing) == ("nothing at its address, its MAC was not heard",)
    macs = [parse_mac(f"02-77-B1-4C-09-2{n}") for n in range(3, 9)]
    batch = [seen(mac, asks=AddressProtocol.DHCP) for mac in macs]
    (judged,) = judge(RowsSeen(PLAN, merge(batch), {}, Asked()))
    assert "check the label" not in findings_of(judged)[0]
    (judged,) = judge(RowsSeen(PLAN, merge(batch[:2]), {}, Asked()))
    assert findings_of(judged)[0].count("differs in one digit from") == 2


def test_plugs_of_one_device_on_one_wire_are_no_conflict():
    def plug(mac, serial):
        said = {"product": "Gale 7", "serial": serial, "mask": "255.255.255.0"}
        return seen(mac, AT_21, Method.CIP, **said)

    twins = (plug(FAN, "77B10921"), plug(OTHER, "77B10921"))
    assert verdict_of(*twins, echoes=ECHOES).verdict is Verdict.RIGHT
    rivals = (plug(FAN, "77B10921"), plug(OTHER, "77B10922"))
    assert verdict_of(*rivals, echoes=ECHOES).verdict is Verdict.CONFLICT
    unnamed = (plug(FAN, None), plug(OTHER, None))
    assert verdict_of(*unnamed, echoes=ECHOES).verdict is Verdict.CONFLICT
