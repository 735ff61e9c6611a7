"""``plan take``: a line that nobody documented gets its plan; groups; the list for a customer."""

import csv
import io
import re
from pathlib import Path

import pytest
from inside import PORTCALL, Plant, Terminal

PACKING = Path(__file__).parents[2] / "docs" / "plants" / "packing-line.toml"
SHARED = ("02-60-D1-40-17-0E", "02-60-D1-40-18-33")
WITHOUT = ("02-77-B1-40-26-39", "02-77-B1-40-27-5E", "02-77-B1-40-28-83")


@pytest.fixture(scope="module")
def packing():
    """Left without a plan between two tests."""
    with Plant(PACKING) as made:
        yield made


@pytest.fixture
def undocumented(packing):
    packing.run("rm -f plan.csv site.toml plan-changes.jsonl")
    return packing


@pytest.mark.long
def test_what_is_found_becomes_a_plan_that_keeps_every_rule(undocumented):
    plant = undocumented
    looked = plant.run("portcall find --json")
    dry = plant.run("portcall plan take --dry-run")
    assert (dry.code, plant.run("ls plan.csv").code) == (0, 2)
    taken = plant.run("portcall plan take --all --json")
    assert taken.code == 0, taken.err
    told = taken.json
    assert len(told["proposed"]) + len(told["left_out"]) == len(looked.json["devices"]) == 25
    reasons = {each["mac"]: each["reason"] for each in told["left_out"]}
    assert set(reasons) == {*SHARED, *WITHOUT}
    assert reasons[SHARED[0]].startswith(f"10.61.20.41 is shared with {SHARED[1]}: portcall move")
    assert reasons[WITHOUT[0]].startswith("it has no address and asks for one by BOOTP")
    checked = plant.run("portcall plan check")
    assert (checked.code, "20 rows, no mistakes" in checked.out) == (0, True)
    assert "is assumed" not in checked.out
    rows = {row["name"]: row for row in plant.run("portcall plan show --json").json["rows"]}
    drive = rows["infeed-drive"]
    assert (drive["product"], drive["serial"], drive["firmware"], drive["prefix"]) == (
        "Gale 7 drive, 4 kW",
        "B1401255",
        "5.002",
        24,
    )
    assert rows["device-1"]["product"] == "Narrows 2 serial gateway"
    odd = next(each for each in told["proposed"] if each["row"]["name"] == "outfeed-drive")
    assert "its neighbours are in 10.61.20.0/24" in odd["remark"]
    # Again: there is nothing to take, and nothing is changed.
    before = plant.run("cat plan.csv").out
    again = plant.run("portcall plan take --all")
    assert (again.code, "nothing to take" in again.err) == (0, True)
    assert plant.run("cat plan.csv").out == before
    # The same of the last look recorded, of one that was written down, and only what is named.
    plant.run("rm plan.csv")
    last = plant.run("portcall plan take --from last --dry-run --json")
    assert [each["row"] for each in last.json["proposed"]] == [
        each["row"] for each in told["proposed"]
    ]
    plant.write("look.json", looked.out)
    one = plant.run("portcall plan take --from look.json --only 02-77-B1-40-12-55 --json")
    assert [change["name"] for change in one.json["changes"]] == ["infeed-drive"]
    refused = plant.run(f"portcall plan take --from look.json --only {SHARED[0]}")
    assert refused.code == 2
    assert f"--only {SHARED[0]}: 10.61.20.41 is shared" in refused.err
    nobody = plant.run("portcall plan take")
    assert (nobody.code, "nobody at a terminal to ask" in nobody.err) == (2, True)


@pytest.mark.long
def test_what_was_seen_before_there_was_a_site_goes_into_its_logbook(plant):
    drive = "02-5A-1D-20-7F-10"

    def there(line):
        return plant.run(f"sh -c 'mkdir -p $PORTCALL_DATA/new && cd $PORTCALL_DATA/new && {line}'")

    assert there("portcall find 10.61.20.10 --adapter usb0").code == 0
    assert there(f"portcall plan take --from last --only {drive}").code == 0
    (row,) = there("portcall status --json").json["rows"]
    assert (row["mac"], row["state"]) == (drive, "seen")


def in_a_terminal(keys, editor="true"):
    """Answer the questions of a take, each once it is put; what was said, and the plan."""
    person = Terminal(
        f"cd $PRACTICE_SITE; rm plan.csv; export EDITOR='{editor}'; "
        f"{PORTCALL[0]} -m portcall plan take 10.61.20.21-23; echo ended $?; cat plan.csv",
        PACKING,
    )
    for question, answer in keys:
        person.until(question)
        person.type(answer)
    person.end()
    said, _, plan = person.plain.rpartition("ended")
    return said, plan


ONCE = "Enter takes these 3; e: edit first; r: row by row; n: none: "


def test_enter_takes_them_all_and_n_none():
    _, plan = in_a_terminal([(ONCE, "\n")])
    assert re.findall("(?m)^[a-z]+-drive", plan) == ["infeed-drive", "outfeed-drive", "lift-drive"]
    said, plan = in_a_terminal([(ONCE, "n\n")])
    assert "nothing is written" in said
    assert "infeed" not in plan


def test_row_by_row_and_in_an_editor_with_a_mistake_first():
    name = "or another name; -: leave it out"
    # What people answer to other programs is no name.
    answers = ["fan", "n", "?", "y"]
    _, plan = in_a_terminal([(ONCE, "r\n"), *((name, f"{answer}\n") for answer in answers)])
    assert re.findall("(?m)^[a-z-]+,02", plan) == ["fan,02", "lift-drive,02"]
    editor = "sed -i -e s/10.61.20.22/10.61.20.21/"
    said, plan = in_a_terminal([(ONCE, "e\n"), (ONCE, "\n"), (ONCE, "n\n")], editor)
    assert "10.61.20.21: is on line 2 too (infeed-drive)" in said
    assert "infeed" not in plan
    _, plan = in_a_terminal([(ONCE, "e\n"), (ONCE, "\n")], "sed -i s/lift-drive/hoist/")
    assert "hoist,02-77-B1-40-14-9F,,10.61.20.23" in plan


@pytest.mark.long
def test_a_group_stands_for_its_devices_and_a_list_is_for_a_customer(undocumented):
    plant = undocumented
    plant.run("portcall plan take 10.61.20.10-23 --all")
    plant.run("portcall plan set infeed-drive group='Cell A' 'firmware=>= 5.001' product=")
    plant.run("portcall plan set lift-drive group='Cell A' firmware=9.9")
    reached = plant.run("portcall reach --group 'cell a' --count 1 --json").json["targets"]
    assert [each["address"] for each in reached] == ["10.61.20.21", "10.61.20.23"]
    judged = plant.run("portcall verify --group 'Cell A' --json").json["rows"]
    assert [row["verdict"] for row in judged] == ["right", "differs"]
    assert "its firmware is 7.010, planned is 9.9" in judged[1]["findings"]
    unknown = plant.run("portcall keep --group B")
    assert unknown.code == 2
    assert "--group B: is no group of the plan; there are Cell A" in unknown.err
    listed = plant.run("portcall find 10.61.20.10-30 --csv").out
    rows = {row["address"]: row for row in csv.DictReader(io.StringIO(listed))}
    assert rows["10.61.20.22"]["mask"] == "255.255.0.0"
    assert rows["10.61.20.23"]["serial"] == "B140149F"
    assert "portcall " not in listed
