"""What is inside devices, typed in a boiler house: found, planned, judged, changed, handed over.

The plant is ``docs/plants/boiler-house.toml``; the programs at the end are what others wrote.
"""

import io
import json
import re
import signal
import sys
from pathlib import Path

import pytest
from inside import Plant
from PIL import Image

from conftest import need, need_stacks

ROOT = Path(__file__).parents[2]
BOILER_HOUSE = ROOT / "docs" / "plants" / "boiler-house.toml"
STACKS = ROOT / "tests" / "stacks" / "device.py"

FAST = "--listen 0.5"


@pytest.fixture(scope="module")
def place():
    """The boiler house, for tests that leave it as it was."""
    with Plant(BOILER_HOUSE) as made:
        yield made


@pytest.fixture
def house():
    with Plant(BOILER_HOUSE) as made:
        yield made


def parts(plant, line):
    told = plant.run(f"portcall find {line} {FAST} --json", timeout=200)
    assert told.code == 0, told.err
    (device,) = (each for each in told.json["devices"] if each.get("parts"))
    named = {}
    for part in device["parts"]:
        said = {each["what"]: each["value"] for each in part["said"]}
        named[part["part"]] = (part["state"], part["interfaces"], said)
    return named, device["not_there"]


def test_interfaces_and_a_rack_with_a_further_one_are_found(place):
    found, absent = parts(place, "boiler-plc --slot 0-4 --beyond 3=10.61.42.5")
    assert {name: each[:2] for name, each in found.items() if "port" in name} == {
        "port 1": ("there", ["10.61.40.10/24"]),
        "port 2": ("there", ["10.61.41.10/24"]),
        "port 3": ("no link", ["192.0.2.1/24"]),
        "slot 3/port 1": ("there", ["10.61.42.3/24"]),
    }
    assert found["slot 1"][2]["serial"] == "5A4A0811"
    assert found["slot 3/at 10.61.42.5/slot 2"][2]["product"] == "Skerry discrete out 16"
    assert {
        "in": None,
        "kind": "slot",
        "numbers": "2, 4",
        "state": "not there",
        "by": "cip",
    } in absent
    radio, _ = parts(place, "yard-radio --inside")
    assert [each[1] for each in radio.values()] == [["10.61.40.30/24"], ["10.61.43.1/24"]]


def test_units_behind_a_gateway_are_found_and_read_by_a_description_of_their_registers(place):
    found, absent = parts(place, "flow-gateway --unit 1,5,9,17,18 --unpaced")
    assert found["unit 17"][2]["product"] == "Reed 5 moisture"
    told = {key: found["unit 5"][2][key] for key in ("product", "serial", "battery")}
    assert told == {"product": "Ebb 3 scale", "serial": "500000", "battery": "87 %"}
    assert found["unit 9"][2] == {}
    assert [each["numbers"] for each in absent] == ["18"]
    tree = place.run(f"portcall find bark-moisture --inside {FAST}").out
    assert re.search(r"└── unit 17  bark-moisture, Reed 5 moisture", tree)


@pytest.mark.long
def test_ctrl_c_keeps_the_units_that_were_found(house):
    started = house.start(f"portcall find flow-gateway --unit 1-45 {FAST} --json", signalled=True)
    house.until_sent(60)
    told = house.finish(started, signal.SIGINT, timeout=30)
    assert told.code == 130
    (device,) = (each for each in told.json["devices"] if each.get("parts"))
    assert (told.json["interrupted"], device["parts"][0]["part"]) == (True, "unit 1")
    (entry,) = house.run("portcall logbook show --kind look --json").json["entries"]
    assert device["parts"] in [each.get("parts") for each in entry["body"]["devices"]]


@pytest.mark.long
def test_what_is_missing_inside_is_judged_explained_and_told_by_compare(house):
    looks = f"portcall find boiler-plc flow-gateway --unit 1-2,17 --slot 1 --unpaced {FAST}"
    before = house.run(looks)
    assert before.code == 0, before.err
    right = house.run("portcall verify boiler-ai bark-moisture boiler-plc.field --json")
    assert [each["verdict"] for each in right.json["rows"]] == ["right"] * 3
    # A module in a further rack is asked by its way, and no other slot of it.
    house.run("portcall plan add far-out --of boiler-plc --part 'slot 3/at 10.61.42.5/slot 2'")
    (far,) = house.run("portcall verify far-out --json").json["rows"]
    assert (far["verdict"], far["product"]) == ("right", "Skerry discrete out 16")
    house.run("portcall plant fault boiler-plc slot-empty 1")
    house.run("portcall plant fault flow-gateway unit-silent 17")
    wrong = house.run("portcall verify boiler-ai bark-moisture --json").json["rows"]
    assert [(each["verdict"], each["of"], each["part"]) for each in wrong] == [
        ("missing", "boiler-plc", "slot 1"),
        ("missing", "flow-gateway", "unit 17"),
    ]
    assert wrong[1]["codes"][0]["line"] == ["portcall", "why", "bark-moisture"]
    causes = {
        "flow-gateway:unit 17": "unit-silent",
        "boiler-ai": "slot-empty",
        "boiler-plc:port-3": "port-no-link",
    }
    started = {target: house.start(f"portcall why {target} --json") for target in causes}
    for target, cause in causes.items():
        why = house.finish(started[target]).json
        assert why["cause"] == cause, why
        (rung,) = (each for each in why["rungs"] if each["rung"] == "part")
        assert rung["verdict"] == "broken"
        if cause == "unit-silent":
            assert "(Modbus exception 0B); beside it, unit 1" in rung["evidence"]
    house.run(looks)
    changed = house.run("portcall compare 1 last --json").json["changed"]
    assert {(each["what"], each["was"], each["is"]) for each in changed} == {
        ("slot 1", "Skerry analog in 8", "not there"),
        ("unit 17", "Reed 5 moisture", "not there"),
    }
    standing = {
        each["name"]: each["state"] for each in house.run("portcall status --json").json["rows"]
    }
    assert (standing["boiler-plc.field"], standing["boiler-ai"]) == (
        "verified right",
        "verified wrong",
    )


