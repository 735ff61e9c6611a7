"""``swap``: a device died in the night, and the one from the store takes its place."""

import json
import re
import signal
import time
from pathlib import Path

import pytest
from inside import PORTCALL, Plant, Terminal
from laptop import IS_WANTED, otherwise

from moments import some

NIGHT = Path(__file__).parents[2] / "docs" / "plants" / "night-shift.toml"
NEW = {
    "fan-drive": "02-77-B1-52-20-A4",
    "belt-drive": "02-77-B1-52-21-C9",
    "panel": "02-60-D1-52-22-EE",
    "io-island": "02-77-B1-52-23-13",
    "scale-gateway": "02-C0-E7-52-24-38",
}
LONGEST = 15
"""Seconds from Enter to right, where a protocol can set the device."""


@pytest.fixture
def night():
    with Plant(NIGHT) as made:
        yield made


def replace(plant, name):
    plant.run(f"portcall plant unplug {name}")
    plant.run(f"portcall plant plug new-{name} --wire plant")


def planned(plant, name):
    rows = plant.run("portcall plan show --json").json["rows"]
    return next(row for row in rows if row["name"] == name)


@pytest.mark.windows
@pytest.mark.long
@pytest.mark.parametrize("name", ["fan-drive", "io-island"])
def test_a_device_that_a_protocol_can_set_is_in_place_in_seconds(night, name):
    replace(night, name)
    if IS_WANTED:
        # Without private networks, nobody is judged from a borrowed address.
        assert night.run("portcall match 10.61.20.0/24 --no-probe").code == 0
    own = night.run("ip -o -4 addr show usb0").out
    text = night.run("cat plan.csv").out
    ended = night.run(f"portcall swap {name} --yes --json")
    assert ended.code == 0, ended.out + ended.err
    told = ended.json
    assert (told["verdict"], told["swapped"], told["kept"]) == ("right", True, True)
    assert told["new"]["mac"] == NEW[name]
    assert told["seconds"] < otherwise(LONGEST, 60)
    assert planned(night, name)["mac"] == NEW[name]
    new_text = night.run("cat plan.csv").out
    changed = [line for line in new_text.splitlines() if line not in text.splitlines()]
    assert [line.split(",")[0] for line in changed] == [name]
    assert night.run("ip -o -4 addr show usb0").out == own
    # It holds the address, and calls itself as the plan does.
    night.run(f"portcall plant power-cycle new-{name}")
    assert night.run(f"portcall verify {name}").code == 0
    # The same line again finds that it is done.
    again = night.run(f"portcall swap {name} --yes")
    assert again.code == 0, again.out + again.err
    assert (
        f"{name} is right: {NEW[name]} took the place of {told['old']['mac']} already" in again.out
    )


@pytest.mark.long
def test_an_older_firmware_is_said_and_the_serial_number_is_the_new_ones(night):
    replace(night, "belt-drive")
    ended = night.run("portcall swap belt-drive --yes --json")
    assert ended.code == 1
    assert (ended.json["verdict"], ended.json["swapped"]) == ("differs", True)
    assert ended.json["unlike"] == [
        "its firmware is 7.004, older than its predecessor's 7.010; the plan has 7.010, and if "
        "this may stay: portcall plan set belt-drive firmware=7.004"
    ]
    assert planned(night, "belt-drive")["serial"] == "B15221C9"
    night.run("portcall plan set belt-drive 'firmware=>= 7.004'")
    assert night.run("portcall verify belt-drive").code == 0


@pytest.mark.long
def test_an_older_firmware_is_told_once_in_words_and_the_line_with_it_leads_on(night):
    replace(night, "belt-drive")
    ended = night.run("portcall swap belt-drive --yes")
    assert (ended.code, "Traceback" in ended.err) == (1, False), ended.err
    assert ended.out.count("its firmware is 7.004") == 1
    line = "portcall plan set belt-drive firmware=7.004"
    assert line in ended.out
    assert night.run(line).code == 0
    assert night.run("portcall verify belt-drive").code == 0


