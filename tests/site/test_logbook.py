"""The logbook: nothing that was acknowledged is lost, and nothing that is lost is passed over."""

import json
import os
import signal
import sqlite3
import subprocess
import sys
import time
import zlib
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from hashlib import sha256
from pathlib import Path
from tempfile import TemporaryDirectory

import pytest

from moments import some
from portcall.core.address import parse_mac
from portcall.core.record.chain import DamageKind
from portcall.core.record.entry import Kind
from portcall.site.logbook import writing
from portcall.site.logbook.checking import check_logbook
from portcall.site.logbook.entries import add_entries
from portcall.site.logbook.folder import CACHE, logbook_folder, own_source, site_identity
from portcall.site.logbook.heard import listen
from portcall.site.logbook.importing import import_lines
from portcall.site.logbook.plan_changes import macs_before
from portcall.site.logbook.store import Logbook
from portcall.site.logbook.writing import new_entry, write_if_possible
from portcall.site.logbook.writing import write_entries as write


def look(n, devices=()):
    return new_entry(Kind.LOOK, f"look {n}", {"devices": list(devices)}, adapter="usb0")


def told(site):
    return [each.entry.summary for each in Logbook(site).entries()]


def lines_of(site):
    return site / "logbook" / "entries" / own_source(site).file


@pytest.fixture
def heard():
    """What is told of damage."""
    found = []
    listen(lambda folder, sentences: found.extend(map(str, sentences)))
    yield found
    listen(lambda folder, sentences: None)


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
    assert found.entry.boot


def test_a_folder_may_have_any_name(tmp_path):
    for name in ("line?1", "line", "50%25", "50%", "a#b", "x:y@z"):
        (tmp_path / name).mkdir()
        write(tmp_path / name, look(1))
    for folder in tmp_path.iterdir():
        assert told(folder) == ["look 1"]
        assert (folder / "logbook" / CACHE).exists()
    assert len(list(tmp_path.iterdir())) == 6


