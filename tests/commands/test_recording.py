"""The record of a day: what was seen and done is told afterwards, without touching the wire."""

import csv
import io
import json
import signal

import pytest


@pytest.mark.windows
@pytest.mark.long
def test_a_day_is_told_by_its_logbook(plant):
    assert {row["state"] for row in plant.run("portcall status --json").json["rows"]} == {
        "never seen"
    }
    early = plant.run("portcall compare")
    assert (early.code, "the logbook has no look" in early.err) == (2, True)
    plant.run("portcall match dryer-plc --no-probe")
    plant.run("portcall find")
    first = plant.run("portcall find --json").out
    plant.run("portcall assign fan-drive-1 --keep --until-done --for 30")
    plant.run("portcall plant unplug old-feeder")
    assert plant.run("portcall verify").code == 1
    same = plant.run("portcall compare 3 4 --json")
    assert (same.code, same.json["changed"], same.json["vanished"]) == (0, [], [])
    compared = plant.run("portcall compare --json")
    assert compared.code == 1
    told = compared.json
    assert [each["addresses"] for each in told["vanished"]] == [["10.61.20.15"]]
    fan = next(each for each in told["changed"] if each["mac"] == "02-77-B1-4C-09-21")
    assert (fan["what"], fan["was"], fan["is"]) == ("address", None, "10.61.20.21")
    assert fan["why"].startswith("by assign, ")
    # The same against a file that was kept elsewhere.
    plant.write("first.json", first)
    again = plant.run("portcall compare first.json last --json").json
    assert [each["mac"] for each in again["vanished"]] == [each["mac"] for each in told["vanished"]]
    # A look elsewhere says nothing of who was not asked.
    plant.run("portcall find 10.61.20.10")
    elsewhere = plant.run("portcall compare --json")
    assert elsewhere.json["vanished"] == []
    assert "10.61.20.1 was not asked" in elsewhere.out
    status = plant.run("portcall status --json")
    assert status.code == 1
    rows = {row["name"]: row for row in status.json["rows"]}
    assert (rows["fan-drive-1"]["state"], rows["fan-drive-1"]["is_right"]) == (
        "verified right",
        True,
    )
    assert rows["fan-drive-1"]["kept"]
    assert rows["belt-drive"]["detail"].startswith("asking: it has no address")
    assert rows["belt-drive"]["next"] == "portcall assign belt-drive --keep"
    listed = plant.run("portcall status --csv").out
    assert len(list(csv.DictReader(io.StringIO(listed)))) == 8
    plant.run("portcall restore")
    entries = plant.run("portcall logbook show --json").json["entries"]
    kinds = [each["kind"] for each in entries]
    assert kinds.count("look") == 3
    assert (kinds[0], kinds[-1], kinds.count("verification")) == ("match", "match", 1)
    assert all(each["person"] and each["command"].startswith("portcall ") for each in entries)
    setting = next(each for each in entries if each["kind"] == "setting")
    assert setting["command"].startswith("portcall assign fan-drive-1 --keep")
    story = plant.run("portcall logbook show --device fan-drive-1 --kind setting").out
    assert "done, CIP, 10.61.20.21/24 stored in the device" in story
    whole = plant.run("portcall logbook show --device fan-drive-1").out
    assert "seen without an address" in whole
    assert "right" in whole
    plant.run("portcall logbook export all.jsonl")
    lines = plant.run("cat all.jsonl").out.splitlines()
    assert [json.loads(line)["uid"] for line in lines] == [each["uid"] for each in entries]


def test_a_cable_that_is_out_makes_nobody_vanish_and_a_fresh_look_is_compared(plant):
    plant.run("portcall match dryer-plc --no-probe")
    plant.run("portcall find")
    looking = plant.start("portcall find")
    plant.until_sent(20)
    plant.run("portcall plant unplug usb0")
    plant.finish(looking)
    plant.run("portcall plant plug usb0")
    compared = plant.run("portcall compare --json")
    assert compared.json["vanished"] == []
    now = plant.run("portcall compare 3 now --json")
    assert (now.code, now.json["vanished"], now.json["appeared"]) == (0, [], [])


def test_what_cannot_be_recorded_is_said_and_the_look_goes_on(plant):
    plant.run("portcall match dryer-plc --no-probe")
    plant.run("rm -rf logbook")
    plant.write("logbook", "a file")
    found = plant.run("portcall find 10.61.20.10")
    assert found.code == 0
    assert "not recorded" in found.err
    shown = plant.run("portcall logbook show")
    assert shown.code == 3
    assert "Traceback" not in shown.err


@pytest.mark.long
def test_a_watch_is_recorded_when_it_ends(plant):
    plant.run("portcall match dryer-plc --no-probe")
    watching = plant.start("portcall find --watch --json", signalled=True)
    # A device that vanishes is told of at the end of a whole look.
    plant.until(watching, "02-5A-1D-04-40-3B")
    plant.run("portcall plant unplug old-feeder")
    plant.until(watching, '"event": "vanished"')
    plant.finish(watching, signal.SIGINT)
    plant.run("portcall reach dryer-plc --watch --for 1 --interval 0.2")
    entries = plant.run("portcall logbook show --json").json["entries"]
    told = {each["kind"]: each["summary"] for each in entries}
    assert told["look"].endswith("at the end of a watch")
    assert told["watch"].startswith("1 target: ")