@pytest.mark.long
def test_another_product_is_refused_and_neither_kept_nor_planned_without_a_plain_yes(night):
    night.run("portcall plant unplug belt-drive")
    night.run("portcall plant plug new-fan-drive --wire plant")
    before = night.run("cat plan.csv").out
    refused = night.run("portcall swap belt-drive --yes --json")
    assert (refused.code, refused.json["swapped"], refused.json["kept"]) == (1, False, False)
    (finding,) = refused.json["findings"]
    assert "its product is Gale 7 drive, 4 kW; its predecessor's was Gale 9 drive, 11 kW" in finding
    assert night.run("cat plan.csv").out == before
    assert "new-fan-drive" not in night.run("cat settings.jsonl").out
    line = re.search(r"portcall swap belt-drive .*--other-product", finding)[0]
    taken = night.run(f"{line} --yes --json")
    assert (taken.json["swapped"], taken.json["kept"]) == (True, True), taken.err
    # What is planned is still the other product, and verify says so; no firmware is compared.
    assert taken.json["verdict"] == "differs"
    assert not any("firmware is" in each for each in taken.json["unlike"])


@pytest.mark.long
def test_a_panel_that_nothing_can_tell_to_hold_its_address_is_said_to_be_so(night):
    replace(night, "panel")
    ended = night.run("portcall swap panel --yes")
    assert ended.code == 1
    assert "panel: not judged, " in ended.out
    assert "; as you read it there: portcall verify panel --read mask=MASK" in ended.out
    assert "does not hold its address when the power goes" in ended.out
    assert planned(night, "panel")["mac"] == NEW["panel"]


@pytest.mark.long
def test_a_gateway_is_set_by_hand_while_swap_waits(night):
    replace(night, "scale-gateway")
    swapping = night.start("portcall swap scale-gateway --yes --json")
    night.until(swapping, r"on its page, http://203\.0\.113\.40/")
    fetch = (
        "import urllib.request as r; "
        "r.urlopen('http://203.0.113.40/', b'address=10.61.20.40&mask=255.255.255.0')"
    )
    night.run(f'python3 -c "{fetch}"')
    ended = night.finish(swapping)
    assert ended.code == 0, ended.out + ended.err
    # Its page tells no mask: what was typed there is not known.
    assert (ended.json["verdict"], ended.json["swapped"]) == ("not judged", True)


def test_nothing_is_done_while_the_old_one_is_heard_or_nobody_new_is(night):
    night.run("portcall plant plug new-fan-drive --wire plant")
    before = night.run("cat plan.csv").out
    refused = night.run("portcall swap fan-drive --yes")
    assert refused.code == 1
    assert "fan-drive is still there: 02-77-B1-50-10-11 answers at 10.61.20.21" in refused.out
    night.run("portcall plant unplug fan-drive")
    night.run("portcall plant unplug new-fan-drive")
    nobody = night.run("portcall swap fan-drive --yes")
    assert nobody.code == 1
    assert "no new device is heard that could replace fan-drive" in nobody.out
    waiting = night.start("portcall swap fan-drive --yes --wait 60")
    night.until(waiting, "looking again until one is there")
    night.run("portcall plant plug new-fan-drive --wire plant")
    assert night.run("cat plan.csv").out == before
    assert night.finish(waiting).code == 0


@pytest.mark.long
def test_of_several_that_are_alike_nobody_is_chosen_and_of_one_that_is_the_others_are_left(night):
    replace(night, "fan-drive")
    for name in ("io-island", "belt-drive"):
        night.run(f"portcall plant plug new-{name} --wire plant")
    # What asks for an address says no product yet: two have a MAC of the old one's maker.
    several = night.run("portcall swap fan-drive --yes --json")
    assert several.code == 1
    assert [(each["mac"], each["alike"]) for each in several.json["candidates"]] == [
        (NEW["fan-drive"], True),
        (NEW["belt-drive"], True),
        (NEW["io-island"], False),
    ]
    night.run("portcall plant unplug new-belt-drive")
    other = night.run("portcall swap fan-drive --yes --with 02-77-B1-50-13-80")
    assert (other.code, "it is io-island in the plan" in other.err) == (2, True)
    ended = night.run("portcall swap fan-drive --yes --json")
    assert (ended.code, ended.json["new"]["mac"]) == (0, NEW["fan-drive"])


