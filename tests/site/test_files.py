"""The site folder, what match has open, and files that survive a crash."""

import json
import os
import struct
import subprocess
import sys
import time
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from ipaddress import IPv4Address, IPv4Interface
from pathlib import Path
from tempfile import TemporaryDirectory

import pytest

from portcall.core.address import parse_mac
from portcall.core.document import Part
from portcall.core.reach.echo_facts import Replied, Unanswered
from portcall.core.talk.conversation import Endpoint
from portcall.core.talk.pacer import Pace
from portcall.core.trouble import BadInput, NotPossibleHere
from portcall.site import files, matches
from portcall.site.captures import CaptureFile, read_capture
from portcall.site.catalogs import add_catalog
from portcall.site.echo_log import EchoLog, read_echoes
from portcall.site.folder import Site, find_site
from portcall.site.makers import maker_lookup
from portcall.site.moment import Moment, read_moment
from portcall.site.turns import turn

USB0 = parse_mac("02-1A-40-7C-00-06")
ADDED = IPv4Interface("10.61.20.200/24")
NOW = datetime(2026, 11, 23, 7, 0, tzinfo=UTC)


@pytest.fixture
def state(tmp_path, monkeypatch):
    monkeypatch.setenv(matches.STATE_VARIABLE, str(tmp_path / "state"))
    return tmp_path / "state"


def opened(added, before=(), taken_off=(), at=NOW):
    entry = matches.OpenMatch("usb0", USB0, added, before, taken_off, Moment(at))
    matches.write_down(entry)
    return entry


def test_a_site_is_found_by_walking_up(tmp_path):
    deep = tmp_path / "line 2" / "photos"
    deep.mkdir(parents=True)
    assert find_site(deep).folder not in (deep, deep.parent, tmp_path)
    (tmp_path / "plan.csv").write_text("name,address\nfan,10.61.20.21\n")
    assert find_site(deep).folder == tmp_path
    (tmp_path / "line 2" / "site.toml").write_text(
        'name = "Line 2"\npace_to_one = 5\nworkstation = "10.61.20.200"\n'
        'maker_defaults = ["203.0.113.0/24"]\n'
        '[[subnets]]\nnetwork = "10.61.20.0/24"\ngateway = "10.61.20.1"\n'
        '[makers]\n"02:77:b1" = "Whimbrel\\u001b Drives"\n'
    )
    site = find_site(deep)
    assert (site.name, site.workstation, site.pace) == (
        "Line 2",
        IPv4Address("10.61.20.200"),
        Pace(1000, 100, 5),
    )
    assert site.subnets[0].gateway == IPv4Address("10.61.20.1")
    assert site.plan().devices == ()
    makers = maker_lookup(site.makers)
    assert makers(parse_mac("02-77-B1-00-00-01")) == "Whimbrel Drives"
    assert makers(parse_mac("02-77-B2-00-00-01")) is None


def test_the_public_registry_is_asked_for_makers_that_are_not_the_sites():
    makers = maker_lookup({})
    # The registry's own first entry, of the organisation that invented the frame.
    assert "XEROX" in makers(parse_mac("00-00-00-00-00-01")).upper()
    assert makers(parse_mac("F4-00-00-00-00-00")) is None
    # Blocks of 28 and of 36 bits: the registry itself has the one that they are cut from.
    assert makers(parse_mac("20-85-93-B0-00-01")) == "IOG Products LLC"
    assert makers(parse_mac("70-B3-D5-71-90-01")) == "2M Technology"
    assert makers(parse_mac("20-85-93-F0-00-01")) is None


def test_a_plan_that_cannot_be_read_is_said(tmp_path):
    site = find_site(tmp_path)
    with pytest.raises(NotPossibleHere, match="cannot be read"):
        site.read_plan(tmp_path / "gone.csv")
    (tmp_path / "site.toml").write_text("workstation = 5")
    with pytest.raises(BadInput, match=r"site.toml: workstation: 5 is not text"):
        find_site(tmp_path)


