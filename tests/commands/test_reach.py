"""The built reach, trace and open: typed on the practice plant, and what they print."""

import csv
import io
import signal
import sys
from collections.abc import Iterator

import pytest
from inside import PORTCALL, Plant, Terminal
from laptop import IS_WANTED, otherwise

MATCHED = "portcall match dryer-plc --no-probe"
TO_THE_CELL = "ip route add 10.61.30.0/24 via 10.61.20.1"


@pytest.fixture
def matched(plant) -> Iterator[Plant]:
    for line in (MATCHED, TO_THE_CELL):
        assert plant.run(line).code == 0
    return plant


@pytest.mark.windows
def test_doors_are_timed_and_a_better_reason_than_silence_is_given(matched):
    matched.run("portcall plant fault dryer-plc door-silent 80")
    doors = "--door cip --door 502 --door web"
    asked = matched.run(f"portcall reach dryer-plc {doors} --count 2 --interval 0.2 --json")
    assert asked.code == 1
    cip, modbus, web = asked.json["targets"]
    assert (cip["door"], cip["received"]) == (44818, 2)
    assert 0 < cip["median_ms"] <= cip["p99_ms"] < 500
    assert (modbus["door"], modbus["received"], modbus["reason"]) == (502, 0, "refused")
    assert (web["door"], web["received"]) == (80, 0)
    assert web["reason"].startswith("it answers ARP, and nothing else that was asked")
    for line in (
        "fault usb0 firewall-out 10.61.20.60",
        "fault old-feeder wrong-device",
        "fault hood-vent slow 20",
    ):
        matched.run(f"portcall plant {line}")
    targets = "10.61.20.60 10.61.20.99 io-island-1"
    if not IS_WANTED:
        targets += " 203.0.113.40"
    told = matched.run(f"portcall reach {targets} --count 1 --json").json["targets"]
    reasons = {each["address"]: each["reason"] for each in told}
    # Windows does not say why it sends no echo.
    forbidden = otherwise("this computer's firewall forbids it", "it answers ARP, and nothing else")
    assert reasons["10.61.20.60"].startswith(forbidden)
    assert reasons["10.61.20.99"] == "nobody answers ARP for 10.61.20.99"
    if IS_WANTED:
        return  # Without private networks, no address is borrowed.
    assert "it answers an address that was borrowed beside it" in reasons["203.0.113.40"]
    assert "not reach it: portcall visit 203.0.113.40" in reasons["203.0.113.40"]


@pytest.mark.windows
def test_a_watch_tells_what_changes_and_ends_as_it_was_told(matched):
    watch = "portcall reach dryer-plc 10.61.20.15 --interval 0.2 --wait 0.3"
    assert matched.run(f"{watch} --until-up").code == 0
    started = matched.start(f"{watch} --watch", signalled=True)
    matched.until(started, "10.61.20.15 up")
    matched.run("portcall plant unplug dryer-plc")
    matched.until(started, "dryer-plc DOWN: no reply")
    matched.until(started, "dryer-plc: nobody answers ARP for 10.61.20.10")
    matched.run("portcall plant plug dryer-plc")
    matched.until(started, r"dryer-plc up after \d+\.\d s")
    ended = matched.finish(started, signal.SIGINT)
    assert ended.code == 130
    assert "dryer-plc: " in ended.out.splitlines()[-3]
    assert "longest gap" in ended.out
    assert "10.61.20.15 takes" in ended.out.splitlines()[-1]
    # The computer's own cable is said, and not only that all are down.
    down = matched.start(f"{watch} --until-down --json")
    matched.until(down, '"event": "up"', 2)
    matched.run("portcall plant unplug usb0")
    ended = matched.finish(down)
    assert ended.code == 0
    events = [line["event"] for line in ended.json_lines]
    assert "down" in events
    assert events[-2:] == ["summary", "summary"]
    assert matched.run(f"{watch} --until-up --for 1").code == 3
    matched.run("portcall plant plug usb0")
    assert matched.run("portcall reach 10.61.20.99 --until-up --for 1 --interval 0.2").code == 1


