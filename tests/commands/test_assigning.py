"""Assigning as it is done at a cabinet: matched, asked, edited, interrupted, lent for a while."""

import json
import re
import signal

import pytest
from inside import PORTCALL, SERVES, Terminal


def record(plant):
    return [json.loads(line) for line in plant.run("cat assigned.jsonl").out.splitlines()]


def test_matched_for_the_time_needed_and_put_back_whatever_ends_it(plant):
    started = plant.start("portcall assign --match --for 40", signalled=True)
    plant.until_serving()
    assert "10.61.20.200/24" in plant.run("ip -4 addr show usb0").out
    ended = plant.finish(started, signal.SIGTERM)
    assert ended.code == 130
    assert "usb0: 10.61.20.200/24 removed, as it was before: no address" in ended.err
    assert "10.61.20" not in plant.run("ip -4 addr show usb0").out
    # Killed, it is left to restore.
    started = plant.start("portcall assign --match --for 40", signalled=True)
    plant.until_serving()
    plant.finish(started, signal.SIGKILL)
    assert "removed, as it was before" in plant.run("portcall restore").out


def test_a_lent_address_outlives_a_kill_and_nobody_else_is_given_it(plant):
    plant.run("portcall match dryer-plc --no-probe")
    panel = "02-60-D1-12-08-77"
    line = "portcall assign fan-drive-1 --temporary 10.61.20.100-10.61.20.101 --json --for 20"
    started = plant.start(line, signalled=True)
    plant.until_true("grep -q lent assigned.jsonl")
    ended = plant.finish(started, signal.SIGKILL)
    (lent,) = [e for e in ended.json_lines if e.get("event") == "assigned" and e["name"] is None]
    assert (lent["mac"], lent["address"]) == (panel, "10.61.20.100")
    assert lent["detail"] == "temporary, for 300 s"
    assert [e["mac"] for e in record(plant) if "lent" in e] == [panel]
    # Another device asks first now: what the panel has is not given to it.
    plant.until_true(f"! {SERVES}")
    started = plant.start(line, signalled=True)
    plant.until_serving()
    plant.write("empty.sh", "#!/bin/sh\n")
    plant.run("chmod 700 empty.sh")
    asked = plant.on("spare-1", "timeout 6 udhcpc -f -n -q -t 3 -T 1 -i eth0 -s ./empty.sh")
    assert "lease of 10.61.20.101 obtained" in asked.err
    # The panel starts again and asks: it is given what it had.
    plant.run("portcall plant power-cycle panel-1")
    plant.until(started, f'"assigned", "mac": "{panel}"')
    ended = plant.finish(started, signal.SIGINT)
    assert {e["address"] for e in ended.json_lines if e["mac"] == panel} == {"10.61.20.100"}
    # BOOTP devices that are not planned never get one.
    bootp = [e for e in ended.json_lines if e["protocol"] == "BOOTP" and e["name"] is None]
    assert {e["event"] for e in bootp} == {"ignored"}


def test_the_plan_may_be_edited_while_it_serves_and_a_bad_edit_changes_nothing(plant):
    plant.run("portcall match dryer-plc --no-probe")
    started = plant.start("portcall assign --for 60 --until-done --json")
    plant.until_serving()
    plant.run("sed -i s/10.61.20.21/10.61.20.999/ plan.csv")
    plant.until(started, "the edited plan is not used")
    # The label of fan-drive-2 says 58; what does not ask is not waited for.
    edits = "-e s/10.61.20.999/10.61.20.21/ -e s/4C-0E-53/4C-0E-58/ -e /weigh/d -e /island/d"
    plant.run(f"sed -i {edits} plan.csv")
    ended = plant.finish(started)
    assert ended.code == 0, ended.out
    notices = [e["detail"] for e in ended.json_lines if e["event"] == "notice"]
    assert notices[0].startswith(
        "the edited plan is not used, the last good one stays: plan.csv line 3, column address: "
        "10.61.20.999"
    )
    assert "the plan was edited: 4 rows are served" in notices
    answering = {e["name"] for e in ended.json_lines if e["event"] == "answering"}
    assert answering == {"dryer-plc", "fan-drive-1", "fan-drive-2", "belt-drive"}


