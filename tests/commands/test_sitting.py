"""One device and one cable: who is there unset, rows by number, the next free address, a batch."""

from __future__ import annotations

import re
import time
from datetime import UTC, datetime, timedelta
from functools import partial

import pytest
from inside import PORTCALL, Plant, Terminal

P = f"P='{PORTCALL[0]} -m portcall'"

WORKSTATION = """
site = "site"
[[workstation]]
adapter = "usb0"
wire = "plant"
mac = "02-1A-40-7C-00-06"
"""
FRESH = """
[[devices]]
name = "{name}"
wire = "plant"
mac = "02-5A-1D-00-00-{n:02}"
{how}
"""
STARTS = (
    *("192.168.1.1/24", "192.168.0.10/24", "10.0.0.1/8"),
    *("172.16.0.1/16", "192.168.250.1/24", "169.254.1.1/16"),
)
HOW = [
    *(f'speaks = ["cip", "web"]\naddress = "{start}"' for start in STARTS),
    *['speaks = ["dcp"]'] * 2,
    'asks = "bootp"',
]


def scenario(folder, hows, site="", plan=""):
    """A plant of such devices, and a site's files."""
    (folder / "site").mkdir()
    if site:
        (folder / "site" / "site.toml").write_text(site)
    if plan:
        (folder / "site" / "plan.csv").write_text(plan)
    fresh = (FRESH.format(name=f"fresh-{n}", n=n, how=how) for n, how in enumerate(hows, 1))
    (folder / "plant.toml").write_text(WORKSTATION + "".join(fresh))
    return folder / "plant.toml"


@pytest.fixture
def bare(tmp_path):
    with Plant(scenario(tmp_path, HOW)) as plant:
        yield plant


def broadcasts(plant, file):
    """When each broadcast of this computer left, in seconds."""
    wanted = "eth.src==02:1a:40:7c:00:06 && eth.dst==ff:ff:ff:ff:ff:ff"
    return [
        float(t)
        for t in plant.run(
            f"tshark -r {file} -Y '{wanted}' -T fields -e frame.time_relative"
        ).out.split()
    ]


def test_at_a_bare_cable_all_who_are_unset_are_found_identified_and_marked(bare):
    began = time.monotonic()
    found = bare.run("portcall find --json --capture found.pcapng")
    assert time.monotonic() - began < 25  # On an idle computer 11: benchmarks/ has it as a ratio.
    there = {device["mac"]: device for device in found.json["devices"]}
    assert len(there) == len(HOW)
    for n, start in enumerate(STARTS, 1):
        device = there[f"02-5A-1D-00-00-{n:02}"]
        assert device["addresses"] == [start.partition("/")[0]]
        assert device["product"] == f"fresh-{n}"
        assert "at a usual starting address" in " ".join(device["remarks"])
    (single,) = [step for step in found.json["next"] if step["code"] == "asked-singly"]
    assert single["line"].startswith("portcall find 10.0.0.0/24 172.16.0.0/24 192.168.0.0/24")
    assert bare.run(f"{single['line']} --method arp --unpaced").code == 0
    times = broadcasts(bare, "found.pcapng")
    assert len(times) < 900
    assert all(b - a >= 1.0 for a, b in zip(times, times[101:], strict=False))
    # A site, and a method, can leave them out.
    only = bare.run("portcall find --json --method dcp --listen 1")
    assert len(only.json["devices"]) == 2
    bare.write("site.toml", "starting_addresses = false\n")
    without = bare.run("portcall find --json --listen 3")
    assert {d["mac"] for d in without.json["devices"]}.isdisjoint(list(there)[:6])


