"""The logbook: nothing that was acknowledged is lost, whatever happens to its files."""

import json
import os
import signal
import subprocess
import sys
import time
from concurrent.futures import ThreadPoolExecutor

import pytest

from moments import some
from portcall.core.address import parse_mac
from portcall.core.record.entry import Kind
from portcall.core.trouble import NotPossibleHere
from portcall.site.logbook.inbox import INBOX, logbook_folder, new_entry, write_if_possible
from portcall.site.logbook.inbox import write_entries as write
from portcall.site.logbook.plan_changes import macs_before
from portcall.site.logbook.store import DATABASE, UNREAD, Logbook


def look(n, devices=()):
    return new_entry(Kind.LOOK, f"look {n}", {"devices": list(devices)}, adapter="usb0")


def told(site):
    return [each.entry.summary for each in Logbook(site).entries()]


def test_what_is_written_down_is_read_whole_with_who_and_when(tmp_path):
    entry = new_entry(
        Kind.SWAP, "new for old", {"was": "Lüfter"}, name="fan", mac="02-77-B1-00-00-01"
    )
    write(tmp_path, entry)
    (found,) = Logbook(tmp_path).entries()
    assert found.entry == entry.__class__(**{**_fields(entry), "body": {}})
    assert found.body == {"was": "Lüfter"}
    assert found.entry.person
    assert found.entry.command.startswith("portcall")
    assert (tmp_path / "logbook" / INBOX).read_bytes() == b""


def test_a_folder_may_have_any_name(tmp_path):
    for name in ("line?1", "line", "50%25", "50%", "a#b", "x:y@z"):
        (tmp_path / name).mkdir()
        write(tmp_path / name, look(1))
    for folder in tmp_path.iterdir():
        assert told(folder) == ["look 1"]
        assert (folder / "logbook" / DATABASE).exists()
    assert len(list(tmp_path.iterdir())) == 6


