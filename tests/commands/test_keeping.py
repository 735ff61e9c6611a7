"""Keeping and moving: what is set in devices, proven by power cycles and by their own word."""

import json
import os
import re
import signal
import time

import pytest
from inside import PORTCALL, Plant, Terminal

from conftest import need

LAPTOP = "02:1a:40:7c:00:06"


def device(plant, name):
    states = plant.run("portcall plant list --json").json["devices"]
    return next(each for each in states if each["name"] == name)


def addresses(plant):
    return plant.run("ip -o -4 addr show usb0").out


@pytest.mark.long
def test_a_kept_drive_holds_its_address_over_a_power_cycle_and_the_other_does_not(plant):
    plant.run("sed -i s/4C-0E-53/4C-0E-58/ plan.csv")
    plant.run("portcall match dryer-plc --no-probe")
    kept = plant.run("portcall assign fan-drive-1 --keep --until-done --for 20 --json")
    assert kept.code == 0, kept.err
    assert [e["event"] for e in kept.json_lines][-2:] == ["answering", "kept"]
    assert kept.json_lines[-1]["detail"] == "CIP: 10.61.20.21/24 stored in the device"
    plant.run("portcall assign fan-drive-2 --until-done --for 20")
    results = []
    for name in ("fan-drive-1", "fan-drive-2"):
        watching = plant.start(f"portcall verify --power-cycle {name} --json")
        plant.until(watching, "switch fan-drive")
        plant.run(f"portcall plant power-cycle {name}")
        results.append(plant.finish(watching))
    assert [each.code for each in results] == [0, 1]
    assert [each.json["verdict"] for each in results] == ["kept", "asking"]
    assert 1.5 < results[0].json["seconds"] < 10
    reached = plant.run("portcall reach fan-drive-1 fan-drive-2 --count 1 --json").json
    assert [row["received"] for row in reached["targets"]] == [1, 0]
    # Given back, it asks again when it starts.
    undone = plant.run("portcall keep fan-drive-1 --undo")
    assert (undone.code, "now 10.61.20.21/24 by BOOTP" in undone.out) == (0, True)
    plant.run("portcall plant power-cycle fan-drive-1")
    assert device(plant, "fan-drive-1")["state"] == "asks by BOOTP"
    # One that no protocol can tell: said, and what there is to do.
    nothing = plant.run("portcall keep 10.61.20.60 10.61.20.99")
    assert nothing.code == 1
    assert "10.61.20.60, 02-60-D1-40-55-E2: not done: it answers no CIP and no DCP" in nothing.out
    assert "10.61.20.99: not done: nothing answers at 10.61.20.99" in nothing.out


@pytest.mark.windows
@pytest.mark.long
def test_an_island_goes_from_nothing_to_named_and_addressed_without_an_address_here(plant):
    before = plant.run("ip addr").out
    moved = plant.run("portcall move io-island-1 --json")
    assert moved.code == 0, moved.err
    (island,) = moved.json["devices"]
    assert (island["by"], island["moved"]) == ("DCP", True)
    assert island["before"] == "no address, no station name"
    assert island["after"] == "10.61.20.31/24, io-island-1"
    assert 0 <= island["seconds"] < 5
    assert plant.run("ip addr").out == before
    plant.run("portcall plant power-cycle io-island-1")
    assert device(plant, "io-island-1")["address"] == "10.61.20.31/24"
    again = plant.run("portcall move io-island-1")
    assert (again.code, "DCP: as it was, 10.61.20.31/24, io-island-1" in again.out) == (0, True)
    assert plant.run("portcall blink io-island-1 --for 1").code == 0
    assert device(plant, "io-island-1")["state"] == "was told to show itself, 1×"
    other = plant.run("portcall blink dryer-plc")
    assert (other.code, "only that has a signal" in other.out) == (1, True)
    # Of two at one address, each can be meant by its MAC; the row takes what it lacked.
    shared = plant.run("portcall move 203.0.113.47 --to 10.61.20.51")
    assert (shared.code, "is shared by 02-D0-11-5C-10-21 and" in shared.out) == (1, True)
    pier = plant.run("portcall move 02-D0-11-5C-10-21 --to 10.61.20.51")
    assert "pier-radio, 02-D0-11-5C-10-21: is at 10.61.20.51/24" in pier.out
    asking = plant.run("portcall move fan-drive-1")
    assert (asking.code, "portcall assign fan-drive-1 --keep" in asking.out) == (1, True)
    taken = plant.run("portcall move io-island-1 --to 10.61.20.60")
    assert (taken.code, "10.61.20.60 is taken, 02-60-D1-40-55-E2 has it" in taken.out) == (1, True)