def test_a_number_is_that_row_as_long_as_the_list_is_new_and_the_row_is_so(plant):
    listed = plant.run("portcall find").out
    (number,) = re.findall(r"^(\d+) +10\.61\.20\.60 ", listed, re.MULTILINE)
    told = plant.run(f"portcall reach {number} --count 1")
    assert (told.code, "10.61.20.60" in told.out) == (0, True)
    assert f"{number} is hood-vent, 02-60-D1-40-55-E2, at 10.61.20.60" in told.err
    # It calls itself so: dryer-plc is the plan's name.
    assert " (hood-vent) " in listed
    assert " dryer-plc " in listed
    (island,) = re.findall(r"^(\d+) +– +02-77-B1-90-00-3D", listed, re.MULTILINE)
    moved = plant.run(f"portcall move {island} --to 10.61.20.133 --gateway 10.61.20.1")
    assert f"{island} is io-island-1, 02-77-B1-90-00-3D" in moved.err
    assert (moved.code, "is at 10.61.20.133/24" in moved.out) == (0, True)
    # One device alone, and JSON, are no list with numbers: the last list stays what it was.
    plant.run("portcall find 10.61.20.10")
    assert plant.run(f"portcall blink {island} --for 1").code == 0
    for line, code, words in (
        ("reach 999", 2, "999: the last list has the rows 1 to"),
        (f"reach {'9' * 5000}", 2, "an IPv4 address has 4"),
        ("reach 0", 2, "0: the last list has the rows 1 to"),
        (f"match {island}", 2, "it had no address there: portcall move io-island-1"),
    ):
        refused = plant.run(f"portcall {line}")
        assert (refused.code, words in refused.err) == (code, True), refused.err
    assert plant.run("portcall move io-island-1").code == 0
    # One that the plan has not, and that asks, is given the address that the person chooses.
    (probe,) = re.findall(r"^(\d+) +– +02-60-D1-12-08-77", listed, re.MULTILINE)
    line = "portcall assign 02-60-D1-12-08-77=ADDRESS --match --keep"
    assert line in plant.run(f"portcall match {probe}").err
    given = plant.run(f"{line.replace('ADDRESS', '10.61.20.77')} --until-done --for 40")
    assert re.search("answering +02-60-D1-12-08-77 +10.61.20.77", given.out), given
    # The address went to another device since.
    plant.run("portcall plant unplug hood-vent")
    plant.on("spare-1", "ip addr add 10.61.20.60/24 dev eth0")
    refused = plant.run(f"portcall open {number}")
    assert refused.code == 2
    assert "now 02-60-D1-00-5E-01 answers there: portcall find" in refused.err


def clock(later):
    return datetime.now(UTC) + later


def test_a_list_of_yesterday_has_no_numbers_any_more(tmp_path):
    from portcall.core.record.entry import Kind
    from portcall.core.trouble import BadInput
    from portcall.jobs.record.rows import NUMBERED, listed_row
    from portcall.site.folder import Site
    from portcall.site.logbook.writing import new_entry, write_if_possible

    site = Site(tmp_path)
    seen = {"mac": "02-5A-1D-00-00-01", "addresses": ["10.0.0.1"], "name": "a\x1b[31m"}
    body = {NUMBERED: True, "devices": [seen, "odd", {"mac": "no"}]}
    assert write_if_possible(tmp_path, new_entry(Kind.LOOK, "3 devices", body)) is None
    row = listed_row(site, 1)
    assert str(row) == "1 is a [31m, 02-5A-1D-00-00-01, at 10.0.0.1"
    for later in (timedelta(hours=2), timedelta(hours=-2)):
        with pytest.raises(BadInput, match="more than an hour old"):
            listed_row(site, 1, partial(clock, later))