def _fields(entry):
    fields = {name: getattr(entry, name) for name in entry.__slots__}
    # JSON keeps milliseconds.
    return {**fields, "at": entry.at.replace(microsecond=entry.at.microsecond // 1000 * 1000)}


@pytest.mark.parametrize("reads", [True, False])
def test_a_look_that_found_what_an_earlier_one_found_costs_a_line(tmp_path, reads):
    devices = [{"mac": f"02-00-00-00-00-{n:02X}", "product": "x" * n} for n in range(250)]
    write(tmp_path, look(0, devices))
    if reads:
        Logbook(tmp_path)
    before = lines_of(tmp_path).stat().st_size
    for n in range(1, 40):
        write(tmp_path, look(n, devices))
    assert lines_of(tmp_path).stat().st_size - before < 40 * 1024
    book = Logbook(tmp_path)
    assert [len(each.body["devices"]) for each in book.entries()] == [250] * 40
    assert check_logbook(tmp_path).is_whole


def test_the_other_records_are_taken_in_as_they_grow_and_once(tmp_path):
    line = '{"at": "2026-11-20T10:00:00.000+00:00", "step": "done", "name": "fan", "by": "CIP"}\n'
    older = tmp_path / "settings.jsonl"
    older.write_text(line + "nonsense\n")
    assert told(tmp_path) == ["done, CIP"]
    with open(older, "a") as file:
        file.write(line.replace("10:00", "11:00") + '{"at": "2026')
    assert told(tmp_path) == ["done, CIP"] * 2
    # A line of today goes on behind lines that were written before lines were linked, and behind
    # one that a crash cut.
    add_entries(older, {"step": "done", "by": "SNMP"})
    assert told(tmp_path) == ["done, CIP"] * 2 + ["done, SNMP"]
    assert check_logbook(tmp_path).is_whole
    assert json.loads(older.read_text().splitlines()[-1])["n"] == 5


def damaged(n, edit, tmp_path):
    """What is told of a logbook of ten lines after an edit of its lines, and what is left."""
    write(tmp_path, *(look(each) for each in range(9)))
    path = lines_of(tmp_path)
    Logbook(tmp_path)
    lines = path.read_bytes().splitlines(keepends=True)
    edit(lines)
    path.write_bytes(b"".join(lines))


def swap(lines):
    lines[4], lines[5] = lines[5], lines[4]


EDITS = {
    "a value": (lambda lines: lines.__setitem__(4, lines[4].replace(b"look 3", b"look 7")), 9),
    "a value of the same length, long ago": (
        lambda lines: lines.__setitem__(1, lines[1].replace(b"look 0", b"look 9")),
        9,
    ),
    "a line taken out": (lambda lines: lines.pop(4), 8),
    "the last lines": (lambda lines: lines.__delitem__(slice(7, None)), 6),
    "all lines": (lambda lines: lines.clear(), 0),
    "lines in another order": (swap, 9),
    "a line put in": (lambda lines: lines.insert(4, b'{"uid": "x", "at": "2026"}\n'), 9),
    "a line twice": (lambda lines: lines.insert(4, lines[3]), 9),
    "octets in a line": (lambda lines: lines.__setitem__(4, b"\x00\xff" + lines[4][2:]), 8),
}


@pytest.mark.parametrize("what", EDITS)
def test_what_was_changed_in_the_lines_is_told_by_whoever_reads_them(tmp_path, heard, what):
    edit, left = EDITS[what]
    damaged(10, edit, tmp_path)
    assert len(told(tmp_path)) == left
    assert heard != [], what
    checked = check_logbook(tmp_path)
    assert not checked.is_whole
    # It goes on being told, and what is written now is read.
    write(tmp_path, look("new"))
    heard.clear()
    listen(lambda folder, sentences: heard.extend(map(str, sentences)))
    assert "look new" in told(tmp_path)
    assert heard != [], what


def test_what_an_edit_between_two_openings_hides_is_told_by_check(tmp_path, heard):
    write(tmp_path, *(look(each) for each in range(5)))
    Logbook(tmp_path)
    path = lines_of(tmp_path)
    lines = path.read_bytes()
    path.write_bytes(lines.replace(b"look 2", b"look 7"))
    write(tmp_path, look(5))
    assert told(tmp_path) == [f"look {n}" for n in range(6)]
    checked = check_logbook(tmp_path)
    (wrong,) = checked.files[0].damage
    assert (wrong.damage.kind, wrong.damage.line) == (DamageKind.CHANGED, 4)
    assert any("said something else than they do" in each for each in checked.findings)
    assert told(tmp_path)[2] == "look 7"
    assert heard != []


def test_lines_of_another_site_are_not_read(tmp_path, heard):
    for name in ("one", "two"):
        write(tmp_path / name, look(name))
    assert site_identity(tmp_path / "one") != site_identity(tmp_path / "two")
    stray = lines_of(tmp_path / "two").read_bytes()
    (tmp_path / "one" / "logbook" / "entries" / "laptop-2.jsonl").write_bytes(stray)
    assert told(tmp_path / "one") == ["look one"]
    assert heard == ["laptop-2.jsonl: it belongs to another site, and is not read"]


def test_what_a_newer_version_wrote_is_kept_and_counted(tmp_path, heard):
    write(tmp_path, look(1))
    writing.copy_documents(tmp_path, [{**look(2).document, "kind": "prophecy"}], "tomorrow")
    write(tmp_path, look(3))
    assert told(tmp_path) == ["look 1", "look 3"]
    (file,) = check_logbook(tmp_path).files
    assert [(each.damage.kind, each.damage.count) for each in file.damage] == [("newer", 1)]
    assert heard == []


def test_a_damaged_database_is_made_anew_of_the_lines(tmp_path, heard):
    devices = [{"mac": f"02-00-00-00-00-{n:02X}", "product": str(n) * 40} for n in range(250)]
    write(tmp_path, *(look(n, devices[: 10 + n]) for n in range(60)))
    whole = told(tmp_path)
    path = tmp_path / "logbook" / CACHE
    data = path.read_bytes()
    for damage in (
        b"no database" + data[11:],
        data[: len(data) // 2],
        data[:4096] + bytes(range(256)) * 16 + data[8192:],
        b"",
    ):
        path.write_bytes(damage)
        path.with_name(CACHE + "-journal").write_bytes(b"not a journal")
        book = Logbook(tmp_path)
        assert [each.entry.summary for each in book.entries()] == whole
        assert len(book.entries()[-1].body["devices"]) == 69
    path.unlink()
    assert told(tmp_path) == whole
    assert heard == []


def files_in(folder):
    return {path: path.read_bytes() for path in folder.rglob("*") if path.is_file()}


READER = """
import sys
from pathlib import Path
from portcall.site.logbook.store import Logbook
print(*(each.entry.summary for each in Logbook(Path(sys.argv[1])).entries()), sep=",")
"""


def test_reading_needs_no_writing():
    with TemporaryDirectory(prefix="pc-") as name:
        site = Path(name) / "site"
        write(site, look(1))
        assert told(site) == ["look 1"]
        write(site, look(2))
        before = files_in(site)
        folders = [path for path in (site, *site.rglob("*")) if path.is_dir()]
        for path in [*folders, *before]:
            os.chmod(path, 0o555 if path.is_dir() else 0o444)
        os.chmod(name, 0o755)
        words = [sys.executable, "-B", "-c", READER, str(site)]
        if os.getuid() == 0:
            words = ["setpriv", "--reuid", "65534", "--regid", "65534", "--clear-groups", *words]
        env = {**os.environ, "HOME": "/", "PORTCALL_STATE": ""}
        ended = subprocess.run(words, capture_output=True, text=True, env=env)
        for path in folders:
            os.chmod(path, 0o755)
        assert ended.stdout.strip() == "look 1,look 2", ended.stderr
        assert files_in(site) == before


def test_a_folder_that_cannot_be_written_is_said_and_a_full_disk_loses_nothing(tmp_path):
    (tmp_path / "logbook").write_text("a file")
    reason = write_if_possible(tmp_path, look(1))
    assert reason.startswith("not recorded")
    site = tmp_path / "site"
    site.mkdir()
    write(site, look(1))
    path = lines_of(site)
    kept = path.read_bytes()
    path.unlink()
    os.symlink("/dev/full", path)
    assert "No space left" in write_if_possible(site, look(2))
    path.unlink()
    path.write_bytes(kept)
    assert told(site) == ["look 1"]


def test_a_wrong_clock_rules_nothing(tmp_path):
    now = datetime.now(UTC)
    clocks = [(0, "a"), (1, "b"), (24 * 365, "next year"), (2, "c"), (-24 * 900, "reset"), (3, "d")]
    for hours, what in clocks:
        write(tmp_path, replace(look(what), at=now + timedelta(hours=hours - 10)))
        Logbook(tmp_path)
    wrong = [each.entry.summary for each in Logbook(tmp_path).entries() if each.entry.misdated]
    assert sorted(wrong) == ["look next year", "look reset"]
    (tmp_path / "logbook" / CACHE).unlink()
    again = [each.entry.summary for each in Logbook(tmp_path).entries() if each.entry.misdated]
    assert again == wrong
    assert check_logbook(tmp_path).files[0].misdated == 2
    # What is copied here says nothing of its neighbours, and rules as little from the future.
    copied = [
        replace(look(what), at=now + timedelta(days=d)) for what, d in (("old", -9), ("x", 9))
    ]
    writing.copy_documents(tmp_path, [each.document for each in copied], "a file")
    late = {each.entry.summary for each in Logbook(tmp_path).entries() if each.entry.misdated}
    assert late == {"look next year", "look reset", "look x"}


def test_a_clock_that_was_set_is_told_by_the_time_since_the_start(tmp_path):
    now = datetime.now(UTC) - timedelta(days=1)
    # Put on by an hour in the first run; in another run of the computer it may be anything.
    steps = [("one", 100, 100), ("one", 200, 3800), ("two", 10, -9000), ("two", 400, -8610)]
    for boot, uptime, at in steps:
        told_at = now + timedelta(seconds=at)
        write(tmp_path, replace(look(uptime), at=told_at, boot=boot, uptime=float(uptime)))
    (file,) = check_logbook(tmp_path).files
    assert [(line, round(by)) for line, by in file.clock_set] == [(3, 3600)]
    assert file.is_whole


def test_a_logbook_of_an_earlier_version_is_taken_over_once(tmp_path):
    folder = tmp_path / "logbook"
    folder.mkdir()
    entries = [replace(look(n), boot="", uptime=0.0) for n in range(3)]
    book = sqlite3.connect(folder / "logbook.db")
    columns = [key for key in entries[0].document if key != "body"]
    names = ", ".join([*columns, "content"])
    book.execute(f"CREATE TABLE entries (number INTEGER PRIMARY KEY, {names})")
    book.execute("CREATE TABLE contents (digest, data)")
    for each in entries[:2]:
        data = each.body_text.encode()
        digest = sha256(data).hexdigest()
        values = [each.document[key] for key in columns]
        marks = ", ".join("?" * (len(columns) + 1))
        book.execute(
            f"INSERT INTO entries ({names}) VALUES ({marks})",
            [*values, digest],
        )
        book.execute("INSERT INTO contents VALUES (?, ?)", (digest, zlib.compress(data)))
    book.commit()
    book.close()
    before = (folder / "logbook.db").read_bytes()
    (folder / "inbox.jsonl").write_text(json.dumps(entries[2].document) + "\n")
    assert [each.whole.line for each in Logbook(tmp_path).entries()] == [e.line for e in entries]
    assert told(tmp_path) == ["look 0", "look 1", "look 2"]
    (kept,) = folder.glob("logbook-taken-over-*.db")
    assert kept.read_bytes() == before
    assert not (folder / "inbox.jsonl").exists()


def test_what_export_writes_import_reads(tmp_path):
    one, other = tmp_path / "one", tmp_path / "other"
    write(one, *(look(n) for n in range(5)))
    write(other, look("own"))
    whole = [each.whole for each in Logbook(one).entries()]
    file = tmp_path / "one.jsonl"
    file.write_text("".join(f"{each.line}\n" for each in whole))
    assert import_lines(other, file).added == 5
    again = import_lines(other, file)
    assert (again.added, again.known, again.told) == (0, 5, ())
    lines = {each.whole.line for each in Logbook(other).entries()}
    assert {each.line for each in whole} < lines
    file.write_text(file.read_text().replace("look 3", "look 8") + "what\n")
    odd = import_lines(other, file)
    assert (odd.added, len(odd.told)) == (0, 2)
    assert check_logbook(other).is_whole


WRITER = """
import sys
from pathlib import Path
from portcall.core.record.entry import Kind
from portcall.site.logbook.writing import new_entry, write_entries
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
