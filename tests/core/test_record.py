"""What looks come to: compared, and folded into how far a site is."""

import json
from datetime import UTC, datetime, timedelta
from ipaddress import IPv4Address, IPv4Interface

import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from portcall.core import document
from portcall.core.address import parse_mac
from portcall.core.document import OddDocument, Part
from portcall.core.find.devices import Gathering
from portcall.core.find.sentences import MODBUS_BEHIND
from portcall.core.find.sighting import Door, Field, Method, Said, Sighting
from portcall.core.finding import Line, Name, Setting, as_json
from portcall.core.plan.rows import Plan, PlannedDevice
from portcall.core.printable import DeviceText
from portcall.core.record.compare import compare
from portcall.core.record.entry import Entry, Kind, read_entry
from portcall.core.record.look import device_document, read_look
from portcall.core.record.standing import DeviceState, standing
from portcall.core.report import content
from portcall.core.talk.request import AddressProtocol
from portcall.core.trouble import BadInput
from portcall.core.verify.sentences import IS_AT, MAC_NOT_HEARD, NOT_READ
from portcall.jobs.record.reading import parse_time

FAN, PUMP = "02-77-B1-00-00-21", "02-77-B1-00-00-22"
MASK = "255.255.255.0"
START = datetime(2026, 11, 20, 8, 0, tzinfo=UTC)


def device(mac, *addresses, methods=("arp", "cip"), by="cip", **values):
    said = [{"what": key, "value": value, "by": by} for key, value in values.items()]
    ports = values.pop("ports", [])
    return {
        "mac": mac,
        "addresses": list(addresses),
        "methods": list(methods),
        "said": [each for each in said if each["what"] != "ports"],
        "ports": ports,
        **values,
    }


def seen(*devices, asked=("10.61.20.0/24",), methods=("arp", "cip", "dcp", "ports"), **more):
    return read_look(
        {"devices": list(devices), "asked": list(asked), "methods": list(methods), **more}
    )


def sentences(one, other):
    found = compare(one, other)
    return (
        [each.mac for each in found.appeared],
        [each.mac for each in found.vanished],
        [f"{each.mac[-2:]} {each}" for each in found.changed],
        [each.reason for each in found.undecided],
    )


@pytest.mark.parametrize(
    ("was", "now", "change"),
    [
        ({"firmware": "5.002"}, {"firmware": "5.004"}, "21 firmware is 5.004, was 5.002"),
        ({"name": "a"}, {"name": "b"}, "21 name is b, was a"),
        ({"mask": "255.255.255.0"}, {"mask": "255.255.0.0"}, "21 mask is 255.255.0.0, was 255."),
        ({"firmware": "5.002"}, {}, None),
        ({}, {"firmware": "5.002"}, None),
        ({"ports": ["80 web"]}, {"ports": []}, "21 doors is none, was 80 web"),
    ],
)
def test_a_value_that_is_otherwise_is_a_change_and_one_that_is_not_told_is_none(was, now, change):
    one, other = seen(device(FAN, "10.61.20.21", **was)), seen(device(FAN, "10.61.20.21", **now))
    _, _, changed, _ = sentences(one, other)
    assert bool(changed) is (change is not None)
    assert changed == [] or changed[0].startswith(change)


def test_addresses_and_devices_that_come_go_and_take_each_others_place():
    one = seen(device(FAN, "10.61.20.21"), device(PUMP, "10.61.20.22"))
    other = seen(device(FAN, "10.61.20.31"), device("02-77-B1-00-00-99", "10.61.20.22"))
    appeared, vanished, changed, undecided = sentences(one, other)
    assert (appeared, vanished, undecided) == (["02-77-B1-00-00-99"], [PUMP], [])
    assert changed == [
        "21 address is 10.61.20.31, was 10.61.20.21",
        f"99 device at 10.61.20.22 is 02-77-B1-00-00-99, was {PUMP}",
    ]
    assert compare(one, one).is_same
    told = compare(one, other, lambda mac, what: f"why {what}" if mac == FAN else "")
    assert told.changed[0].why == "why address"


@pytest.mark.parametrize(
    ("changed", "reason"),
    [
        ({"asked": ("10.61.30.0/24",)}, "10.61.20.21 was not asked"),
        ({"methods": ("dcp",)}, "it was seen by arp, cip only, which did not run"),
        ({"interrupted": True}, "the look was interrupted, or its cable was out"),
        ({"cable_out": True}, "the look was interrupted, or its cable was out"),
    ],
)
def test_what_a_look_could_not_see_is_never_called_vanished(changed, reason):
    one, other = seen(device(FAN, "10.61.20.21")), seen(**changed)
    assert sentences(one, other) == ([], [], [], [f"not known whether it is there: {reason}"])
    backwards = sentences(other, one)
    assert backwards == ([], [], [], [f"not known whether it is new: {reason}"])