@pytest.mark.long
def test_a_gateway_is_set_on_its_page_while_move_waits_and_verifies(plant):
    # Named by where it is now: the plan knows its MAC.
    moving = plant.start("portcall move 203.0.113.40 --json")
    told = plant.until(moving, "watching for 02-C0-E7-05-2B-90")
    assert "open there: 80 web, 502 Modbus" in told
    assert "set it on its page, http://203.0.113.40/:" in told
    assert "    address 10.61.20.40   mask 255.255.255.0   gateway none" in told
    # The page can be reached now, from a browser here.
    fetch = (
        "import urllib.request as r; print(r.urlopen('http://203.0.113.40/', {}).read().decode())"
    )
    form = "b'address=10.61.20.40&mask=255.255.255.0'"
    assert "Narrows 2" in plant.run(f'python3 -c "{fetch.format(None)}"').out
    assert "saved, restarting" in plant.run(f'python3 -c "{fetch.format(form)}"').out
    moved = plant.finish(moving)
    assert moved.code == 0, moved.err
    (gateway,) = moved.json["devices"]
    assert (gateway["name"], gateway["by"]) == ("weigh-gateway", None)
    assert gateway["moved"] is True
    assert gateway["findings"] == ["the same device: Narrows 2 serial gateway, firmware 3.008"]
    assert gateway["seconds"] > 1
    assert "no answer at 203.0.113.40 any more" in moved.err
    assert addresses(plant) == ""
    # Nobody sets the probe: where it is, is said.
    plant.run("portcall match dryer-plc --no-probe")
    never = plant.run("portcall move 02-60-D1-2A-31-0C --to 10.61.20.42 --wait 2")
    assert never.code == 1
    assert "it did not come to 10.61.20.42 in time; it answers at 203.0.113.42" in never.out


SITE = 'maker_defaults = ["203.0.113.60-203.0.113.79"]\n[[subnets]]\nnetwork = "10.61.20.0/24"\n'
WORKSTATION = '[[workstation]]\nadapter = "usb0"\nwire = "plant"\nmac = "02-1A-40-7C-00-06"\n'
DRIVE = (
    '\n[[devices]]\nname = "{name}"\nwire = "plant"\nmac = "02-77-B1-00-00-{n}"\nspeaks = ["cip"]\n'
    'address = "203.0.113.{n}/24"\nhost_name = "gale7"\nserial = "77B100{n}"\n{extra}\n'
)
ISLAND = (
    '\n[[devices]]\nname = "{name}"\nwire = "plant"\nmac = "02-77-B1-00-00-{n}"\n'
    'speaks = ["dcp"]\n{extra}\n'
)
DRIVES = {
    "plain": "",
    "stubborn": 'setting = "refuses"',
    "sham": 'setting = "ignores"',
    "cut": 'setting = "drops"',
    "slow": 'setting = "restarts"\nrestart = 3',
    "busy": "in_run = true",
}
ISLANDS = {
    "proud": 'setting = "refuses"',
    "idle": 'setting = "ignores"',
    "tardy": 'setting = "lingers"',
}