def test_a_match_is_on_the_disk_until_it_is_closed(state):
    before = (IPv4Interface("203.0.113.5/24"),)
    entry = opened(ADDED, before, ("20 00 00",), NOW)
    later = opened(IPv4Interface("203.0.113.9/24"), (), (), NOW.replace(hour=8))
    assert matches.open_matches() == (entry, later)
    assert [e.since.at.hour for e in matches.open_matches()] == [7, 8]
    matches.close(entry)
    matches.close(entry)
    assert matches.open_matches() == (later,)


def test_an_open_match_is_only_ever_added_to(state):
    """Made again, when what was there at first is gone already."""
    before = (IPv4Interface("203.0.113.129/25"), IPv4Interface("10.61.20.7/24"))
    first = opened(ADDED, before, ("20 00 00", "20 11 11"))
    opened(ADDED, (), ("20 11 11", "24 22 22"), NOW.replace(hour=9))
    (entry,) = matches.open_matches()
    assert (entry.before, entry.since) == (before, first.since)
    assert entry.taken_off == ("20 00 00", "20 11 11", "24 22 22")
    # A visit that comes to the same address does not make a person's match its own.
    matches.write_down(replace(first, taken_off=(), visitor=matches.this_process()))
    assert matches.open_matches() == (entry,)
    # Another adapter that is called the same has an entry of its own.
    matches.write_down(replace(first, mac=parse_mac("02-1A-40-7C-00-07"), before=()))
    assert [each.before for each in matches.open_matches()] == [before, ()]


def test_damaged_files_are_left_alone(state):
    entry = opened(ADDED, (), (), NOW)
    good = json.loads(entry.path.read_text())
    for number, damage in enumerate(
        ("", "{", "[]", json.dumps({**good, "added": "10.61.20.300/24"}), "null")
    ):
        (entry.path.parent / f"damaged-{number}.json").write_text(damage)
    assert matches.open_matches() == (entry,)
    assert len(list(entry.path.parent.iterdir())) == 6


@pytest.fixture
def zone(monkeypatch):
    def use(name):
        monkeypatch.setenv("TZ", name)
        time.tzset()

    yield use
    monkeypatch.delenv("TZ")
    time.tzset()


@pytest.mark.parametrize(
    ("at", "name"),
    [
        ("yesterday", "UTC"),
        (None, "UTC"),
        ("0001-01-01T00:00:00", "<-12>12"),
        ("9999-12-31T23:59:59+00:00", "<+12>-12"),
    ],
)
def test_an_entry_whose_time_cannot_be_told_has_the_time_of_its_file(state, zone, at, name):
    path = opened(ADDED).path
    path.write_text(json.dumps({**json.loads(path.read_text()), "at": at}))
    os.utime(path, (NOW.timestamp(), NOW.timestamp()))
    zone(name)
    assert [each.since for each in matches.open_matches()] == [Moment(NOW)]


def test_nothing_is_changed_when_it_cannot_be_written_down(state):
    state.write_text("a file where the folder should be")
    with pytest.raises(NotPossibleHere, match="nothing was changed"):
        opened(ADDED, (), (), NOW)


def test_a_file_is_replaced_whole_or_not_at_all(tmp_path, monkeypatch):
    path = tmp_path / "plan.csv"
    path.write_text("old")
    path.chmod(0o640)
    files.write_whole(path, b"new")
    assert (path.read_text(), path.stat().st_mode & 0o777) == ("new", 0o640)

    def fail(*_):
        raise OSError("disk full")

    monkeypatch.setattr(os, "replace", fail)
    with pytest.raises(OSError, match="disk full"):
        files.write_whole(path, b"newer")
    assert path.read_text() == "new"
    assert list(tmp_path.iterdir()) == [path]


SOMEBODY, STRANGER = 65534, 65533


@pytest.fixture
def callers_folder(monkeypatch):
    """The folder of a person who has called sudo, where that person and root can write."""
    if os.geteuid() != 0:
        pytest.skip("only root can be called by sudo")
    with TemporaryDirectory(dir="/tmp") as name:
        folder = Path(name)
        os.chown(folder, SOMEBODY, SOMEBODY)
        monkeypatch.setenv("SUDO_UID", str(SOMEBODY))
        monkeypatch.setenv("SUDO_GID", str(SOMEBODY))
        monkeypatch.setenv(matches.STATE_VARIABLE, str(folder / "state"))
        yield folder