def test_who_was_only_overheard_is_not_said_to_be_gone_when_it_is_silent():
    one = seen(device(FAN, methods=("listen", "registry")), methods=("arp", "listen"))
    _, vanished, _, undecided = sentences(one, seen(methods=("arp", "listen")))
    assert (vanished, len(undecided)) == ([], 1)
    assert "it was only overheard, and need not have spoken" in undecided[0]


def test_what_is_written_of_a_device_gives_the_same_device_again():
    first = Gathering(lambda mac: "by the registry")
    said = (
        Said(Field.PRODUCT, DeviceText("Gale 7"), Method.CIP),
        Said(Field.MANNER, MODBUS_BEHIND(unit=3, says=["Ebb 3", "1.0"]), Method.CIP),
    )
    door = (Said(Field.DOOR, Door(80, "web"), Method.PORTS),)
    first.add(Sighting(0.0, Method.CIP, parse_mac(FAN), IPv4Address("10.61.20.21"), said))
    first.add(Sighting(0.0, Method.PORTS, parse_mac(FAN), IPv4Address("10.61.20.21"), door))
    first.add(Sighting(0.0, Method.ARP, parse_mac(FAN), IPv4Address("10.61.20.21")))
    first.add(Sighting(0.0, Method.LISTEN, parse_mac(PUMP), asks=AddressProtocol.BOOTP))
    written = [device_document(each, ()) for each in first.devices()]
    again = Gathering(lambda mac: "by the registry")
    look = read_look(json.loads(json.dumps({"devices": written})))
    for sighting in look.sightings():
        again.add(sighting)
    assert [device_document(each, ()) for each in again.devices()] == written


@pytest.mark.parametrize(
    ("words", "begins", "ends"),
    [
        ("today", "2026-11-27T00:00", "2026-11-28T00:00"),
        ("yesterday", "2026-11-26T00:00", "2026-11-27T00:00"),
        ("2026-11-20", "2026-11-20T00:00", "2026-11-21T00:00"),
        ("2026-11-20 14:00", "2026-11-20T14:00", "2026-11-20T14:00:00.000001"),
    ],
)
def test_a_day_or_a_moment_begins_and_ends(words, begins, ends):
    now = datetime(2026, 11, 27, 10).astimezone()
    told = parse_time(words, lambda: now)
    assert told.begins == datetime.fromisoformat(begins).astimezone()
    assert told.ends == datetime.fromisoformat(ends).astimezone()


@pytest.mark.parametrize("words", ["soon", "", "9999-12-31", "0001-01-01 00:00", "2026-13-01"])
def test_what_is_no_time_is_said_to_be_none(words):
    try:
        parse_time(words)
    except BadInput as refusal:
        assert "is no look and no time" in str(refusal)
    else:
        assert words.startswith("0001")  # There, in a time zone that is not behind UTC.


@given(
    st.recursive(
        st.none() | st.booleans() | st.integers() | st.text(max_size=5) | st.just("devices"),
        lambda inner: (
            st.lists(inner, max_size=4)
            | st.dictionaries(
                st.sampled_from(
                    ["devices", "mac", "addresses", "said", "methods", "asked", "ports"]
                )
                | st.text(max_size=4),
                inner,
                max_size=5,
            )
        ),
        max_leaves=20,
    )
)
def test_any_json_is_a_look_an_entry_or_none(document):
    look = read_look(document)
    if look is not None:
        assert compare(look, look).is_same
        gathering = Gathering()
        for sighting in look.sightings():
            gathering.add(sighting)
        assert len(gathering.devices()) <= 2 * len(look)
    if isinstance(document, dict):
        for kind in Kind:
            standing(PLAN, [entry(kind, 1, document, name="fan", mac=FAN)])
    assert read_entry(document) is None or read_entry(document).uid


FAN_NAME = Name("fan")
PLAN = Plan(
    (
        PlannedDevice(Name("fan"), IPv4Interface("10.61.20.21/24"), parse_mac(FAN), group="A"),
        PlannedDevice(Name("pump"), IPv4Interface("10.61.20.22/24"), parse_mac(PUMP)),
    )
)


def entry(kind, hours, body=None, **about):
    made = Entry(f"{kind}{hours}", START + timedelta(hours=hours), kind, **about)
    return made, body or {}


def judged(name, mac, address, verdict, *findings):
    values = {"name": name, "mac": mac, "address": address, "verdict": verdict}
    codes = [as_json(each) for each in findings]
    return {**values, "findings": list(map(str, findings)), "codes": codes}


def states(*entries):
    found = standing(PLAN, entries)
    return [(each.state, each.is_right) for each in found.rows], found


