"""The drawing: nothing overlaps, no wire crosses another, and one device more shuffles nothing."""

import re
from dataclasses import replace
from ipaddress import IPv4Address, IPv4Interface, IPv4Network
from itertools import combinations

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from portcall.core.address import parse_mac
from portcall.core.find.devices import Gathering
from portcall.core.find.overview import Scene
from portcall.core.find.switch_tables import Port, SwitchTables
from portcall.core.finding import Name
from portcall.core.plan.rows import Plan, PlannedDevice, Subnet
from portcall.core.record.look import read_look
from portcall.core.sketch.compose import DrawnLook, compose
from portcall.core.sketch.layout import lay_out
from portcall.core.sketch.picture import (
    Band,
    Branch,
    Figure,
    Mark,
    Picture,
    picture_document,
    read_picture,
)
from portcall.core.sketch.sheet import PAPERS
from portcall.core.sketch.words import PHRASES, told_in

NETWORKS = [IPv4Network(f"10.61.{n}.0/24") for n in (20, 30, 40)]


def measure(text, bold):
    """Letters of very different widths, as a real font has."""
    return sum(0.3 if c in "il.,1 " else 0.9 if c in "mwMW—" else 0.6 for c in text) * (
        1 + bold / 9
    )


texts = st.text(alphabet="ilmw-.12 —$_^\\<&", max_size=40)


@st.composite
def branches(draw, depth=0):
    name = draw(texts)
    bands = [
        Band(
            network,
            f"{network} {draw(texts)}",
            tuple(
                Figure(
                    f"{name}{n}",
                    draw(texts),
                    f"10.61.20.{n}",
                    draw(texts),
                    draw(st.sampled_from(("", "port 3", "GigabitEthernet 1/0/12 of the stack"))),
                    mark := draw(st.sampled_from(list(Mark))),
                    mark.value,
                )
                for n in range(draw(st.integers(1, 30)))
            ),
        )
        for network in draw(st.lists(st.sampled_from(NETWORKS), unique=True, max_size=3))
    ]
    below = draw(st.lists(branches(depth + 1), max_size=2)) if depth < 3 else []
    switch = Figure(name, name, "10.61.20.2", draw(texts)) if draw(st.booleans()) else None
    return Branch(name, switch, draw(texts), tuple(bands), tuple(below))


pictures = st.builds(
    Picture,
    texts,
    texts,
    st.tuples(texts, texts),
    st.lists(branches(), min_size=1, max_size=2).map(tuple),
    st.lists(texts, max_size=4).map(tuple),
)


def rectangle(words):
    width = measure(words.text, words.bold) * words.size
    return words.x, words.y - 0.76 * words.size, words.x + width, words.y + 0.24 * words.size


def overlap(one, other):
    slack = 0.01
    return (
        one[0] < other[2] - slack
        and other[0] < one[2] - slack
        and one[1] < other[3] - slack
        and other[1] < one[3] - slack
    )


def crossings(wires):
    """Wires that cut through each other; where one ends on another, they are joined."""
    across = [w for w in wires if w.y == w.to_y]
    down = [w for w in wires if w.x == w.to_x]
    return [
        (a, d)
        for a in across
        for d in down
        if a.x + 0.01 < d.x < a.to_x - 0.01 and d.y + 0.01 < a.y < d.to_y - 0.01
    ]


@pytest.mark.long
@given(pictures, st.sampled_from(list(PAPERS.values())))
@settings(max_examples=60, deadline=None)
def test_nothing_overlaps_or_crosses_or_leaves_the_paper(picture, paper):
    sheets = lay_out(picture, paper, measure)
    for sheet in sheets:
        places = sorted(map(rectangle, filter(lambda w: w.text.strip(), sheet.words)))
        for place in places:
            assert min(place[:2]) > 0
            assert (place[2] < paper.width, place[3] < paper.height) == (True, True), place
        for n, place in enumerate(places):
            for other in places[n + 1 :]:
                if other[0] >= place[2]:
                    break
                assert not overlap(place, other), (place, other)
        assert crossings(sheet.wires) == []
        boxes = [box for box in sheet.boxes if box.style != "band"]
        for one, other in combinations(boxes, 2):
            assert not overlap(
                (one.x, one.y, one.right, one.bottom), (other.x, other.y, other.right, other.bottom)
            )
    drawn = sum(box.style not in ("band", "workstation") for s in sheets for box in s.boxes)
    unknown = sum(1 for b in walk(picture.branches) if b.switch is None)
    assert drawn == sum(1 for _ in picture.figures()) + unknown