@pytest.mark.long
def test_the_interface_that_is_meant_is_set_and_the_device_keeps_its_name(house):
    house.run("portcall plant plug usb0 --wire field")
    for line, has in (
        ("move boiler-plc.field --to 10.61.41.11/24", "10.61.41.11"),
        ("move boiler-plc.field --undo", "10.61.41.10"),
        ("keep boiler-plc.field", "10.61.41.10"),
    ):
        done = house.run(f"portcall {line} --json", timeout=120)
        assert done.code == 0, done.out + done.err
        house.run("portcall plant plug usb0 --wire plant")
        found, _ = parts(house, "boiler-plc --slot 0")
        assert [found[f"port {n}"][1] for n in (1, 2)] == [["10.61.40.10/24"], [f"{has}/24"]]
        house.run("portcall plant plug usb0 --wire field")
    house.run("portcall plant plug usb0 --wire plant")
    (plc,) = house.run(f"portcall find boiler-plc --method cip {FAST} --json").json["devices"]
    names = {each["value"] for each in plc["said"] if each["what"] == "name"}
    assert names == {"boiler-plc"}
    # A unit has no address that could be set.
    refused = house.run("portcall keep bark-moisture")
    assert (refused.code, "unit 17 of flow-gateway" in refused.err) == (2, True)


@pytest.mark.long
def test_parts_become_rows_and_what_is_planned_is_drawn_and_printed_without_a_look(house):
    house.run("rm plan.csv")
    taken = house.run("portcall plan take 10.61.40.10 --inside --all", timeout=120)
    assert taken.code == 0, taken.err
    rows = house.run("portcall plan show --json").json["rows"]
    assert [(each["name"], each["of"], each["part"], each["address"]) for each in rows] == [
        ("boiler-plc", None, None, "10.61.40.10"),
        ("boiler-plc.port-2", "boiler-plc", "port 2", "10.61.41.10"),
        ("boiler-plc.port-3", "boiler-plc", "port 3", "192.0.2.1"),
        ("boiler-plc.slot-1", "boiler-plc", "slot 1", None),
        ("boiler-plc.slot-3", "boiler-plc", "slot 3", None),
    ]
    again = house.run("portcall plan take 10.61.40.10 --inside --all", timeout=120)
    assert "nothing to take" in again.err
    # A renamed device keeps its parts, and a part is named after its device.
    assert house.run("portcall plan set boiler-plc name=plc-1").code == 0
    assert house.run("portcall plan add plc-1.unit-4 --kind pump").code == 0
    crowded = house.run("portcall plan add plc-1.port-4 10.61.41.99/24")
    assert (crowded.code, "overlaps that of 10.61.41.10/24" in crowded.err) == (2, True)
    house.run("portcall plan export all.csv")
    house.run("rm plan.csv")
    assert house.run("portcall plan import all.csv --yes").code == 0
    rows = house.run("portcall plan show --json").json["rows"]
    assert [each["of"] for each in rows] == [None, *["plc-1"] * 5]
    tree = house.run("portcall sketch --plan")
    assert (tree.code, "unit 4" in tree.out, "not looked for" in tree.out) == (0, True, False)
    sheet = house.run("portcall report to-fill-in.html --before --language es")
    assert sheet.code == 0, sheet.err
    page = house.run("cat to-fill-in.html").out
    assert page.count('class="tick"') == 6 * 2 + 3
    assert "Hoja para la puesta en marcha" in page


def paint(plant, name, colour):
    """A picture of one colour, as a camera writes it."""
    picture = io.BytesIO()
    Image.new("RGB", (900, 600), colour).save(picture, "JPEG")
    plant.write(name, picture.getvalue())


