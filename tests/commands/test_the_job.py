"""The job, command by command, on the demo data."""

import json
import os
import pty
import re
import select
import signal
import time

import pytest
from inside import PORTCALL
from laptop import otherwise

FAN_2_WRONG, FAN_2_RIGHT = "02-77-B1-4C-0E-53", "02-77-B1-4C-0E-58"


def names(entries, key="name"):
    return [entry[key] for entry in entries]


@pytest.mark.windows
def test_adapters_tells_the_two_apart(quiet_plant):
    shown = quiet_plant.run("portcall adapters")
    assert shown.code == 0
    # Wine does not tell how fast a link is.
    link = otherwise("10 Gbit/s", "link")
    assert re.search(rf"lan0 +wired +{link} +198.51.100.77/24 +static", shown.out)
    document = quiet_plant.run("portcall adapters --json").json
    office, plant_side, loopback = document["adapters"]
    assert office["routes"] == [{"to": "0.0.0.0/0", "gateway": "198.51.100.1"}]
    assert (office["name"], loopback["kind"]) == ("lan0", "loopback")
    assert (document["name_servers"], document["warnings"]) == (otherwise([], ["127.0.0.1"]), [])
    assert (plant_side["name"], plant_side["addresses"]) == ("usb0", [])
    assert plant_side["link"] is True
    assert plant_side["mac"] == "02-1A-40-7C-00-06"


@pytest.mark.windows
def test_find_without_an_address_sees_the_addressed_and_hears_the_asking(quiet_plant):
    before = quiet_plant.run("ip addr").out
    found = quiet_plant.run("portcall find --json")
    assert found.code == 0
    assert "using usb0: the only wired adapter" in found.err
    document = found.json
    by_mac = {device["mac"]: device for device in document["devices"]}
    assert document["adapter"] == "usb0"
    assert set(document["devices"][0]) >= {
        "mac",
        "addresses",
        "maker",
        "product",
        "kind",
        "serial",
        "firmware",
        "name",
        "methods",
        "remarks",
    }
    assert by_mac["02-5A-1D-20-7F-10"]["addresses"] == ["10.61.20.10"]
    assert by_mac["02-5A-1D-20-7F-10"]["maker"] == "Sandlark Controls"
    gateway = by_mac["02-C0-E7-05-2B-90"]
    assert gateway["addresses"] == ["203.0.113.40"]
    assert "maker's default address" in gateway["remarks"]
    assert "outside this adapter's subnets: portcall match 203.0.113.40" in gateway["remarks"]
    assert by_mac["02-77-B1-61-13-A4"]["addresses"] == []
    assert any("by DHCP" in remark for remark in by_mac["02-77-B1-61-13-A4"]["remarks"])
    assert any("digit from fan-drive-2" in remark for remark in by_mac[FAN_2_RIGHT]["remarks"])
    assert by_mac["02-77-B1-4C-09-21"]["name"] == "fan-drive-1"
    # Without private networks, nobody is asked from a borrowed address.
    outside = {each["method"] for each in document["not_run"] if "borrowed" in each["reason"]}
    assert {each["method"] for each in document["not_run"]} == outside
    assert bool(outside) is otherwise(False, True)
    assert quiet_plant.run("ip addr").out == before


@pytest.mark.windows
@pytest.mark.long
def test_the_whole_job(plant):
    matched = plant.run("portcall match dryer-plc --json")
    assert matched.code == 0
    assert (
        matched.json.items()
        >= {
            "adapter": "usb0",
            "address": "10.61.20.200",
            "prefix": 24,
            "added": True,
            "in_force": True,
            "before": [],
            "prefix_from": "plan",
            "lease_seconds": None,
        }.items()
    )
    again = plant.run("portcall match dryer-plc --json")
    assert (again.code, again.json["added"], again.json["in_force"]) == (0, False, True)

    served = plant.run("portcall assign --for 8 --json")
    assert served.code == 1
    events = served.json_lines
    assert all(set(e) >= {"event", "mac", "protocol", "address", "name", "at"} for e in events)
    assert all(re.fullmatch(r"[\dT:.+-]+", event["at"]) for event in events)
    answering = {event["name"] for event in events if event["event"] == "answering"}
    assert answering == {"dryer-plc", "fan-drive-1", "belt-drive"}
    ways = {e["name"]: e["protocol"] for e in events if e["event"] == "assigned"}
    assert ways == {"fan-drive-1": "BOOTP", "belt-drive": "DHCP"}
    ignored = [event for event in events if event["event"] == "ignored"]
    stranger = next(event for event in ignored if event["mac"] == FAN_2_RIGHT)
    assert (stranger["mac"], stranger["address"]) == (FAN_2_RIGHT, None)
    assert "differs in one digit from fan-drive-2" in stranger["detail"]

    pair = f"{FAN_2_RIGHT}=10.61.20.22"
    done = plant.run(f"portcall assign {pair} fan-drive-2 --until-done --for 20")
    assert done.code == 0
    assert re.search(r"assigned +fan-drive-2 +10.61.20.22 +by BOOTP", done.out)
    assert "done: the device has its address and answers there" in done.out
    assert "still matched: usb0 10.61.20.200/24" in done.err

    found = {device["mac"]: device for device in plant.run("portcall find --json").json["devices"]}
    fan = found[FAN_2_RIGHT]
    assert fan["addresses"] == ["10.61.20.22"]
    assert (fan["product"], fan["serial"]) == ("Gale 7 drive, 4 kW", "77B10E58")
    assert (fan["kind"], fan["firmware"]) == ("AC drive", "5.002")
    assert set(fan["methods"]) >= {"arp", "cip"}

    verified = plant.run("portcall verify --json")
    assert verified.code == 1
    verdicts = {row["name"]: row["verdict"] for row in verified.json["rows"]}
    assert verdicts == {
        "dryer-plc": "right",
        "fan-drive-1": "right",
        "fan-drive-2": "wrong MAC",
        "belt-drive": "right",
        "weigh-gateway": "elsewhere",
        "io-island-1": "no address",
        "pier-radio": "missing",
        "shore-radio": "missing",
    }
    rows = {row["name"]: row for row in verified.json["rows"]}
    assert "serial 77B10921" in rows["fan-drive-1"]["identity"]
    assert rows["weigh-gateway"]["findings"] == [
        "it is at 203.0.113.40: portcall move weigh-gateway"
    ]
    assert FAN_2_RIGHT in names(verified.json["unplanned"], "mac")

    reached = plant.run("portcall reach dryer-plc 10.61.20.21-22 --count 2 --interval 0.2 --json")
    assert reached.code == 0
    assert [entry["received"] for entry in reached.json["targets"]] == [2, 2, 2]
    # Under Wine each echo goes by way of another process.
    slowest = otherwise(100, 2000)
    assert all(0 < entry["median_ms"] < slowest for entry in reached.json["targets"])

    cycled = plant.run("portcall plant power-cycle fan-drive-1")
    assert "started again, without an address: asks by BOOTP" in cycled.out
    lost = plant.run("portcall reach fan-drive-1 dryer-plc --count 1 --wait 0.5 --json")
    assert lost.code == 1
    assert [entry["received"] for entry in lost.json["targets"]] == [1, 0]
    kept = plant.run("portcall verify --json")
    assert kept.json["rows"][1]["verdict"] == "asking"

    restored = plant.run("portcall restore --json")
    assert restored.code == 0
    assert restored.json["restored"] == [
        {
            "adapter": "usb0",
            "address": "10.61.20.200/24",
            "done": True,
            "was_in_force": True,
            "now": [],
            "left": [],
        }
    ]
    assert "nothing is open" in plant.run("portcall restore").out
    assert "10.61.20" not in plant.run("ip addr").out