def test_files_made_under_sudo_belong_to_the_caller(callers_folder, monkeypatch):
    entry = opened(ADDED)
    assert {p.stat().st_uid for p in (entry.path, entry.path.parent)} == {SOMEBODY}
    with files.open_to_append(callers_folder / "record") as record:
        record.write(b"half a line")
    with files.open_to_append(callers_folder / "record") as record:
        record.write(b"a line\n")
    assert (callers_folder / "record").read_text() == "half a line\na line\n"
    assert (callers_folder / "record").stat().st_uid == SOMEBODY
    # What only root could have made stays root's.
    assert os.geteuid() == 0
    monkeypatch.delenv(matches.STATE_VARIABLE)
    assert str(matches.state_folder()).endswith(".local/state/portcall")


def test_a_file_that_was_named_is_opened_with_the_callers_rights_wherever_it_is(
    callers_folder, tmp_path
):
    """The caller of sudo cannot read or write in ``tmp_path``, a folder of root's."""
    os.chmod(tmp_path, 0o700)
    (tmp_path / "secret.csv").write_text("name,address\nroot's,10.0.0.1\n")
    with pytest.raises(NotPossibleHere, match="cannot be read: Permission denied"):
        Site().read_plan(tmp_path / "secret.csv")
    with pytest.raises(NotPossibleHere, match="cannot be written: Permission denied"):
        CaptureFile(tmp_path / "frames.pcapng", "usb0")
    with pytest.raises(NotPossibleHere, match="Permission denied"):
        EchoLog(tmp_path / "night.csv", {})
    assert [each.name for each in tmp_path.iterdir()] == ["secret.csv"]
    with CaptureFile(callers_folder / "frames.pcapng", "usb0"):
        assert (callers_folder / "frames.pcapng").stat().st_uid == SOMEBODY


def test_a_site_of_somebody_else_is_refused_unless_it_is_named(tmp_path, monkeypatch):
    below = tmp_path / "drop" / "mine"
    below.mkdir(parents=True)
    planted = tmp_path / "drop" / "site.toml"
    planted.write_text('name = "Planted"\nlogbook = "postgresql://team@evil/x"\n')
    refusals = []
    os.chmod(tmp_path / "drop", 0o777)
    refusals.append("may be changed by everybody")
    if os.geteuid() == 0:
        os.chmod(tmp_path / "drop", 0o755)
        os.chown(planted, SOMEBODY, SOMEBODY)
        refusals.append("belongs to")
    for words in refusals[-1:]:
        with pytest.raises(BadInput, match=words) as refused:
            find_site(below)
        assert "PORTCALL_SITE=" in str(refused.value)
    monkeypatch.setenv("PORTCALL_SITE", str(tmp_path / "drop"))
    assert find_site(below).name == "Planted"
    monkeypatch.delenv("PORTCALL_SITE")
    os.chmod(tmp_path / "drop", 0o1777)
    with pytest.raises(BadInput, match="may be changed by everybody"):
        find_site(below)


def test_what_is_no_ordinary_file_is_refused_and_not_waited_for(tmp_path):
    os.mkfifo(tmp_path / "plan.csv")
    for read in (Site().read_plan, lambda path: list(read_capture(path)), read_echoes):
        with pytest.raises(BadInput, match="is a pipe or a device"):
            read(tmp_path / "plan.csv")
    with pytest.raises(BadInput, match="is a pipe or a device"):
        Site(tmp_path).plan()
    with open(tmp_path / "sparse.pcap", "wb") as file:
        file.write(struct.pack("<IHHiIII", 0xA1B2C3D4, 2, 4, 0, 0, 65535, 1))
        file.truncate(2 * 1024**3)
    with pytest.raises(BadInput, match="1000 frames of no octets"):
        list(read_capture(tmp_path / "sparse.pcap"))
    (tmp_path / "site.toml").write_text("pace = 1e-7\n")
    with pytest.raises(BadInput, match="1e-07: is 1 to 2000 packets a second"):
        find_site(tmp_path)