def test_a_link_that_goes_and_comes_back_is_told_of_and_serving_goes_on(plant):
    plant.run("portcall match dryer-plc --no-probe")
    plant.run("portcall plant unplug fan-drive-1")
    started = plant.start("portcall assign fan-drive-1 --for 60 --until-done --json")
    plant.until_serving()
    plant.run("portcall plant unplug usb0")
    plant.until(started, "usb0: link lost")
    plant.run("portcall plant plug usb0")
    plant.run("portcall plant plug fan-drive-1")
    ended = plant.finish(started)
    assert ended.code == 0, ended.out
    notices = [e["detail"] for e in ended.json_lines if e["event"] == "notice"]
    assert notices[0] == "usb0: link lost"
    assert re.match(r"usb0: link back after \d+\.\d s", notices[1])


def test_what_cannot_be_written_down_is_not_lent(plant):
    plant.run("portcall match dryer-plc --no-probe")
    line = " ".join(PORTCALL) + " assign fan-drive-1 --temporary 10.61.20.100-101"
    plant.write("full.sh", f"ulimit -f 0; exec {line} --for 30 --json")
    ended = plant.run("sh full.sh")
    assert ended.code == 3
    assert "assigned.jsonl: what is given cannot be written down" in ended.err
    assert "Traceback" not in ended.err
    assert [e for e in ended.json_lines if e.get("event") == "assigned" and e["name"] is None] == []
    assert plant.run("cat assigned.jsonl").out == ""
    devices = plant.run("portcall plant list --json").json["devices"]
    assert [d["address"] for d in devices if d["name"] == "panel-1"] == [None]


def test_an_unknown_device_is_asked_about_and_taken_into_the_plan():
    portcall = f"{PORTCALL[0]} -m portcall"
    person = Terminal(
        f"cd $PRACTICE_SITE && P='{portcall}' && $P match dryer-plc --no-probe && "
        "sed -i -e s/02-77-B1-4C-0E-53// -e /weigh/d -e /island/d -e /radio/d plan.csv && "
        "$P assign --ask --until-done --for 60; echo ended $?; cat plan.csv"
    )
    person.until("which row is it")
    answers = {"4C-0E-58": "1", "12-08-77": "belt-drive"}
    for _ in range(2):
        asked = max(answers, key=lambda mac: person.text.rfind(f"{mac} asks by"))
        if asked == "4C-0E-58":
            assert re.search(r"1  fan-drive-2  10\.61\.20\.22/24", person.text)
            assert "1 row without a MAC" in person.text
            assert "which row is it? Enter: fan-drive-2; its number;" in person.text
            person.type("9\n")
            person.until("(?s)9: there are rows 1 to 1.*once more")
            # Enter takes the likeliest, and it is the only one.
            person.type("\n")
            person.until("fan-drive-2 is in the plan")
        else:
            person.type("belt-drive\n")
            person.until("belt-drive: has 02-77-B1-61-13-A4 in the plan")
            person.type("panel-1 10.61.20.23\n")
            person.until("10.61.20.23: is on line 5 too")
            person.type("panel-1 10.61.20.70/24\n")
            person.until("panel-1 is in the plan")
        answers.pop(asked)
        # The next question may be drawn along with the last word about this device.
        if answers and "which row is it" not in person.text.rsplit("is in the plan", 1)[1]:
            person.until("which row is it")
    assert person.end() == 0, person.text
    assert "ended 0" in person.text
    plan = person.text.split("ended 0")[1].replace("\r", "")
    assert "fan-drive-2,02-77-B1-4C-0E-58,10.61.20.22" in plan
    assert "panel-1,02-60-D1-12-08-77,10.61.20.70,24" in plan


@pytest.mark.parametrize(
    ("words", "complaint"),
    [
        ("--ask", "--ask needs a person at a terminal"),
        ("--lease 5", "--lease 5: is 10 seconds or more, or forever"),
        ("--temporary 10.61.20.0/24", "contains 10.61.20."),
        ("--temporary 10.99.0.0/24", "is not inside a subnet that this computer is in"),
        ("--temporary 10.61.20.100-nonsense", "nonsense"),
    ],
)
def test_what_cannot_be_served_so_is_said_before_anything_is(quiet_plant, words, complaint):
    quiet_plant.run("portcall match dryer-plc --no-probe")
    ended = quiet_plant.run(f"portcall assign {words} --for 2")
    assert ended.code == 2
    assert complaint in ended.err
    assert "Traceback" not in ended.err