def test_a_note_and_its_picture_are_handed_over_and_checked(house):
    paint(house, "p.jpg", "teal")
    noted = house.run("portcall note yard-radio 'network name DRYER-2, power 12' --file p.jpg")
    assert noted.code == 0, noted.err
    assert house.run("portcall note flow-gateway:unit-17 'wires exchanged'").code == 0
    (kept,) = house.run("sh -c 'ls logbook/files'").out.split()
    assert kept == house.run("sha256sum p.jpg").out.split()[0] + ".jpg"
    assert (
        "network name DRYER-2, power 12; p.jpg" in house.run(f"portcall find yard-radio {FAST}").out
    )
    told = house.run("portcall logbook show --kind note --json").json["entries"]
    assert [each["name"] for each in told] == ["yard-radio", "bark-moisture"]
    # It is never judged.
    assert house.run("portcall status --json").json["right"] == 0
    house.run("portcall report record.html --language de")
    page = house.run("cat record.html").out
    assert page.count('<img class="photo"') == 1
    assert house.run("portcall report --check record.html").code == 0
    paint(house, "q.jpg", "red")
    house.run("cp q.jpg p.jpg")
    assert house.run("portcall report --check record.html").code == 0
    house.run("sh -c 'cp q.jpg logbook/files/*'")
    gone = house.run("portcall report --check record.html")
    # What cannot be told is not called changed.
    assert (gone.code, "not as it was" in gone.out) == (3, True)
    for line, wrong in (
        ("note nobody x", "not in the plan"),
        ("note yard-radio", "a TEXT, or a --file"),
        ("note yard-radio --file none.jpg", "cannot be read"),
        ("note yard-radio --file /dev/null", "is a pipe or a device"),
    ):
        refused = house.run(f"portcall {line}")
        assert (refused.code != 0, wrong in refused.err) == (True, True), refused.err


# What others wrote.

SCENARIO = """
site = "site"
[[workstation]]
adapter = "usb0"
wire = "plant"
mac = "02-1A-40-7C-00-06"
address = "10.61.20.200/24"
"""
BARE = """
[[devices]]
name = "{name}"
wire = "plant"
mac = "02-60-D1-00-02-{n}"
address = "10.61.20.1{n}/24"
"""
LEG = """
[[devices.forwards]]
wire = "field"
mac = "02-60-D1-00-02-99"
address = "10.61.21.103/25"
"""
AGENT = "rocommunity public\nsysName agent\nagentAddress udp:161\n"


@pytest.fixture
def stacks(tmp_path):
    (tmp_path / "site").mkdir()
    text = SCENARIO + "".join(
        BARE.format(name=name, n=n)
        for name, n in (("gateway", "01"), ("cip-1", "02"), ("agent", "03"))
    )
    (tmp_path / "plant.toml").write_text(text + LEG)
    with Plant(tmp_path / "plant.toml") as plant:
        yield plant


@pytest.mark.long
def test_a_gateway_a_cip_stack_and_an_agent_of_others_tell_what_is_inside_them(stacks):
    need("snmpd")
    need_stacks("pymodbus", "cpppo")
    stacks.write("snmpd.conf", AGENT)
    python = f"{sys.executable} {STACKS}"
    stacks.start(f"portcall plant on gateway -- {python} gateway g 10.61.20.101/24")
    stacks.start(f"portcall plant on cip-1 -- {python} cip cip-1 10.61.20.102/24")
    served = "env SNMP_PERSISTENT_DIR=. snmpd -f -Lo -C -c snmpd.conf -p pid"
    stacks.start(f"portcall plant on agent -- {served}")
    for door in ("10.61.20.101 502", "10.61.20.102 44818"):
        stacks.until_true(f"portcall reach {door.split()[0]} --door {door.split()[1]} --count 1")
    units, absent = parts(stacks, "10.61.20.101 --unit 1-3,17,29-30,41-42,247 --unpaced")
    assert {name: state for name, (state, *_) in units.items()} == dict.fromkeys(
        ("unit 1", "unit 2", "unit 17", "unit 30", "unit 41", "unit 42", "unit 247"), "there"
    )
    assert absent[0]["numbers"] == "3, 29"
    # Nothing was written: registers and identities were read, and nothing else was asked.
    asked = stacks.run("cat asked").out.split("\n")
    assert {line.split()[1] for line in asked if line} <= {"3", "17", "43"}
    rack, _ = parts(stacks, "10.61.20.102 --slot 0")
    assert rack["slot 0"][2]["product"] == "Skerry 41 controller"
    assert rack["port 1"][1] == ["10.61.20.102/24"]
    agent, _ = parts(stacks, "10.61.20.103 --inside")
    told = {each[2]["name"]: each[1] for each in agent.values()}
    assert (told["eth0"], told["eth1"]) == (["10.61.20.103/24"], ["10.61.21.103/25"])


CLIENT = """
import json, pycomm3
with pycomm3.CIPDriver("10.61.40.10") as plc:
    modules = [plc.get_module_info(n) for n in (1, 3)]
    own = plc.generic_message(service=1, class_code=1, instance=1, connected=False)
print(json.dumps([[each["product_name"], each["serial"]] for each in modules]))
"""


def test_a_client_of_others_reads_the_rack_of_the_practice_plant(place):
    need_stacks("pycomm3")
    place.write("client.py", CLIENT)
    told = place.run(f"{sys.executable} client.py")
    assert told.code == 0, told.err
    assert json.loads(told.out) == [
        ["Skerry analog in 8", "5a4a0811"],
        ["Skerry network bridge", "5a4b0302"],
    ]
