"""The record of what was given: readable after anything, lent addresses out of it."""

import json
import resource
import signal
from ipaddress import IPv4Address

import pytest

from portcall.core.address import Mac
from portcall.core.assign.event import Event, EventKind
from portcall.core.talk.request import AddressProtocol
from portcall.site.logbook.assigned import FILE, AssignedLog

FAN = Mac(b"\x02\x77\xb1\x4c\x09\x21")
ADDRESS = IPv4Address("10.61.20.100")


def given(kind=EventKind.ASSIGNED, mac=FAN, name=None, address=ADDRESS):
    return Event(kind, mac, AddressProtocol.DHCP, address, name)


def test_what_was_given_is_one_line_of_json_an_event(tmp_path):
    record = AssignedLog(tmp_path)
    record.write(given(name='fan "1" é'))
    record.write(given(EventKind.ASKED))
    record.write(given(EventKind.ANSWERING, name="fan"))
    record.flush()
    lines = [json.loads(line) for line in (tmp_path / FILE).read_text().splitlines()]
    assert [(line["event"], line["name"]) for line in lines] == [
        ("assigned", 'fan "1" é'),
        ("answering", "fan"),
    ]
    assert lines[0].keys() == {
        "at",
        "event",
        "mac",
        "protocol",
        "address",
        "name",
        "who",
        "adapter",
        "n",
        "before",
        "boot",
        "uptime",
    }
    assert (lines[0]["mac"], lines[0]["address"]) == (str(FAN), str(ADDRESS))
    record.close()


def test_what_is_lent_is_known_to_the_next_one_unless_its_time_is_over(tmp_path):
    record = AssignedLog(tmp_path)
    record.write(given(), 300)
    other = Mac(b"\x02\x60\xd1\0\0\1")
    record.write(given(mac=other, address=IPv4Address("10.61.20.101")), 0)
    record.write(given(mac=other, address=IPv4Address("10.61.20.102")), 300)
    # Not closed, as after a kill; and its last line half written.
    with open(tmp_path / FILE, "ab") as file:
        file.write(b'{"at": "2026-11-23T12:00:00", "until": "2026')
    after = AssignedLog(tmp_path).still_lent()
    assert [(mac, str(address)) for mac, address, _ in after] == [
        (FAN, "10.61.20.100"),
        (other, "10.61.20.102"),
    ]
    third = AssignedLog(tmp_path)
    third.write(given(mac=other, address=IPv4Address("10.61.20.103")), 300)
    assert len(third.still_lent()) == 3
    assert all(290 < left <= 300 for _, _, left in after)
    (tmp_path / FILE).write_bytes(b'{"until": 7, "mac": []}\n\xff"until"\n[]"until"\n')
    assert AssignedLog(tmp_path).still_lent() == ()


def test_what_the_disk_takes_in_part_only_is_not_lost_and_not_there_in_part(tmp_path):
    record = AssignedLog(tmp_path)
    record.write(given(), 300)
    _, most = resource.getrlimit(resource.RLIMIT_FSIZE)
    before = signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
    size = (tmp_path / FILE).stat().st_size
    resource.setrlimit(resource.RLIMIT_FSIZE, (size + 20, most))
    record.write(given(address=IPv4Address("10.61.20.101"), name="fan"))
    try:
        # What cannot be written is not given.
        with pytest.raises(OSError, match="File too large"):
            record.write(given(address=IPv4Address("10.61.20.102")), 300)
        assert (tmp_path / FILE).stat().st_size == size
    finally:
        resource.setrlimit(resource.RLIMIT_FSIZE, (most, most))
        signal.signal(signal.SIGXFSZ, before)
    record.close()
    lines = [json.loads(line)["address"] for line in (tmp_path / FILE).read_text().splitlines()]
    assert lines == ["10.61.20.100", "10.61.20.101", "10.61.20.102"]
