"""Two devices with one address, told apart, and one of them moved: by DCP, by CIP, by a cable."""

import pytest
from inside import Plant

SCENARIO = """
site = "site"

[[workstation]]
adapter = "usb0"
wire = "plant"
mac = "02-1A-40-7C-00-06"
address = "10.61.20.200/24"
"""
DEVICE = """
[[devices]]
name = "{name}"
wire = "plant"
mac = "02-77-B1-00-00-{n}"
address = "10.61.20.{at}/24"
speaks = {speaks}
product = "{product}"
maker = "Whimbrel Drives"
serial = "77B100{n}"
device_type = 2
vendor = 64102
firmware = "5.00{last}"
"""
DEVICES = (
    ("fan-1", 61, 21, '["cip"]', "Gale 7 drive, 4 kW"),
    ("fan-2", 62, 21, '["cip"]', "Gale 9 drive, 11 kW"),
    ("probe-1", 63, 41, '["modbus", "web"]', "Reed 3 moisture probe"),
    ("probe-2", 64, 41, '["modbus", "web"]', "Reed 5 moisture probe"),
    ("radio-1", 65, 51, '["dcp", "snmp"]', "Fetch 5 radio"),
    ("radio-2", 66, 51, '["dcp", "snmp"]', "Fetch 5 radio"),
)
MACS = {name: f"02-77-B1-00-00-{n}" for name, n, *_ in DEVICES}


@pytest.fixture
def pairs(tmp_path):
    scenario = SCENARIO
    for name, n, at, speaks, product in DEVICES:
        scenario += DEVICE.format(
            name=name, n=n, at=at, speaks=speaks, product=product, last=n % 10
        )
    (tmp_path / "site").mkdir()
    (tmp_path / "site" / "site.toml").write_text('[[subnets]]\nnetwork = "10.61.20.0/24"\n')
    (tmp_path / "pairs.toml").write_text(scenario)
    with Plant(tmp_path / "pairs.toml") as made:
        yield made


def products(plant):
    found = plant.run("portcall find --json").json["devices"]
    return {each["mac"]: (each["addresses"], each["product"], each["serial"]) for each in found}


def test_each_of_two_at_one_address_says_what_it_is(pairs):
    found = products(pairs)
    assert found[MACS["fan-1"]] == (["10.61.20.21"], "Gale 7 drive, 4 kW", "77B10061")
    assert found[MACS["fan-2"]] == (["10.61.20.21"], "Gale 9 drive, 11 kW", "77B10062")
    assert found[MACS["probe-1"]][1] == "Reed 3 moisture probe"
    assert found[MACS["probe-2"]][1] == "Reed 5 moisture probe"
    why = pairs.run("portcall why 10.61.20.21 --json").json
    assert why["cause"] == "address-shared"
    evidence = " ".join(each["evidence"] or "" for each in why["rungs"])
    for said in (
        f"{MACS['fan-1']}, Gale 7 drive, 4 kW, serial 77B10061",
        f"{MACS['fan-2']}, Gale 9 drive, 11 kW, serial 77B10062",
    ):
        assert said in evidence
    assert pairs.run("ip -o -4 addr show usb0").out.count("inet") == 1


@pytest.mark.long
@pytest.mark.parametrize(("name", "other"), [("fan-2", "fan-1"), ("radio-1", "radio-2")])
def test_one_of_two_is_moved_and_the_other_stays(pairs, name, other):
    at = products(pairs)[MACS[name]][0]
    moved = pairs.run(f"portcall move {MACS[name]} --to 10.61.20.99 --no-name")
    assert moved.code == 0, moved.out + moved.err
    found = products(pairs)
    assert found[MACS[name]][0] == ["10.61.20.99"]
    assert found[MACS[other]][0] == at
    serials = {entry: each[2] for entry, each in found.items()}
    assert serials[MACS[other]] in (None, f"77B100{MACS[other][-2:]}")


@pytest.mark.long
def test_where_no_protocol_reaches_one_alone_it_says_which_cable_and_waits(pairs):
    moving = pairs.start(f"portcall move {MACS['probe-1']} --to 10.61.20.99 --wait 40")
    pairs.until(moving, f"pull the cable of {MACS['probe-2']}, and leave that of")
    pairs.run("portcall plant unplug probe-2")
    pairs.until(moving, "set it on its page, http://10.61.20.41/")
    fetch = (
        "import urllib.request as r; "
        "r.urlopen('http://10.61.20.41/', b'address=10.61.20.99&mask=255.255.255.0')"
    )
    pairs.run(f'python3 -c "{fetch}"')
    ended = pairs.finish(moving)
    assert ended.code == 0, ended.out + ended.err
    assert "the same device: Reed 3 moisture probe" in ended.out