def test_a_log_survives_a_kill_is_added_to_and_is_read_again(matched):
    pytest.importorskip("scipy")
    line = "portcall reach dryer-plc 10.61.20.99 --interval 0.1 --wait 0.2 --log night.csv"
    started = matched.start(f"{line} --watch", signalled=True)
    matched.until_true("[ $(grep -c answered night.csv) -ge 8 ]")
    matched.finish(started, signal.SIGKILL)
    matched.run("sh -c 'printf 2026-11-2 >> night.csv'")
    assert matched.run(f"{line} --for 5 --door cip").code == 1
    rows = list(csv.DictReader(io.StringIO(matched.run("cat night.csv").out)))
    assert {row["door"] for row in rows} >= {"", "44818"}
    answered = [row for row in rows if row["result"] == "answered"]
    assert all(row["address"] == "10.61.20.10" and float(row["ms"]) > 0 for row in answered)
    assert answered[0]["name"] == "dryer-plc"
    # A name is drawn as it is, also one that a program for formulas would stumble over.
    matched.run(r"sed -i 's/dryer-plc/$x_{$ dryer $/' night.csv")
    plots = {"png": b"\x89PNG", "svg": b"<?xml", "pdf": b"%PDF"}
    for kind, magic in plots.items():
        read = matched.run(f"portcall reach --from night.csv --plot night.{kind} --json")
        assert read.code == 1, read.err
        first = f"open('night.{kind}', 'rb').read({len(magic)})"
        begins = f"import sys; sys.exit({first} != {magic})"
        assert matched.run(f'{sys.executable} -c "{begins}"').code == 0, kind
    by_target = {(e["address"], e["door"]): e for e in read.json["targets"]}
    echoes = by_target["10.61.20.10", None]
    assert echoes["received"] == sum(row["door"] == "" for row in answered)
    assert by_target["10.61.20.99", None]["received"] == 0
    assert read.json["patterns"] == []
    for refused, complaint in (
        ("--log plan.csv dryer-plc", "plan.csv: is no log of echoes"),
        ("--from plan.csv", "plan.csv: is no log of echoes"),
        ("--from gone.csv", "gone.csv: cannot be read"),
        ("--from night.csv dryer-plc", "--from reads what was"),
        ("dryer-plc --plot night.gif", "night.gif: is no name for a drawing"),
        ("", "which TARGET?"),
    ):
        ended = matched.run(f"portcall reach {refused}")
        assert ended.code in (2, 3)
        assert complaint in ended.err


def test_the_last_minute_is_drawn_and_fits_into_eighty_columns():
    portcall = f"{PORTCALL[0]} -m portcall"
    person = Terminal(
        f"stty cols 80 rows 24; unset COLUMNS LINES; cd $PRACTICE_SITE && P='{portcall}'; "
        f"$P match dryer-plc --no-probe; $P plant fault old-feeder nobody-there; "
        "$P reach dryer-plc 10.61.20.15 --interval 0.2 --wait 0.3 --watch --for 4; echo ended $?"
    )
    person.until("ended 1")
    assert person.end() == 0
    drawn = person.plain.split("LAST MINUTE")[-1].split("ended")[0]
    rows = [line for line in drawn.splitlines() if "dryer-plc" in line or "10.61.20.15" in line]
    # What is down stands on top.
    assert rows[0].startswith("10.61.20.15")
    assert "x" in rows[0]
    assert "100%" in rows[0]
    assert "·" in rows[1]
    assert " 0%" in rows[1]
    assert all(len(line.rstrip()) <= 80 for line in drawn.splitlines())