def test_the_next_free_address_is_taken_for_a_row_and_for_a_move(plant):
    added = plant.run("portcall plan add hood-fan")
    assert "hood-fan is added: 10.61.20.2/24, no MAC" in added.out
    both = plant.run("portcall plan add roof-fan 02-77-B1-00-00-61 10.61.20.99")
    assert "roof-fan is added: 10.61.20.99/24, 02-77-B1-00-00-61" in both.out
    again = plant.run("portcall plan add hood-fan")
    assert (again.code, "is in the plan already, at 10.61.20.2" in again.err) == (2, True)
    moved = plant.run("portcall move io-island-1 --to next --json")
    assert moved.code == 0, moved.err
    assert "10.61.20.3" in moved.json["devices"][0]["after"]
    for line, words in (
        ("plan add x 10.61.20.7 10.61.20.8", "a row has one ADDRESS and one MAC"),
        ("move io-island-1 --gateway 10.61.20.1", "--gateway goes with --to"),
        ("move io-island-1 --to 10.61.20.9 --gateway 10.9.9.9", "is no other host in 10.61.20.0"),
    ):
        refused = plant.run(f"portcall {line}")
        assert (refused.code, words in refused.err) == (2, True), refused.err


def test_reach_and_trace_ask_from_a_borrowed_address_and_open_says_to_go_in(plant):
    before = plant.run("ip addr").out
    asked = plant.run("portcall reach dryer-plc 203.0.113.42 10.61.20.99 --count 2")
    assert re.findall(r"(\d) of 2", asked.out) == ["2", "0", "2"]
    assert "asking from 10.61.20.200/24, borrowed meanwhile" in asked.err
    assert "asking from 203.0.113.254/24, borrowed meanwhile" in asked.err
    silent = plant.run("portcall reach 10.61.20.99 --count 1")
    assert "nobody answers ARP for 10.61.20.99" in silent.out
    for line in (
        "trace dryer-plc",
        "trace dryer-plc --door web",
        "reach dryer-plc --door cip",
    ):
        assert plant.run(f"portcall {line}").code == 0, line
    watched = plant.run("portcall reach dryer-plc --watch --for 3 --interval 0.2")
    assert re.search(r"dryer-plc: [1-9]\d* of", watched.out)
    opened = plant.run("portcall open dryer-plc")
    assert (opened.code, "portcall visit dryer-plc" in opened.err) == (3, True)
    assert plant.run("portcall visit dryer-plc -- portcall open --json").code == 0
    assert plant.run("ip addr").out == before


RADIO = 'speaks = ["dcp"]\naddress = "203.0.113.47/24"'
EIGHT = range(1, 9)
PLAN_OF_EIGHT = "name,mac,address,mask\n" + "".join(
    f"radio-{n},02-5A-1D-00-00-{n:02},10.61.20.{50 + n},24\n" for n in EIGHT
)


def test_a_batch_that_was_moved_and_reset_is_moved_again_by_the_same_line(tmp_path):
    plant = scenario(tmp_path, [RADIO] * 8, 'name = "batch"\n', PLAN_OF_EIGHT)
    series = "$P move --series 203.0.113.47"
    reset = " ".join(f"fresh-{n}" for n in EIGHT)
    person = Terminal(
        f"cd $PRACTICE_SITE; {P}; {series}; echo ended $?; $P verify --json >right.json; "
        f"for n in {reset}; do $P plant fault $n moved 203.0.113.47/24; done; "
        f"{series}; echo ended $?; $P verify; echo judged $?",
        plant,
    )
    person.until("ended 0", 200)
    person.until("ended 0", 200)
    person.until("judged 0", 60)
    person.end()
    assert person.plain.count("its turn comes again") == 8
    assert "8 of 8 heard so far, about" in person.plain
    assert "8 right, 0 wrong" in person.plain