def walk(some):
    for each in some:
        yield each
        yield from walk(each.branches)


def plant(count, more=()):
    """So many devices in two subnets behind a switch, as a look has them."""
    devices = [
        {
            "mac": f"02-77-B1-00-{n >> 8:02X}-{n & 255:02X}",
            "addresses": [f"10.61.{40 if n > 199 else 20 if n % 5 else 30}.{n % 200 + 10}"],
            "methods": ["arp"],
            "said": [{"what": "name", "value": f"drive-{n}", "by": "cip"}],
        }
        for n in (*range(count), *more)
    ]
    switch = SwitchTables(
        IPv4Address("10.61.20.2"),
        (parse_mac("02-D0-11-00-00-01"),),
        tuple(
            Port(str(n + 1), tuple(parse_mac(d["mac"]) for d in devices[n::8])) for n in range(8)
        ),
    )
    return devices, switch


def composed(devices, switches=(), rows=(), asked=("10.61.20.0/24", "10.61.30.0/24"), **more):
    body = {"devices": devices, "asked": list(asked), "methods": ["arp"], **more}
    look = replace(read_look(body), switches=tuple(switches), own=parse_mac("02-1A-40-00-00-05"))
    gathering = Gathering(plan=Plan(tuple(rows)))
    for each in look.sightings():
        gathering.add(each)
    subnets = [Subnet(NETWORKS[0], IPv4Address("10.61.20.1"))]
    own = [IPv4Interface("10.61.20.200/24")]
    scene = Scene(gathering.devices(), own, gathering.plan, subnets)
    return compose(DrawnLook("a", "b", "usb0", scene, look, look, subnets=subnets))


@pytest.mark.parametrize(("count", "paper"), [(5, "a4"), (40, "a3"), (150, "a3"), (250, "a4")])
def test_the_same_site_draws_the_same_and_one_device_more_shuffles_nothing(count, paper):
    devices, switch = plant(count)
    picture = composed(devices, [switch])
    assert composed(list(reversed(devices)), [switch]) == picture
    assert read_picture(picture_document(picture)) == picture
    more, _ = plant(count, [290])
    after = composed(more, [switch])

    def order(some):
        return [each.key for each in some.figures()]

    assert [key for key in order(after) if key in set(order(picture))] == order(picture)
    sheets, later = (lay_out(each, PAPERS[paper], measure) for each in (picture, after))
    assert (len(sheets) > 1) == (count == 250)
    assert len(places(later)) == len(places(sheets)) + 1
    if letters(later) == letters(sheets):
        # Who comes before it stays where it is.
        at = order(after).index(next(key for key in order(after) if key not in order(picture)))
        assert places(later)[:at] == places(sheets)[:at]
    else:
        assert count == 150


def letters(sheets):
    return {words.size for sheet in sheets for words in sheet.words}


def places(sheets):
    """Where the devices stand, in their order."""
    return [
        (n, box.x, box.y)
        for n, sheet in enumerate(sheets)
        for box in sheet.boxes
        if box.style in ("device", "switch")
    ]


def row(name, address, mac=None):
    return PlannedDevice(
        Name(name), IPv4Interface(f"{address}/24"), parse_mac(mac) if mac else None
    )