def test_what_match_has_open_is_found_again_whatever_umask_and_environment(tmp_path, monkeypatch):
    monkeypatch.delenv(matches.STATE_VARIABLE, raising=False)
    monkeypatch.setenv("HOME", str(tmp_path))
    before = os.umask(0o002)
    try:
        entry = opened(ADDED)
    finally:
        os.umask(before)
    assert entry.path.parent.stat().st_mode & 0o777 == 0o700
    # A folder that somebody chose for it keeps its mode.
    (tmp_path / "chosen").mkdir()
    os.chmod(tmp_path / "chosen", 0o777)
    files.make_private_folder(tmp_path / "chosen" / "open-matches")
    assert (tmp_path / "chosen").stat().st_mode & 0o777 == 0o777
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "elsewhere"))
    assert matches.open_matches() == (entry,)
    assert matches.set_aside() == ()
    # Version 1.0.0 wrote there, when nobody typed sudo.
    (tmp_path / "elsewhere" / "portcall").mkdir(parents=True, mode=0o700)
    entry.path.parent.rename(tmp_path / "elsewhere" / "portcall" / "open-matches")
    (found,) = matches.open_matches()
    assert found.added == ADDED
    matches.close(found)
    assert matches.open_matches() == ()


def test_no_link_of_the_callers_leads_root_where_the_caller_could_not_write(
    callers_folder, tmp_path
):
    """In a folder of the caller's, links to a folder and to a file of root's."""
    secret = tmp_path / "secret"
    secret.write_text("root's")
    (callers_folder / "state").symlink_to(tmp_path)
    (callers_folder / "catalog").symlink_to(tmp_path)
    (callers_folder / "record").symlink_to(secret)
    (callers_folder / "a.toml").write_text('[[ports]]\nport = 9100\nname = "feeder"\n')
    with pytest.raises(NotPossibleHere, match="nothing was changed"):
        opened(ADDED)
    with pytest.raises(NotPossibleHere, match="cannot be written"):
        add_catalog(callers_folder / "a.toml", callers_folder)
    with pytest.raises(OSError, match="ermission"):
        files.open_to_append(callers_folder / "record")
    with pytest.raises(OSError, match="ermission"):
        files.write_whole(callers_folder / "record", b"the caller's")
    assert secret.read_text() == "root's"
    assert {each.name for each in tmp_path.iterdir()} == {"secret"}
    assert {each.stat().st_uid for each in tmp_path.iterdir()} == {0}


def test_an_entry_is_believed_only_if_nobody_else_could_have_written_it(callers_folder):
    entry = opened(ADDED)
    for damage in (
        lambda path: os.chown(path, STRANGER, STRANGER),
        lambda path: path.chmod(0o646),
        lambda path: os.chown(path, SOMEBODY, STRANGER) or path.chmod(0o664),
        lambda path: path.parent.chmod(0o777),
    ):
        assert matches.open_matches() == (entry,)
        damage(entry.path)
        assert matches.open_matches() == ()
        (told,) = matches.set_aside()
        assert "somebody else could have written it, so it is not believed" in told
        entry.path.parent.chmod(0o755)
        os.chown(entry.path, SOMEBODY, SOMEBODY)
        entry.path.chmod(0o664)


def test_a_file_that_cannot_be_read_is_not_written_over(state):
    entry = opened(ADDED)
    entry.path.write_text("{")
    opened(ADDED)
    assert matches.open_matches() == (entry,)
    (told,) = matches.set_aside()
    assert Path(told.split(":")[0]).read_text() == "{"


def test_how_long_ago_something_was_is_not_told_by_a_clock_that_can_be_set():
    """The clock of this computer was set forward by hours, or back."""
    for hours in (-9, 9):
        entry = Moment.now().entry
        entry["at"] = (datetime.now(UTC) + timedelta(hours=hours)).isoformat()
        moment = read_moment(Part(entry))
        assert moment.is_certain
        assert 0 <= moment.elapsed < 5
    # After a restart that clock is all there is, and it does not run backwards.
    for hours, seconds in ((-9, 9 * 3600), (9, 0)):
        at = datetime.now(UTC) + timedelta(hours=hours)
        moment = read_moment(Part({"at": at.isoformat(), "boot": "another", "uptime": 5.0}))
        assert not moment.is_certain
        assert seconds <= moment.elapsed < seconds + 5