@pytest.fixture
def drives(tmp_path):
    """A plant of devices that take, refuse, ignore, drop and delay what is set in them."""
    scenario, plan = 'site = "site"\n' + WORKSTATION, "name,mac,address\n"
    for n, (name, extra) in enumerate(DRIVES.items(), 61):
        scenario += DRIVE.format(name=name, n=n, extra=extra)
        plan += f"{name},02-77-B1-00-00-{n},10.61.20.{n}\n"
    for n, (name, extra) in enumerate(ISLANDS.items(), 71):
        scenario += ISLAND.format(name=name, n=n, extra=extra)
        plan += f"{name},02-77-B1-00-00-{n},10.61.20.{n}\n"
    (tmp_path / "site").mkdir()
    (tmp_path / "site" / "site.toml").write_text(SITE)
    (tmp_path / "site" / "plan.csv").write_text(plan)
    (tmp_path / "drives.toml").write_text(scenario)
    with Plant(tmp_path / "drives.toml") as made:
        yield made


@pytest.mark.long
def test_what_devices_do_instead_is_found_out_and_said_truly(drives):
    need("tshark")
    names = " ".join([*DRIVES, *ISLANDS])
    moved = drives.run(f"portcall move {names} --wait 20 --capture m.pcapng --json", timeout=150)
    assert moved.code == 1
    results = {each["name"]: each for each in moved.json["devices"]}
    assert [name for name, each in results.items() if each["moved"]] == ["plain", "slow", "tardy"]
    assert results["plain"]["findings"] == [
        "the host name plain set",
        "the same device: serial 77B10061",
    ]
    assert results["slow"]["seconds"] > 3
    words = {name: "; ".join(each["findings"]) for name, each in results.items()}
    assert "attribute not settable (CIP general status 0x0e)" in words["stubborn"]
    assert "said yes to the address 10.61.20.63/24, and did not take it" in words["sham"]
    assert "ended before it answered to setting the address 10.61.20.64/24" in words["cut"]
    assert "it is at 203.0.113.64 as before; it is safe to repeat this" in words["cut"]
    assert "an I/O connection of it is in run mode" in words["busy"]
    assert "cannot be set while it is in operation (DCP block error 6)" in words["proud"]
    assert "it said yes to setting the address, and had not done it 3 s later" in words["idle"]
    assert results["tardy"]["after"] == "10.61.20.73/24, tardy"
    assert results["idle"]["after"] == "no address, no station name"
    # Repeated, or insisted on, it is done; this computer is as it was.
    again = drives.run("portcall move cut busy --force --wait 20")
    assert again.code == 0, again.out
    assert [device(drives, name)["address"] for name in ("cut", "busy")] == [
        "10.61.20.64/24",
        "10.61.20.66/24",
    ]
    assert addresses(drives) == ""
    # What they had is written down before it is changed.
    steps = [json.loads(line) for line in drives.run("cat settings.jsonl").out.splitlines()]
    plain = [(each["step"], each["settings"]) for each in steps if each["name"] == "plain"]
    assert plain == [
        ("before", "203.0.113.61/24 stored in the device"),
        ("done", "10.61.20.61/24 stored in the device"),
    ]
    wrong = f"eth.src=={LAPTOP} && (_ws.malformed || _ws.expert.severity >= error)"
    complaints = drives.run(f"tshark -r m.pcapng -Y '{wrong}'")
    assert (complaints.code, complaints.out) == (0, "")
    sets = drives.run("tshark -r m.pcapng -Y 'cip.service==0x10 || pn_dcp.service_id==4'").out
    assert len(sets.splitlines()) > 10