def swap_in_a_terminal(keys):
    line = (
        f"cd $PRACTICE_SITE; run='{PORTCALL[0]} -m portcall'; "
        "$run plant unplug fan-drive >/dev/null; "
        "$run plant plug new-fan-drive --wire plant >/dev/null; $run swap fan-drive; "
        "echo ended $?; $run plan show"
    )
    person = Terminal(line, NIGHT)
    person.until("Enter makes it fan-drive, 10.61.20.21/24; n: nothing is done: ")
    # Python looks for a signal before it begins to read, and the prompt comes before that.
    time.sleep(0.3)
    person.type(keys)
    person.end()
    return person.plain


@pytest.mark.long
def test_both_are_shown_side_by_side_and_enter_begins():
    said = swap_in_a_terminal("\r")
    assert re.search(r"MAC +02-77-B1-50-10-11 +02-77-B1-52-20-A4", said)
    assert re.search(r"product +Gale 7 drive, 4 kW +not asked yet: it has no address", said)
    assert re.search(r"found +not heard +it asks for an address by BOOTP", said)
    assert "fan-drive: right" in said
    assert "ended 0" in said


def test_no_leaves_all_as_it_was():
    said = swap_in_a_terminal("n\r")
    assert "ended 1" in said
    assert NEW["fan-drive"] not in said.rpartition("ended")[2]


def test_ctrl_c_at_the_question_leaves_all_as_it_was():
    # It ends the line of shell around it, too.
    said = swap_in_a_terminal("\x03")
    assert "interrupted" in said
    assert "is given" not in said


MOMENTS = {
    "looking": ("fan-drive", "looking for the device", 2.0),
    "probing": ("fan-drive", "which address is free", 0.0),
    "visiting": ("fan-drive", "added until this ends", 0.0),
    "given": ("fan-drive", "is given", 0.0),
    "answering": ("fan-drive", "answers at", 0.0),
    "setting": ("fan-drive", "answers at", 0.3),
    "judging": ("fan-drive", "answers at", 1.5),
    "writing": ("fan-drive", "removed, as it was before", 0.0),
    "by-dcp": ("io-island", "looking for the device", 7.5),
    "set-by-dcp": ("io-island", "looking for the device", 10.0),
}


@pytest.mark.long
@pytest.mark.parametrize("moment", some(list(MOMENTS), 3))
def test_killed_at_any_moment_and_typed_again_it_is_right(night, moment):
    name, words, later = MOMENTS[moment]
    replace(night, name)
    old = planned(night, name)["mac"]
    swapping = night.start(f"portcall swap {name} --yes", signalled=True)
    night.until(swapping, words)
    time.sleep(later)
    night.finish(swapping, signal.SIGKILL)
    assert planned(night, name)["mac"] in (old, NEW[name])
    again = night.run(f"portcall swap {name} --yes", timeout=90)
    assert again.code == 0, again.out + again.err
    assert planned(night, name)["mac"] == NEW[name]
    assert night.run("ip -o -4 addr show usb0").out == ""
    assert night.run(f"portcall verify {name}").code == 0
    night.run(f"portcall plant power-cycle new-{name}")
    assert night.run(f"portcall reach {name} --count 2").code in (0, 3)


@pytest.mark.long
def test_ctrl_c_while_it_is_served_leaves_the_plan_and_this_computer_as_they_were(night):
    replace(night, "fan-drive")
    night.run("portcall plant unplug new-fan-drive")
    before = night.run("cat plan.csv").out
    night.run("portcall plant plug new-fan-drive --wire plant")
    swapping = night.start("portcall swap fan-drive --yes", signalled=True)
    night.until(swapping, "added until this ends")
    ended = night.finish(swapping, signal.SIGINT)
    assert ended.code == 130
    assert night.run("cat plan.csv").out == before
    assert night.run("ip -o -4 addr show usb0").out == ""


def test_what_cannot_be_swapped_is_refused_before_anything_is_sent(night):
    for words, complaint in (
        ("nobody --yes", "nobody: is no address, no MAC, and not in the plan"),
        ("fan-drive", "there is nobody at a terminal to ask"),
        ("fan-drive --yes --with 02-77", "has 4 hex digits"),
    ):
        ended = night.run(f"portcall swap {words}")
        assert ended.code == 2
        assert complaint in ended.err
    night.run("portcall plan set fan-drive mac=")
    ended = night.run("portcall swap fan-drive --yes --json")
    assert "fan-drive: has no MAC in the plan" in json.loads(ended.out)["error"]