def test_ctrl_c_ends_assign_with_a_summary_and_130(plant):
    plant.run("portcall match dryer-plc --no-probe")
    started = plant.start("portcall assign", signalled=True)
    plant.until_serving()
    ended = plant.finish(started, signal.SIGINT)
    assert ended.code == 130
    assert re.search(r"open: 5 of 6: fan-drive-1, .*; 1 done", ended.out)
    assert re.search("never asked: .*weigh-gateway 02-C0-E7-05-2B-90", ended.out)
    assert "Traceback" not in ended.err
    started = plant.start("portcall find 10.61.20.0/24", signalled=True)
    plant.until_sent(60)
    ended = plant.finish(started, signal.SIGINT)
    assert ended.code == 130
    assert ended.err.splitlines()[-1].startswith("still matched: usb0 10.61.20.200/24")
    assert "devices on usb0 so far: interrupted" in ended.err


def test_assign_on_a_terminal_draws_a_board_with_the_near_miss(tmp_path):
    pid, master = pty.fork()
    if pid == 0:
        os.environ.update(TERM="xterm-256color", COLUMNS="140", LINES="40")
        line = (
            f"cd $PRACTICE_SITE && P='{PORTCALL[0]} -m portcall' && "
            "$P match dryer-plc --no-probe && exec $P assign --for 6"
        )
        os.execv(PORTCALL[0], [*PORTCALL, "plant", "run", "--", "sh", "-c", line])
    drawn = b""
    deadline = time.monotonic() + 40
    while time.monotonic() < deadline:
        if select.select([master], [], [], 1)[0]:
            try:
                piece = os.read(master, 65536)
            except OSError:
                break
            drawn += piece
    _, status = os.waitpid(pid, 0)
    assert os.waitstatus_to_exitcode(status) == 1
    text = drawn.decode()
    assert "\x1b[" in text
    plain = re.sub(r"\x1b\[[0-9;?]*[a-zA-Z]", "", text)
    assert re.search(r"fan-drive-1 +02-77-B1-4C-09-21 +10.61.20.21/24 +answering", plain)
    assert re.search(
        r"02-77-B1-4C-0E-58 +Whimbrel Drives +BOOTP +\d+× +\d s +differs in one digit", plain
    )
    assert "02-77-B1-4C-0E-53 never asked; 02-77-B1-4C-0E-58 did: is that it?" in plain
    assert re.search("open: [34] of 6: .*; [23] done", plain)


@pytest.mark.windows
def test_a_plan_is_checked_and_shown(quiet_plant):
    assert "8 rows, no mistakes" in quiet_plant.run("portcall plan check").out
    rows = quiet_plant.run("portcall plan show --json").json["rows"]
    assert rows[0] == {
        "name": "dryer-plc",
        "mac": "02-5A-1D-20-7F-10",
        "address": "10.61.20.10",
        "prefix": 24,
        "gateway": None,
        "group": None,
        "kind": "controller",
        "place": "panel A1",
        **dict.fromkeys(("maker", "product", "serial", "firmware", "of", "part", "note")),
        "extra": {},
    }
    assert json.dumps(rows).count("10.61.20.") == 8
    assert "weigh house" in quiet_plant.run("portcall plan show").out
    plain = quiet_plant.run(f"env PYTHONIOENCODING=ascii {' '.join(PORTCALL)} plan show")
    assert (plain.code, plain.err) == (0, "")
    assert "weigh house" in plain.out