def test_a_line_that_a_device_or_another_computer_wrote_is_not_advised():
    for words, line in (
        ("why pump", None),
        ("move fan 10.0.0.1", None),
        ("move fan; rm -rf /", None),
        ("setup --yes fan", None),
        ("why fan $(reboot)", None),
        ("why fan mac=$(reboot)", None),
        ("", None),
        ("move fan", Line("move", FAN_NAME)),
        ("assign fan --keep", Line("assign", FAN_NAME, "--keep")),
    ):
        row = judged("fan", FAN, "10.61.20.21", "differs", MAC_NOT_HEARD())
        row["codes"][0]["line"] = ["portcall", *words.split()]
        (known, _) = standing(PLAN, [entry(Kind.VERIFICATION, 1, {"rows": [row]})]).rows
        assert known.next_line == (line or Line("why", FAN_NAME)), words
    # What a sentence says is no line, whoever wrote it.
    told = "its product is Gale 7x: portcall move fan"
    row = {**judged("fan", FAN, "10.61.20.21", "differs"), "findings": [told]}
    (known, _) = standing(PLAN, [entry(Kind.VERIFICATION, 1, {"rows": [row]})]).rows
    assert (known.next_line, known.detail) == (Line("why", FAN_NAME), f"differs: {told}")


def _told(*entries):
    return content._told(PLAN, [(each, Part(body)) for each, body in entries])


def test_what_is_not_all_read_is_open_and_what_was_read_by_hand_is_said_to_be():
    line = Line("verify", FAN_NAME, "--read", Setting(Name("mask"), "MASK"))
    unread_mask = NOT_READ(line, columns=["its mask"], several=False)
    not_read = judged("fan", FAN, "10.61.20.21", "not judged", unread_mask)
    unread = entry(Kind.VERIFICATION, 1, {"rows": [not_read | {"unread": ["mask"]}]})
    row = standing(PLAN, [unread]).rows[0]
    assert (row.state, row.is_right, row.next_line) == (DeviceState.NOT_ALL_READ, False, line)
    right = judged("fan", FAN, "10.61.20.21", "right") | {"mask": MASK}
    by_hand = entry(Kind.VERIFICATION, 2, {"rows": [right | {"by_hand": {"mask": MASK}}]})
    assert standing(PLAN, [unread, by_hand, unread]).rows[0].state is DeviceState.RIGHT
    assert _told(by_hand)["fan"] == {"mask": MASK, "mask by hand": "yes"}
    # What the device tells itself by now is its own word.
    itself = entry(Kind.VERIFICATION, 3, {"rows": [right]})
    assert _told(by_hand, itself)["fan"] == {"mask": MASK}


def test_the_last_known_state_of_a_row_is_what_its_entries_say_in_turn():
    asking = {**device(FAN), "asks": ["BOOTP"]}
    look = entry(Kind.LOOK, 1, {"devices": [asking, device("02-00-00-00-00-01")]})
    given_ = entry(Kind.ASSIGNED, 2, {"event": "assigned"}, name="fan", mac=FAN)
    kept = entry(Kind.SETTING, 3, {"step": "done"}, name="fan", mac=FAN)
    proved = entry(Kind.POWER_CYCLE, 4, {"verdict": "kept"}, name="fan", mac=FAN)
    elsewhere = IS_AT(Line("move", Name("pump")), addresses=[IPv4Address("10.9.9.9")])
    rows = [
        judged("fan", FAN, "10.61.20.21", "right"),
        judged("pump", PUMP, "10.61.20.22", "elsewhere", elsewhere),
    ]
    verified = entry(Kind.VERIFICATION, 5, {"rows": rows})
    steps = [look, given_, kept, proved, verified]
    expected = [
        DeviceState.ASKED,
        DeviceState.GIVEN,
        DeviceState.KEPT,
        DeviceState.PROVED,
        DeviceState.RIGHT,
    ]
    for count, state in enumerate(expected, 1):
        found, _ = states(*steps[:count])
        assert found[0] == (state, state is DeviceState.RIGHT)
    (_, pump), whole = states(*steps)
    assert pump == (DeviceState.WRONG, False)
    assert whole.rows[1].detail == "elsewhere: it is at 10.9.9.9"
    assert whole.rows[1].next_line == Line("move", Name("pump"))
    assert (whole.rows[1].code, whole.rows[1].values) == ("is-at", {"addresses": ["10.9.9.9"]})
    assert (whole.right, whole.groups) == (1, {"A": (1, 1), "": (0, 1)})
    # Undone, it is kept no more; and a swap has judged what it did.
    settings = {"step": "done", "settings": "10.61.20.21/24 by BOOTP", "asks": True}
    undone = entry(Kind.SETTING, 6, settings, name="fan", mac=FAN, address="10.61.20.21")
    after, told = states(*steps, undone)
    assert (after[0], told.rows[0].kept) == ((DeviceState.GIVEN, False), None)
    swapped = entry(Kind.SWAP, 7, {"verdict": "right"}, name="fan", mac=FAN)
    assert states(*steps, undone, swapped)[0][0] == (DeviceState.RIGHT, True)
    # It was set again since it was judged.
    after, _ = states(*steps, entry(Kind.SETTING, 6, {"step": "done"}, name="fan", mac=FAN))
    assert after[0] == (DeviceState.KEPT, False)