@pytest.mark.windows
def test_the_way_is_shown_hop_by_hop_and_where_it_ends(matched):
    way = matched.run("portcall trace 10.61.30.10 --json")
    assert (way.code, way.json["reached"]) == (0, True)
    assert [hop["addresses"] for hop in way.json["hops"]] == [["10.61.20.1"], ["10.61.30.10"]]
    assert [hop["sent"] for hop in way.json["hops"]] == [3, 3]
    assert "as many routers (1)" in way.json["end"]
    near = matched.run("portcall trace dryer-plc")
    assert "dryer-plc (10.61.20.10) is reached in one hop" in near.err
    # By connections, where echoes are dropped; also to a door that refuses them.
    matched.run("portcall plant fault washer-plc ping-ignored")
    assert matched.run("portcall trace 10.61.30.10").code == 1
    door = matched.run("portcall trace 10.61.30.10 --door web --json").json
    assert [hop["addresses"] for hop in door["hops"]] == [["10.61.20.1"], ["10.61.30.10"]]
    refused = matched.run("portcall trace 10.61.30.10 --door 502")
    assert (refused.code, "and the door is refused" in refused.err) == (0, True)
    matched.run("portcall plant fault cell-router stops-at-hop")
    stopped = matched.run("portcall trace 10.61.30.42")
    assert stopped.code == 1
    assert "it stops at hop 1: 10.61.20.1 says: network unreachable" in stopped.err
    if IS_WANTED:
        return  # What an ordinary user may do is another question there.
    matched.run("portcall plant mend")
    bare = f"setpriv --bounding-set=-all --inh-caps=-all {sys.executable} -m portcall"
    matched.run("sysctl -q net.ipv4.ping_group_range='0 1000000'")
    assert matched.run(f"{bare} trace 10.61.30.42 --json").json["reached"]
    needs = matched.run(f"{bare} trace 10.61.30.42 --door 502")
    assert (needs.code, "needs root or CAP_NET_RAW" in needs.err) == (3, True)


def test_only_what_answers_is_opened_and_with_the_program_that_is_here(matched):
    page = matched.run("portcall open dryer-plc")
    assert (page.code, page.out) == (0, "http://10.61.20.10/\n")
    assert "there is no display here" in page.err
    listed = matched.run("portcall open 10.61.30.42")
    assert (listed.code, listed.out) == (0, "502 Modbus\n")
    closed = matched.run("portcall open dryer-plc ssh")
    assert (closed.code, "SSH (port 22) is refused" in closed.err) == (1, True)
    # A program of that name, which notes what it was asked for and ends as it likes.
    for name in ("ssh", "xdg-open"):
        script = f"#!/bin/sh\necho {name} $@ >> asked\nexit 7\n"
        matched.write(name, script)
    matched.run("chmod +x ssh xdg-open")
    matched.run("portcall plant fault dryer-plc speaks-otherwise 22")
    here = f"env PATH=.:/usr/bin:/bin {sys.executable} -m portcall"
    opened = matched.run(f"{here} open dryer-plc ssh --user panel")
    assert opened.code == 7
    shown = matched.run(f"{here.replace('env ', 'env DISPLAY=:9 ', 1)} open dryer-plc")
    assert shown.code in (0, 1)
    matched.until_true("grep -q xdg-open asked")
    asked = matched.run("cat asked").out.splitlines()
    assert asked == ["ssh panel@10.61.20.10", "xdg-open http://10.61.20.10/"]
    gone = matched.run(f"env PATH=/nowhere {sys.executable} -m portcall open dryer-plc ssh")
    assert (gone.code, "elsewhere: ssh 10.61.20.10" in gone.err) == (3, True)


def test_other_commands_give_the_same_reasons(matched):
    matched.run("portcall plant fault usb0 other-subnet")
    (plc,) = matched.run("portcall reach dryer-plc --count 2 --wait 5 --json").json["targets"]
    assert "usb0 is not in its subnet" in plc["reason"]
    matched.run("portcall plant mend")
    matched.run("portcall plant fault dryer-plc nobody-there")
    kept = matched.run("portcall keep dryer-plc")
    assert "portcall why dryer-plc" in kept.out + kept.err