def test_a_lease_is_remembered_until_its_address_is_given_back(state):
    lease = matches.Lease(IPv4Address("10.61.20.1"), USB0, 600, Moment.now())
    entry = replace(opened(ADDED), lease=lease)
    matches.write_down(entry)
    assert [each.lease for each in matches.open_matches()] == [lease]
    assert 595 < lease.seconds_left <= 600
    damaged = json.loads(entry.path.read_text())
    damaged["lease"]["server"] = "somewhere"
    entry.path.write_text(json.dumps(damaged))
    assert [each.lease for each in matches.open_matches()] == [None]


def test_two_commands_that_change_the_plan_at_once_lose_neither_change(tmp_path):
    rows = "".join(f"fan-{n},10.61.20.{n},\n" for n in range(1, 21))
    (tmp_path / "plan.csv").write_text("name,address,mac\n" + rows)
    program = (
        "import sys; from pathlib import Path; from portcall.core.address import parse_mac\n"
        "from portcall.site.folder import find_site\n"
        "site = find_site(Path(sys.argv[1]))\n"
        "for n in range(int(sys.argv[2]), 21, 2):\n"
        "    site.adopt(f'fan-{n}', parse_mac(f'02-00-00-00-00-{n:02}'), site.plan().devices)\n"
    )
    both = [
        subprocess.Popen([sys.executable, "-c", program, str(tmp_path), first])
        for first in ("1", "2")
    ]
    assert [each.wait(60) for each in both] == [0, 0]
    macs = [str(row.mac)[-2:] for row in find_site(tmp_path).plan()]
    assert macs == [f"{n:02}" for n in range(1, 21)]


def test_who_has_a_turn_is_named_and_its_end_ends_it(state):
    program = (
        "import sys, time; from portcall.site.turns import turn\n"
        "with turn('assign-usb0', ''): print('has it', flush=True); time.sleep(60)\n"
    )
    with subprocess.Popen(
        [sys.executable, "-c", program, "--for", "9"], stdout=subprocess.PIPE, text=True
    ) as other:
        assert other.stdout.readline() == "has it\n"
        expected = rf"portcall --for 9 \(process {other.pid}\) is assigning; wait"
        with pytest.raises(NotPossibleHere, match=expected), turn("assign-usb0", "is assigning"):
            pass
        with turn("assign-lan0", "is assigning"):
            pass
        other.kill()
    with turn("assign-usb0", "is assigning", patience=10):
        pass


def test_nobody_is_stopped_by_a_lock_that_cannot_be_had(state):
    state.write_text("no folder")
    with turn("assign-usb0", "is assigning"):
        state.unlink()
    assert not state.exists()


def test_a_log_of_echoes_is_read_as_far_as_it_makes_sense(tmp_path):
    path = tmp_path / "night.csv"
    log = EchoLog(path, {IPv4Address("10.61.20.10"): "=dryer"})
    at = datetime(2026, 11, 26, 22, tzinfo=UTC)
    target = IPv4Address("10.61.20.10")
    log.note(Replied(target, 1, 0.0015, 64, 0.0, 76), at)
    log.note(Unanswered(Endpoint(target, 502), 1, "refused"), at)
    log.flush()
    log.close()
    log = EchoLog(path, {})
    log.note(Replied(target, 2, 0.002, None, 0.0, 76), at)
    log.flush()
    log.close()
    good = "2026-11-26T22:00:00Z,10.61.20.10,,x,{},64,{},answered"
    odd = [good.format(ms, 76) for ms in ("nan", "inf", "-1", "", "1e99")]
    odd += [good.format(1, octets) for octets in ("-5", "9" * 900)]
    odd += [good.format(1, 76).replace("2026", year) for year in ("0001", "9999")]
    odd += ['2026-11-26T22:00:00Z,"', "x" * 5000, "\0", good.format(1, 76)[:30]]
    with open(path, "a") as file:
        file.write("\n".join(odd) + "\n" + good.format(3, 76) + "\n")
    names, facts = read_echoes(path)
    assert [getattr(fact, "seconds", fact[2]) for fact in facts] == [
        0.0015,
        "refused",
        0.002,
        0.003,
    ]
    assert facts[1].target == Endpoint(target, 502)
    assert "'=dryer" in path.read_text()
    assert names == {target: "x"}