RIGHT = {
    "rows": [
        judged("fan", FAN, "10.61.20.21", "right"),
        judged("pump", PUMP, "10.61.20.22", "right"),
    ],
    "unplanned": [],
}


@pytest.mark.parametrize(
    ("kind", "body", "words", "line"),
    [
        (
            Kind.POWER_CYCLE,
            {"verdict": "asking"},
            "lost-its-address",
            "verify --power-cycle fan",
        ),
        (
            Kind.POWER_CYCLE,
            {"verdict": "missing"},
            "lost-its-address",
            "verify --power-cycle fan",
        ),
        (Kind.ASSIGNED, {"event": "assigned"}, "given-only", "keep fan"),
        (Kind.SETTING, {"step": "not done"}, "not-set", "verify --power-cycle fan"),
    ],
)
def test_what_is_right_now_and_is_not_held_is_open_until_it_is_proven(kind, body, words, line):
    """A paper that says "nothing is open" is signed."""
    verified = entry(Kind.VERIFICATION, 9, RIGHT)
    assert standing(PLAN, [verified]).is_done
    kept = entry(Kind.SETTING, 1, {"step": "done"}, name="fan", mac=FAN)
    happened = entry(kind, 2, body, name="fan", mac=FAN, address="10.61.20.21")
    earlier = [kept] if kind is Kind.POWER_CYCLE else []
    found = standing(PLAN, [*earlier, happened, verified])
    fan, _ = found.rows
    assert (fan.is_right, fan.is_done, found.is_done, found.right) == (True, False, False, 2)
    assert fan.open_because.code == words
    assert str(fan.next_line) == f"portcall {line}"
    # No older time stands beside a newer failure.
    assert (fan.kept, fan.proved) == (None, None)
    proved = entry(Kind.POWER_CYCLE, 10, {"verdict": "kept"}, name="fan", mac=FAN)
    assert standing(PLAN, [*earlier, happened, verified, proved]).rows[0].open_because is None


def test_who_is_not_planned_and_what_is_planned_otherwise_since_is_open():
    stranger = {"mac": "02-00-00-00-00-01", "addresses": ["10.61.20.99"]}
    verified = entry(Kind.VERIFICATION, 1, {**RIGHT, "unplanned": [stranger]})
    found = standing(PLAN, [verified])
    assert (found.is_done, found.unplanned) == (False, ("02-00-00-00-00-01 at 10.61.20.99",))
    assert standing(PLAN, [verified, entry(Kind.VERIFICATION, 2, RIGHT)]).is_done
    # Who has been taken into the plan since is no stranger.
    taken = entry(Kind.VERIFICATION, 1, {**RIGHT, "unplanned": [{"mac": FAN}]})
    assert standing(PLAN, [taken]).unplanned == ()
    for was, now, done in (
        ({"mask": "24"}, {"mask": "16"}, False),
        ({"note": "x"}, {"note": "y"}, True),
    ):
        change = entry(Kind.PLAN, 2, {"was": was, "is": now}, name="fan", mac=FAN)
        assert standing(PLAN, [entry(Kind.VERIFICATION, 1, RIGHT), change]).is_done is done


def test_what_was_judged_of_another_mac_or_address_says_nothing_now():
    rows = [
        judged("fan", PUMP, "10.61.20.21", "right"),
        judged("pump", PUMP, "10.61.20.9", "right"),
    ]
    found, _ = states(entry(Kind.VERIFICATION, 1, {"rows": rows}))
    assert found == [(DeviceState.NEVER_SEEN, False)] * 2


READERS = [
    *(document.a_text, document.a_mac, document.an_address, document.an_interface),
    *(document.a_moment, document.a_number, document.a_count, document.a_truth),
    *(document.an_object, document.told_text, int, Kind),
]
ANY_JSON = st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats() | st.text(max_size=20),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.text(max_size=3), inner),
    max_leaves=5,
)


@given(ANY_JSON)
@example(10**400)
@example(float("inf"))
@example("9" * 5000)
def test_what_is_odd_in_a_document_loses_itself_and_names_its_place(value):
    part = Part({"rows": [{"x": value, "xs": [value, "10.61.20.21"]}]})
    (row,) = part.parts("rows")
    for read in READERS:
        row.get("x", read)
        row.each("xs", read)
        try:
            row.take("x", read)
        except OddDocument as odd:
            assert str(odd).startswith("rows[0].x: ")