@pytest.mark.parametrize(
    "moment",
    ["203.0.113.254/24 added", '"before"', "told to restart"],
)
def test_killed_at_any_moment_a_move_can_be_repeated(drives, moment):
    drives.run("portcall match 10.61.20.0/24 --no-probe")
    own = addresses(drives)
    moving = drives.start("portcall move slow --wait 30", signalled=True)
    if moment.startswith('"'):
        drives.until_true("grep -q before settings.jsonl")
    else:
        drives.until(moving, moment)
        time.sleep(1.0 if "restart" in moment else 0.0)
    drives.finish(moving, signal.SIGKILL)
    repeated = drives.run("portcall move slow --wait 30")
    assert repeated.code == 0, repeated.out + repeated.err
    assert device(drives, "slow")["address"] == "10.61.20.65/24"
    assert addresses(drives) == own


def test_a_series_recognises_who_is_connected_and_is_taken_up_again(tmp_path):
    hand = tmp_path / "hand"
    os.mkfifo(hand)
    series = "$P move --series 203.0.113.47 pier-radio shore-radio"
    person = Terminal(
        f"cd $PRACTICE_SITE; P='{PORTCALL[0]} -m portcall'; "
        f"(while read what; do $P plant $what; done <{hand}) 2>&1 & "
        f"{series}; echo ended $?; {series}; echo ended $?; cat plan.csv; kill %1"
    )
    with open(hand, "w", buffering=1) as cables:
        # Both are in the switch, as they came out of the box.
        pier = r"02-D0-11-5C-10-21 is there, one of 2 at once: is it pier-radio \(pier mast\)\?"
        person.until(pier)
        person.type("what\n")
        person.until("o: the other one")
        person.type("o\n")
        person.until("02-D0-11-5C-10-22 is there, one of 2 at once: is it pier-radio")
        person.type("b\n")
        person.until("02-D0-11-5C-10-22 flashes its lamp now")
        person.type("o\n")
        person.until(pier)
        person.type("\n")
        # The other one was there all the time: it is asked about at once.
        person.until(r"02-D0-11-5C-10-22 is there: is it shore-radio \(mill roof\)")
        moved = r"pier-radio, 02-D0-11-5C-10-21: is at 10\.61\.20\.51/24, after \d+\.\d s"
        assert re.search(moved, person.plain)
        assert "pier-radio has the MAC 02-D0-11-5C-10-21 in the plan now" in person.plain
        assert "no station name, now 10.61.20.51/24, pier-radio" in person.plain
        # Stopped here; the same line takes it up.
        person.type("q\n")
        person.until("02-D0-11-5C-10-22 is there: is it shore-radio")
        assert re.search(r"1 of 2 done\s+the same line takes it up .*\s+ended 1", person.plain)
        assert "pier-radio is done already" in person.plain
        # The plan is edited while somebody looks for the device; its row is found where it is.
        cables.write("on spare-1 -- sed -i /belt-drive/d plan.csv\n")
        cables.write("unplug gate-camera\n")
        person.until("gate-camera is unplugged")
        person.type("\n")
        person.until("ended 0")
    person.end()
    assert "belt-drive" not in person.plain
    assert "shore-radio, 02-D0-11-5C-10-22: is at 10.61.20.52/24" in person.plain
    assert "shore-radio,02-D0-11-5C-10-22,10.61.20.52" in person.plain
    assert "pier-radio,02-D0-11-5C-10-21,10.61.20.51" in person.plain


TWO_PORTS = 'other_port = "192.0.2.1/24"\ngateway = "203.0.113.1"'


