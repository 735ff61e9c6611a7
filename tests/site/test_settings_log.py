"""The record of what was set in devices, and visits whose command was killed."""

import json
import os
import resource
import signal
import subprocess
import sys
from dataclasses import replace
from ipaddress import IPv4Address, IPv4Interface

import pytest

from portcall.core.address import UNSPECIFIED, Mac
from portcall.core.setting.had import Had
from portcall.core.trouble import NotPossibleHere
from portcall.core.wire.cip_tcpip import Control, InterfaceConfiguration
from portcall.site import matches
from portcall.site.logbook.settings import SettingsLog
from portcall.site.moment import Moment

PIER, SHORE = Mac(b"\x02\xd0\x11\x5c\x10\x21"), Mac(b"\x02\xd0\x11\x5c\x10\x22")
GOAL = IPv4Address("10.61.20.51")
MASK = IPv4Address("255.255.255.0")


def test_what_is_done_is_read_back_whatever_else_stands_there(tmp_path):
    log = SettingsLog(tmp_path)
    assert log.done() == {}
    log.write("before", "pier-radio", PIER, address=GOAL, by="DCP", settings="203.0.113.47/24")
    assert log.done() == {}
    log.write("done", "Pier-Radio", PIER, address=GOAL, by="DCP", settings="10.61.20.51/24")
    with open(log.path, "ab") as file:
        file.write(
            b'[]\n{"step": "done"}\n{"step": "done", "name": "x", "mac": "?", "address": 1}\n'
        )
        file.write(b'\xff{"at": "2026-11-2')
    log.write("done", "shore-radio", SHORE, address="10.61.20.52")
    assert log.done() == {
        ("pier-radio", GOAL): PIER,
        ("shore-radio", IPv4Address("10.61.20.52")): SHORE,
    }
    first = json.loads(log.path.read_text(errors="replace").splitlines()[0])
    configuration = InterfaceConfiguration(GOAL, MASK, *[UNSPECIFIED] * 3)
    asked = Had("CIP", "10.61.20.51/24 by DHCP", configuration, None, Control.DHCP)
    log.write_before("belt-drive", SHORE, GOAL, asked)
    log.write_before("belt-drive", SHORE, GOAL, replace(asked, control=Control.STORED))
    assert (log.before_keeping(SHORE), log.before_keeping(PIER)) == (asked, None)
    assert (first["step"], first["settings"], first["by"]) == ("before", "203.0.113.47/24", "DCP")


def test_what_cannot_be_written_down_is_not_done(tmp_path):
    (tmp_path / "settings.jsonl").mkdir()
    with pytest.raises(NotPossibleHere, match="is written down first, and cannot be"):
        SettingsLog(tmp_path).write("before", "pier-radio", PIER)


def test_a_line_that_is_written_in_part_only_is_not_written_down(tmp_path):
    log = SettingsLog(tmp_path)
    log.write("done", "pier-radio", PIER, address=GOAL)
    _, most = resource.getrlimit(resource.RLIMIT_FSIZE)
    before = signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
    resource.setrlimit(resource.RLIMIT_FSIZE, (log.path.stat().st_size + 20, most))
    try:
        with pytest.raises(NotPossibleHere, match="cannot be: File too large"):
            log.write("done", "shore-radio", SHORE, address=GOAL)
    finally:
        resource.setrlimit(resource.RLIMIT_FSIZE, (most, most))
        signal.signal(signal.SIGXFSZ, before)
    log.write("done", "belt-drive", SHORE, address="10.61.20.52")
    assert [name for name, _ in log.done()] == ["pier-radio", "belt-drive"]


def test_a_visit_is_forgotten_when_its_process_is_gone(tmp_path, monkeypatch):
    monkeypatch.setenv(matches.STATE_VARIABLE, str(tmp_path))
    note = (
        "from portcall.site.moment import Moment; from ipaddress import IPv4Interface\n"
        "from portcall.core.address import parse_mac; from portcall.site import matches\n"
        "mac, own = parse_mac('02-1A-40-7C-00-06'), IPv4Interface('203.0.113.39/24')\n"
        "now, me = Moment.now(), matches.this_process()\n"
        "matches.write_down(matches.OpenMatch('usb0', mac, own, (), (), now, me))\n"
    )
    subprocess.run([sys.executable, "-c", note], check=True)
    now = Moment.now()
    for address, visiting in (("10.61.20.200/24", False), ("10.61.20.201/24", True)):
        interface = IPv4Interface(address)
        visitor = matches.this_process() if visiting else None
        matches.write_down(matches.OpenMatch("usb0", PIER, interface, (), (), now, visitor))
    forgotten = [str(entry.added) for entry in matches.open_matches() if entry.is_forgotten]
    assert forgotten == ["203.0.113.39/24"]
    # The number of a process comes again; when it started does not.
    (mine,) = [
        entry for entry in matches.open_matches() if entry.visitor and not entry.is_forgotten
    ]
    text = mine.path.read_text().replace(f'"{os.getpid()} ', f'"{os.getpid()} 1')
    mine.path.write_text(text)
    assert sum(entry.is_forgotten for entry in matches.open_matches()) == 2
    mine.path.write_text(text.replace('"visitor": "', '"visitor": "x '))
    # What is no process is nobody's to put back but a person's.
    assert [each.visitor for each in matches.open_matches() if each.added == mine.added] == [None]
