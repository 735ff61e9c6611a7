"""The plan's history: what was done, by whom, and what others did; and taking it back."""

import json
import os
import shutil
import signal
import subprocess
import sys
import time

import pytest
from click.testing import CliRunner

from moments import some
from portcall.cli.main import portcall
from portcall.core.plan.changing import cells_of, changes, setting
from portcall.core.plan.reading import parse_plan
from portcall.core.record.planned import BEGUN
from portcall.core.trouble import BadInput
from portcall.site.logbook.folder import this_workstation
from portcall.site.logbook.plan_changes import record_changes

PLAN = b"name,mac,address,place\nfan,02-77-B1-00-00-21,10.61.20.21,A1\npump,,10.61.20.22,\n"


@pytest.fixture
def at(tmp_path, monkeypatch):
    """Be at a laptop, in its folder of the site."""

    def be(who):
        site = tmp_path / who
        if not site.exists():
            (site / "logbook").mkdir(parents=True)
            (site / "plan.csv").write_bytes(PLAN)
        monkeypatch.setenv("PORTCALL_STATE", str(tmp_path / f"{who}-remembers"))
        monkeypatch.chdir(site)
        return site

    return be


def run(*words):
    ended = CliRunner().invoke(portcall, [*words, "--json"], standalone_mode=False)
    if ended.exception is not None:
        raise ended.exception
    return json.loads(ended.stdout)


def plan_lines(site):
    return [json.loads(line) for line in (site / "plan-changes.jsonl").read_text().splitlines()]


def as_the_lines_have_it(site):
    """The plan's rows by replaying the lines, as somebody else would."""
    rows, lines = {}, plan_lines(site)
    undone = {line["change"] for line in lines if line.get("step") == "taken back"}
    for line in lines:
        if BEGUN in line:
            rows = {row["name"]: row for row in line[BEGUN]}
        elif ("was" in line or "is" in line) and line["change"] not in undone:
            rows.pop(line["name"], None)
            if line["is"]:
                rows[line["is"]["name"]] = line["is"]
    return rows


def as_the_plan_has_it(site):
    rows = parse_plan((site / "plan.csv").read_bytes(), "plan.csv").rows
    return {row.name: cells_of(row) for row in rows}


def test_what_was_changed_by_hand_is_recorded_as_such_when_the_plan_is_next_read(at):
    site = at("anna")
    run("plan", "check")
    (site / "plan.csv").write_bytes(PLAN.replace(b".22,", b".32,") + b"valve,,10.61.20.23,\n")
    run("plan", "check")
    assert [(line["name"], line["by"]) for line in plan_lines(site)[1:]] == [
        ("pump", "hand"),
        ("valve", "hand"),
    ]
    assert as_the_lines_have_it(site) == as_the_plan_has_it(site)
    count = len(plan_lines(site))
    run("plan", "check")
    assert len(plan_lines(site)) == count
    # One with mistakes is no plan yet: what was done to it is recorded when it is one again.
    (site / "plan.csv").write_bytes(PLAN + b"valve,,nonsense,\n")
    run("plan", "check")
    assert len(plan_lines(site)) == count


def test_what_was_announced_and_not_done_is_not_told_as_done(at):
    site = at("anna")
    run("plan", "set", "fan", "place=A2")
    before = (site / "plan.csv").read_bytes()
    plan = parse_plan(before, "plan.csv")
    edited = setting("fan", {"address": "10.61.20.99"})(plan, before)
    # Killed here: it is written down, and the plan is not.
    record_changes(site, changes(plan, parse_plan(edited, "plan.csv")), before, edited)
    at_once = run("logbook", "show", "--kind", "plan")["entries"]
    assert at_once[-1]["summary"].startswith("the plan is as it was before the last change")
    assert as_the_lines_have_it(site) == as_the_plan_has_it(site)
    shown = run("plan", "show", "--at", "today")["rows"]
    assert [row["address"] for row in shown] == ["10.61.20.21", "10.61.20.22"]
    assert [c["is"]["place"] for c in run("plan", "undo", "--dry-run")["changes"]] == ["A1"]