def test_without_a_plan_assign_asks_who_gets_which_address_and_the_plan_grows(tmp_path):
    person = Terminal(
        f"cd $PRACTICE_SITE; {P}; $P find; $P assign; echo ended $?; cat plan.csv; $P reach fan-1"
        " --count 1; echo reached $?",
        scenario(tmp_path, ['asks = "bootp"', 'asks = "dhcp"']),
    )
    person.until(r"there is no plan yet; to be asked which it gets: .*portcall assign --keep")
    person.until("which one\\? 1 to 2")
    person.type("3\r")
    person.until("3: is no number of the list")
    person.type("1\r")
    person.until("in which subnet")
    person.type("10.61.20.0/24\r")
    person.until("address\\? Enter for 10\\.61\\.20\\.1/24")
    person.type("10.61.21.7\r")
    person.until("10.61.21.7: is not in 10.61.20.0/24")
    person.type("10.61.20.21\r")
    person.until("gateway\\?")
    person.type("10.61.20.254\r")
    person.until("name\\?")
    person.type("fan-1\r")
    person.until("another device", 90)
    person.type("y\r")
    person.until("which one\\? Enter for 1")
    person.type("\r")
    person.until("address\\? Enter for 10\\.61\\.20\\.1/24")
    person.type("\r")
    person.until("gateway\\? Enter for 10\\.61\\.20\\.254")
    person.type("\r")
    person.until("name\\?")
    person.type("\r")
    person.until("another device", 90)
    person.type("n\r")
    person.until("reached 0", 60)
    person.end()
    assert "ended 0" in person.plain
    assert re.search(r"fan-1,02-5A-1D-00-00-0\d,,10\.61\.20\.21,24,10\.61\.20\.254", person.plain)
    assert re.search(r"\n\S+,02-5A-1D-00-00-0\d,,10\.61\.20\.1,24,10\.61\.20\.254", person.plain)


def test_a_device_that_does_not_ask_is_named_where_it_is(plant):
    told = plant.run("portcall assign weigh-gateway io-island-1 --match --for 1").err
    assert "weigh-gateway does not ask: it is at 203.0.113.40: portcall move weigh-gate" in told
    assert "io-island-1 does not ask, and has no address: portcall move io-island-1" in told
    assert plant.run("portcall move io-island-1").code == 0
    # Who names a device means it: this computer goes where it is to be, and back.
    given = plant.run("portcall assign fan-drive-1 --until-done --for 40")
    assert (given.code, "10.61.20.200/24 removed, as it was before" in given.err) == (0, True)
    assert plant.run("ip -4 -o addr show usb0").out == ""


def test_one_cable_is_one_cable_and_of_several_the_plug_that_is_pulled(plant):
    plant.run("portcall plant unplug usb0")
    # Without a terminal it is named; what a default route would not care for is not refused.
    refused = plant.run("portcall match 192.0.2.5 --no-probe")
    assert (refused.code, "no wired adapter has a link and no default route" in refused.err) == (
        *(3, True),
    )
    found = plant.run("portcall find --listen 1")
    assert "using lan0: it has the only cable, and the default route leads over it" in found.err
    inside = plant.run("portcall match 198.51.100.1 --dry-run")
    assert "using lan0, which is in the subnet of 198.51.100.1" in inside.err


def test_a_person_says_once_which_cable_it_is():
    person = Terminal(
        f"cd $PRACTICE_SITE; {P}; ip route del default; "
        "(sleep 4; $P plant unplug usb0; sleep 1; $P plant plug usb0) >/dev/null & "
        "$P match dryer-plc --no-probe; echo ended $?; $P restore; $P plan add x; echo ended $?; "
        "$P open dryer-plc; echo opened $?; ip -4 -o addr show usb0; echo over"
    )
    person.until("Pull its plug and put it back")
    person.until("usb0 is out; put it back")
    person.until("usb0 has the plant's cable; that is remembered for this site")
    person.until("ended 0")
    person.until("using usb0, as you said at this site before")
    person.until("(?s)ended 0.*usb0 is not in the subnet of 10.61.20.10.*visit it.*Y/n")
    person.type("\r")
    person.until("(?s)http://10.61.20.10/\r\n.*no display here.*visiting dryer-plc")
    person.type("exit\r")
    person.until("opened 0\r\nover")
    person.end()