def _fields(entry):
    fields = {name: getattr(entry, name) for name in entry.__slots__}
    # JSON keeps milliseconds.
    return {**fields, "at": entry.at.replace(microsecond=entry.at.microsecond // 1000 * 1000)}


def test_a_look_that_found_what_the_last_one_found_costs_a_line(tmp_path):
    devices = [{"mac": f"02-00-00-00-00-{n:02X}", "product": "x" * n} for n in range(250)]
    write(tmp_path, look(0, devices))
    Logbook(tmp_path)
    before = (tmp_path / "logbook" / DATABASE).stat().st_size
    for n in range(1, 40):
        write(tmp_path, look(n, devices))
    book = Logbook(tmp_path)
    assert (tmp_path / "logbook" / DATABASE).stat().st_size - before < 40 * 1024
    assert [len(each.body["devices"]) for each in book.entries()] == [250] * 40


def test_the_other_records_are_taken_in_as_they_grow_and_once(tmp_path):
    line = '{"at": "2026-11-20T10:00:00.000+00:00", "step": "done", "name": "fan", "by": "CIP"}\n'
    older = tmp_path / "settings.jsonl"
    older.write_text(line + "nonsense\n")
    assert told(tmp_path) == ["done, CIP"]
    with open(older, "a") as file:
        file.write(line.replace("10:00", "11:00") + '{"at": "2026')
    assert told(tmp_path) == ["done, CIP"] * 2
    # It was written anew, by somebody who knows nothing of this, and has grown since.
    older.write_text(line)
    assert told(tmp_path) == ["done, CIP"] * 2
    older.write_text("".join(line.replace("10:00", f"1{n}:30") for n in range(5)))
    assert told(tmp_path) == ["done, CIP"] * 7


def test_a_crash_after_taking_in_and_before_emptying_adds_nothing_twice(tmp_path):
    write(tmp_path, look(1), look(2))
    lines = (tmp_path / "logbook" / INBOX).read_bytes()
    Logbook(tmp_path)
    (tmp_path / "logbook" / INBOX).write_bytes(lines + b'{"uid": "half')
    assert told(tmp_path) == ["look 1", "look 2"]


def test_what_a_newer_version_wrote_is_kept(tmp_path):
    write(tmp_path, look(1))
    inbox = tmp_path / "logbook" / INBOX
    newer = inbox.read_bytes().replace(b'"look"', b'"prophecy"')
    inbox.write_bytes(inbox.read_bytes() + newer)
    assert told(tmp_path) == ["look 1"]
    assert (tmp_path / "logbook" / UNREAD).read_bytes() == newer
    assert inbox.read_bytes() == b""


def test_a_database_with_a_damaged_page_is_set_aside_with_its_journal(tmp_path):
    devices = [{"mac": f"02-00-00-00-00-{n:02X}", "product": str(n) * 40} for n in range(250)]
    write(tmp_path, *(look(n, devices[: 10 + n]) for n in range(60)))
    Logbook(tmp_path)
    path = tmp_path / "logbook" / DATABASE
    data = bytearray(path.read_bytes())
    data[4096:8192] = bytes(range(256)) * 16
    path.write_bytes(data)
    path.with_name(DATABASE + "-journal").write_bytes(b"not a journal")
    book = Logbook(tmp_path)
    assert book.set_aside.read_bytes() == data
    assert sorted(each.name.partition("Z.")[2] for each in path.parent.glob("*damaged*"))[0] == "db"
    assert book.entries() == []


def test_a_damaged_database_is_set_aside_and_never_written_over(tmp_path):
    write(tmp_path, look(1))
    Logbook(tmp_path)
    path = tmp_path / "logbook" / DATABASE
    damaged = b"no database" + path.read_bytes()[11:]
    path.write_bytes(damaged)
    write(tmp_path, look(2))
    book = Logbook(tmp_path)
    assert book.set_aside.read_bytes() == damaged
    assert "logbook-damaged-" in book.set_aside.name
    assert [each.entry.summary for each in book.entries()] == ["look 2"]


def test_a_folder_that_cannot_be_written_is_said_and_a_full_disk_loses_nothing(tmp_path):
    (tmp_path / "logbook").write_text("a file")
    reason = write_if_possible(tmp_path, look(1))
    assert reason.startswith("not recorded")
    with pytest.raises(NotPossibleHere, match="the logbook cannot be used"):
        Logbook(tmp_path)
    site = tmp_path / "site"
    site.mkdir()
    write(site, look(1))
    os.symlink("/dev/full", site / "logbook" / "x")
    inbox = site / "logbook" / INBOX
    kept = inbox.read_bytes()
    inbox.unlink()
    os.symlink("/dev/full", inbox)
    assert "No space left" in write_if_possible(site, look(2))
    inbox.unlink()
    inbox.write_bytes(kept)
    assert told(site) == ["look 1"]


WRITER = """
import sys
from pathlib import Path
from portcall.core.record.entry import Kind
from portcall.site.logbook.inbox import new_entry, write_entries
from portcall.site.logbook.store import Logbook
site, who = Path(sys.argv[1]), sys.argv[2]
for n in range(int(sys.argv[3])):
    write_entries(site, new_entry(Kind.LOOK, f"{who}-{n}", {"devices": []}))
    print(f"{who}-{n}", flush=True)
    if n % 3 == 0:
        Logbook(site)
"""


def test_two_writers_and_readers_at_once_lose_nothing(tmp_path):
    def run(who):
        words = [sys.executable, "-c", WRITER, str(tmp_path), who, "25"]
        return subprocess.run(words, capture_output=True, text=True, check=True).stdout.split()

    with ThreadPoolExecutor(3) as pool:
        acknowledged = [each for out in pool.map(run, "abc") for each in out]
    assert sorted(told(tmp_path)) == sorted(acknowledged)
    assert len(acknowledged) == 75


@pytest.mark.parametrize("moment", some(range(10), 3))
def test_killed_at_any_moment_what_was_acknowledged_is_there_once(tmp_path, moment):
    words = [sys.executable, "-c", WRITER, str(tmp_path), "w", "100000"]
    with subprocess.Popen(words, stdout=subprocess.PIPE, text=True) as writer:
        first = writer.stdout.readline()
        time.sleep(0.013 * moment)
        writer.send_signal(signal.SIGKILL)
        acknowledged = [first.strip(), *writer.stdout.read().split()]
    found = told(tmp_path)
    assert len(found) == len(set(found))
    # One more may be there, whose acknowledgement was not written any more.
    assert [each for each in acknowledged if each not in found] == []
    assert len(found) - len(acknowledged) in (0, 1)


def test_a_row_had_another_mac_only_where_that_was_changed(tmp_path):
    old, new = parse_mac("02-77-B1-00-00-01"), parse_mac("02-77-B1-00-00-02")
    lines = [(new, new), (old, old), (old, new), (new, new)]
    (tmp_path / "plan-changes.jsonl").write_text(
        "".join(
            json.dumps(
                {"name": "fan", "was": {"mac": str(was)}, "is": {"name": "FAN", "mac": str(now)}}
            )
            + "\n"
            for was, now in lines
        )
        + '{"name": "fan", "was": null, "is": {"name": "fan", "mac": "02-77"}}\n'
    )
    assert macs_before(tmp_path, "fan", new) == (old,)
    assert macs_before(tmp_path, "fan", old) == ()


def test_the_logbook_without_a_site_is_this_persons(monkeypatch, tmp_path):
    monkeypatch.setenv("HOME", str(tmp_path))
    # sudo takes this away: with it and without, the place is the same.
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "elsewhere"))
    assert logbook_folder(None) == tmp_path / ".local" / "state" / "portcall" / "logbook"
    assert json.loads(json.dumps(look(1).document))["summary"] == "look 1"