def test_each_device_is_told_for_what_it_is():
    def device(n, *addresses, **more):
        mac = f"02-77-B1-00-00-{n:02X}"
        return {"mac": mac, "addresses": list(addresses), "methods": ["arp"], **more}

    devices = [
        device(1, "10.61.20.11"),
        device(2, "10.61.20.99"),
        device(3, "10.61.20.13"),
        device(4, "10.61.20.14"),
        device(5, "10.61.20.14"),
        device(6, "10.61.20.1", "10.61.30.1"),
        {**device(7), "asks": ["DHCP"]},
    ]
    rows = [
        row("one", "10.61.20.11", "02-77-B1-00-00-01"),
        row("two", "10.61.20.12", "02-77-B1-00-00-02"),
        row("gone", "10.61.20.50", "02-77-B1-00-00-50"),
        row("far", "10.61.40.51", "02-77-B1-00-00-51"),
    ]
    picture = composed(devices, rows=rows)
    told = {(each.name, each.address): each for each in picture.figures()}
    assert told["one", "10.61.20.11"].mark is Mark.NONE
    assert told["two", "10.61.20.99"].words == "planned 10.61.20.12"
    assert told["02-77-B1-00-00-03", "10.61.20.13"].mark is Mark.UNPLANNED
    assert told["02-77-B1-00-00-05", "10.61.20.14"].mark is Mark.TWICE
    assert told["gone", "10.61.20.50"].mark is Mark.NOT_THERE
    # Nobody asked there: it may be.
    assert told["far", "10.61.40.51"].mark is Mark.NOT_ASKED
    assert told["02-77-B1-00-00-06", "10.61.20.1"].is_gateway
    assert ("02-77-B1-00-00-06", "10.61.30.1") in told
    assert told["02-77-B1-00-00-07", "asks by DHCP"].mark is Mark.UNPLANNED
    (loose,) = picture.branches
    assert [band.label for band in loose.bands] == [
        "10.61.20.0/24, gateway 10.61.20.1",
        "10.61.30.0/24, mask assumed",
        "10.61.40.0/24",
        "without an IPv4 address",
    ]
    cut = composed(devices, rows=rows, interrupted=True)
    assert {each.mark for each in cut.figures() if each.name == "gone"} == {Mark.NOT_ASKED}
    silent = composed(devices[:1], rows=rows[:1])
    assert silent.branches[0].bands[0].label == "10.61.20.0/24, gateway 10.61.20.1 not there"


def test_what_no_port_is_known_for_is_said_and_what_hangs_behind_one_port_too():
    devices, switch = plant(24)
    told = composed([*devices, plant(0, [99])[0][0]], [switch])
    assert [branch.switch is None for branch in told.branches] == [False, True]
    assert "where no switch tells the port, it is not known" in told.remarks
    assert any(each.startswith("3 devices are behind 1 of 10.61.20.2") for each in told.remarks)
    # A device in two subnets is drawn twice, and is one.
    devices[0]["addresses"].append("10.61.40.9")
    again = composed(devices, [switch])
    assert any(each.startswith("3 devices are behind 1 of 10.61.20.2") for each in again.remarks)


def test_a_picture_is_told_in_a_language_and_names_stay():
    for text, german in (
        ("not there", "nicht da"),
        ("7 there, 1 here", "dort 7, hier 1"),
        ("gateway 10.61.20.1 not there", "Gateway 10.61.20.1 nicht da"),
        ("seen on 2026-08-20 16:00 by anna on bench-2; 301 devices", None),
        ("fan-drive-1", "fan-drive-1"),
        ("10.61.20.0/24", "10.61.20.0/24"),
    ):
        told = told_in(text, "de")
        assert told == german if german else told.endswith("von anna (bench-2); 301 Geräte"), text
        assert told_in(text, "en") == text
    for english, *others in PHRASES.table:
        fields = sorted(re.findall(r"\{.\}", english))
        assert [sorted(re.findall(r"\{.\}", each)) for each in others] == [fields, fields], english
    figures = tuple(
        Figure(f"k{n}", f"fan-{n}", "no address", "drive", str(n), mark, mark.value)
        for n, mark in enumerate(Mark)
    )
    bands = (Band(NETWORKS[0], f"{NETWORKS[0]}, gateway 10.61.20.1 not there", figures * 9),)
    switch = Figure("s", "main-switch", "10.61.20.2", "", "", Mark.NONE, "")
    branches = (
        Branch("main-switch", switch, "next to this workstation", bands),
        Branch("plugged in somewhere on this wire", None, "", (Band(None, UNADDRESSED, figures),)),
    )
    about = "seen on 2026-08-20 16:00 by anna on bench-2; 3 devices"
    remarks = ("main-switch did not tell all of its ports",)
    whole = Picture("mill", about, ("this workstation", "usb0"), branches, remarks)
    sheets = lay_out(whole, PAPERS["a4"], measure, "de")
    told = " ".join(words.text for sheet in sheets for words in sheet.words)
    assert "fan-3" in told
    for english in ("there", "here", "plan ", "device", "sheet", "continued", "wire", "looked"):
        assert english not in told, told


UNADDRESSED = "without an IPv4 address"