def test_undo_gives_the_file_back_octet_for_octet_as_often_as_there_were_changes(at):
    site = at("anna")
    odd = b'\xef\xbb\xbfName;Address;Cable\r\n fan ;10.61.20.21;"4;7"\r\n'
    (site / "plan.csv").write_bytes(odd)
    versions = [odd]
    for n in range(3):
        run("plan", "set", "fan", f"cable={n}")
        versions.append((site / "plan.csv").read_bytes())
    (site / "plan.csv").write_bytes(versions[-1].replace(b".21", b".31"))
    for version in reversed(versions):
        assert run("plan", "undo", "--dry-run")["changes"]
        run("plan", "undo")
        assert (site / "plan.csv").read_bytes() == version
    with pytest.raises(BadInput, match="no change of the plan is recorded"):
        run("plan", "undo")
    assert (site / "plan.csv").read_bytes() == odd


def sent(one, who, other):
    """What sync does: the lines of a laptop are at another one, as they were written."""
    folder = other / "logbook" / "entries"
    folder.mkdir(exist_ok=True)
    shutil.copy(one / "plan-changes.jsonl", folder / f"{who}.plan-changes.jsonl")


def test_what_others_changed_is_named_with_both_values_and_taken_or_kept_by_row(at):
    anna = at("anna")
    annas = this_workstation()
    run("plan", "check")
    bo = at("bo")
    bos = this_workstation()
    run("plan", "set", "fan", "address=10.61.20.31")
    run("plan", "set", "pump", "place=B7")
    run("plan", "add", "valve", "10.61.20.23/24")
    at("anna")
    run("plan", "set", "fan", "address=10.61.20.41")
    sent(bo, bos, anna)
    others = {(each["name"], each["column"]): each for each in run("plan", "others")["others"]}
    assert others.keys() == {("fan", "address"), ("pump", "place"), ("valve", None)}
    fan = others["fan", "address"]
    assert (fan["here"], fan["there"], fan["was"]) == ("10.61.20.41", "10.61.20.31", "10.61.20.21")
    assert [each["conflict"] for each in others.values()] == [True, False, False]
    taken = run("plan", "others", "--take", "pump", "--take", "valve", "--keep", "fan")
    assert (len(taken["changes"]), taken["others"]) == (2, [])
    assert run("plan", "others")["others"] == []
    rows = as_the_plan_has_it(anna)
    assert (rows["fan"]["address"], rows["pump"]["place"]) == ("10.61.20.41", "B7")
    # The other one sees what was decided here, and has nothing to decide of what was taken.
    at("bo")
    sent(anna, annas, bo)
    (left,) = run("plan", "others")["others"]
    assert (left["name"], left["here"], left["there"]) == ("fan", "10.61.20.31", "10.61.20.41")
    run("plan", "others", "--take", "fan")
    assert run("plan", "others")["others"] == []
    at("anna")
    sent(bo, bos, anna)
    assert run("plan", "others")["others"] == []
    # A third one, who changed nothing, has no conflict with what these two did one after the other.
    cleo = at("cleo")
    run("plan", "check")
    sent(bo, bos, cleo)
    sent(anna, annas, cleo)
    fan = next(each for each in run("plan", "others")["others"] if each["name"] == "fan")
    assert (fan["conflict"], fan["there"], fan["was"]) == (False, "10.61.20.41", "10.61.20.21")
    with pytest.raises(BadInput, match="nobody else changed this row"):
        run("plan", "others", "--take", "hood")


@pytest.mark.long
@pytest.mark.parametrize("moment", some(range(12), 4))
def test_killed_at_any_moment_the_lines_and_the_plan_say_the_same(at, moment):
    site = at("anna")
    run("plan", "check")
    words = [sys.executable, "-m", "portcall", "plan", "set", "fan"]
    ended = 0
    for n in range(6):
        with subprocess.Popen([*words, f"place=P{n}"], stdout=subprocess.DEVNULL) as process:
            time.sleep(0.18 + 0.02 * moment + 0.007 * n)
            ended += process.poll() is not None
            process.send_signal(signal.SIGKILL)
        run("plan", "check")
        assert as_the_lines_have_it(site) == as_the_plan_has_it(site)
    assert os.path.exists(site / "plan.csv")