def test_what_a_device_had_is_recorded_whole_and_brought_back(tmp_path):
    """A drive by CIP, at its second interface, and an island by DCP."""
    scenario = 'site = "site"\n' + WORKSTATION
    scenario += DRIVE.format(name="fan", n=61, extra=TWO_PORTS)
    extra = 'address = "203.0.113.71/24"\ngateway = "203.0.113.2"\nstation_name = "was-here"'
    scenario += ISLAND.format(name="island", n=71, extra=extra)
    (tmp_path / "site").mkdir()
    (tmp_path / "site" / "site.toml").write_text(SITE)
    plan = "name,mac,address,gateway\nfan,02-77-B1-00-00-61,10.61.20.61,\n"
    plan += "island,02-77-B1-00-00-71,203.0.113.77,\n"
    (tmp_path / "site" / "plan.csv").write_text(plan)
    (tmp_path / "plant.toml").write_text(scenario)
    with Plant(tmp_path / "plant.toml") as plant:
        nothing = plant.run("portcall move fan --undo")
        assert (nothing.code, "does not tell what it had" in nothing.out) == (1, True)
        moved = plant.run("portcall move fan island --json")
        assert moved.code == 0, moved.out
        fan, _ = moved.json["devices"]
        assert "its gateway 203.0.113.1 is not in 10.61.20.0/24: it has none now" in fan["findings"]
        before, *_ = [json.loads(line) for line in plant.run("cat settings.jsonl").out.splitlines()]
        assert before["had"] == {
            "address": "203.0.113.61",
            "mask": "255.255.255.0",
            "gateway": "203.0.113.1",
            "name_server": "0.0.0.0",
            "second_name_server": "0.0.0.0",
            "domain": "",
            "name": "gale7",
            "control": 0,
        }
        # Nobody asked for another gateway, and this one is in its subnet still.
        planned = ["203.0.113.77", "255.255.255.0", "203.0.113.2", "island"]
        assert by_dcp(plant) == planned
        # What was undone can be undone as well: that was written down, too.
        for expected in (["203.0.113.71", *planned[1:3], "was-here"], planned):
            undone = plant.run("portcall move fan island --undo --json")
            assert undone.code == 0, undone.out
            assert [each["undone"] for each in undone.json["devices"]] == [True, True]
            assert by_dcp(plant) == expected
        assert plant.run("portcall move fan --undo").code == 0
        found = plant.run("portcall find 203.0.113.61 --json").json["devices"]
        fan = next(each for each in found if each["mac"] == "02-77-B1-00-00-61")
        assert (fan["addresses"], fan["gateway"]) == (["203.0.113.61"], "203.0.113.1")
        assert {"what": "name", "value": "gale7", "by": "cip"} in fan["said"]


def by_dcp(plant):
    """What the island says of itself: address, mask, gateway and name."""
    found = plant.run("portcall find --method dcp --json").json["devices"]
    island = next(each for each in found if each["mac"] == "02-77-B1-00-00-71")
    said = {each["what"]: each["value"] for each in island["said"] if each["by"] == "dcp"}
    return [*island["addresses"], said["mask"], said["gateway"], said["name"]]


def test_two_commands_at_once_are_not_in_each_others_way(drives):
    """Each is in the subnets for its own time, and takes off what it added itself."""
    first = drives.start("portcall move plain --wait 30 --json")
    second = drives.start("portcall move slow --wait 30 --json")
    for started in (first, second):
        ended = drives.finish(started, timeout=120)
        assert ended.code == 0, ended.out + ended.err
    assert addresses(drives) == ""
    assert drives.run("portcall restore --show").out == "nothing is open\n"
    # Of two that assign, the second is told who is there.
    drives.run("portcall match 10.61.20.61 --no-probe")
    serving = drives.start("portcall assign plain --for 60", signalled=True)
    drives.until_serving()
    refused = drives.run("portcall assign stubborn --for 5 --alongside")
    assert refused.code == 3
    assert re.search(
        r"portcall assign plain --for 60 \(process \d+\) is assigning addresses on usb0 already",
        refused.err,
    )
    # Two looks share the pace: each counts what leaves the adapter.
    counter = "cat /sys/class/net/usb0/statistics/tx_packets"
    before = int(drives.run(counter).out)
    line = "portcall find 10.61.16.0/21 --method arp --pace 100"
    looks = [drives.start(line, signalled=True) for _ in range(2)]
    began = time.monotonic()
    time.sleep(8)
    sent = int(drives.run(counter).out) - before
    assert sent / (time.monotonic() - began) < 1.3 * 100
    for started in (*looks, serving):
        drives.finish(started, signal.SIGINT)
