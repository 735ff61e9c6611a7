"""Setting a device over a real connection on loopback, where it is sound and where it is not."""

import asyncio
import os
import socket
import threading
from contextlib import closing, contextmanager
from dataclasses import replace
from ipaddress import IPv4Address, IPv4Interface

import pytest

from portcall.core.address import Mac
from portcall.core.finding import Name
from portcall.core.setting.job import Job
from portcall.core.wire import cip, cip_message, cip_tcpip
from portcall.core.wire.cip_tcpip import Control
from portcall.jobs.setting.keep_one import keep_by_cip, own_interface, release_by_cip
from portcall.jobs.setting.move_one import compared
from portcall.plant.cip_device import cip_reply
from portcall.plant.memory import Memory
from portcall.plant.scenario import Asks, DeviceEntry, Nameplate, Setting, Speaks

pytestmark = pytest.mark.skipif(os.geteuid() != 0, reason="binding to an adapter needs root")

THERE = IPv4Interface("127.0.61.20/8")
MAC = Mac(b"\x02\x77\xb1\x4c\x09\x21")
JOB = Job(Name("fan-drive-1"), MAC, THERE, host_name="fan-drive-1")


def memory(**differs):
    plate = Nameplate("Gale 7", 0x77B10921, 64102, 2, 704, 5, 2)
    entry = DeviceEntry("fan", "drive", "plant", MAC, plate, None, None, Asks.BOOTP, 2, "gale7", 1)
    entry = replace(entry, speaks=(Speaks.CIP,), **differs)
    made = Memory(entry, lambda: None, lambda: None)
    made.interface = THERE
    return made


@contextmanager
def device(held, mangle=lambda reply: reply):
    """A device at THERE; ``mangle`` makes of its answers what it likes, None closes."""
    listening = socket.create_server((str(THERE.ip), cip.PORT))

    def talk(connection):
        with closing(connection):
            while request := connection.recv(4096):
                reply = cip_reply(held, request)
                reply = None if reply is None else mangle(reply)
                if reply is None:
                    return
                connection.sendall(reply)

    def serve():
        while True:
            try:
                connection, _ = listening.accept()
            except OSError:
                return
            with connection:
                try:
                    talk(connection)
                except OSError:
                    continue

    thread = threading.Thread(target=serve, daemon=True)
    thread.start()
    try:
        yield
    finally:
        listening.shutdown(socket.SHUT_RDWR)
        listening.close()
        thread.join(5)


def keep(job=JOB):
    remembered = []
    outcome = asyncio.run(keep_by_cip("lo", job, lambda *what: remembered.append(what)))
    return outcome, remembered


def test_a_device_is_kept_named_and_given_back_and_doing_it_again_does_nothing():
    held = memory()
    with device(held):
        outcome, remembered = keep()
        assert (outcome.done, outcome.by) == (True, "CIP")
        assert outcome.before == "127.0.61.20/8 by BOOTP"
        assert outcome.after == "127.0.61.20/8 stored in the device"
        assert list(map(str, outcome.findings)) == ["the host name fan-drive-1 set"]
        ((had,),) = remembered
        assert (had.by, had.settings, had.name, had.asks) == (
            "CIP",
            "127.0.61.20/8 by BOOTP",
            "gale7",
            True,
        )
        assert (held.asks, held.stored, held.host_name) == (None, THERE, "fan-drive-1")
        again, remembered = keep()
        assert (again.done, again.findings, remembered) == (True, (), [])
        assert asyncio.run(own_interface("lo", MAC, THERE.ip)) == THERE
        asked = replace(had, control=Control.DHCP)
        back = asyncio.run(release_by_cip("lo", JOB, lambda *what: None, asked))
        assert (back.done, back.asks, held.asks) == (True, True, Asks.DHCP)
        # At another address than its own settings say, it is not kept there.
        elsewhere, _ = keep(replace(JOB, interface=IPv4Interface("127.0.61.20/24")))
        assert not elsewhere.done
        assert "its own settings say 127.0.61.20/8" in str(elsewhere.findings[0])


@pytest.mark.parametrize(
    ("differs", "words"),
    [
        ({"setting": Setting.REFUSES}, "attribute not settable (CIP general status 0x0e)"),
        ({"setting": Setting.IGNORES}, "it said yes to the address it has as its own, and did not"),
        ({"setting": Setting.DROPS}, "the connection ended before it answered to setting the"),
        ({"in_run": True}, "nothing is changed: an I/O connection of it is in run mode"),
    ],
)
def test_what_it_does_instead_is_said_and_nothing_is_claimed(differs, words):
    held = memory(**differs)
    with device(held):
        outcome, _ = keep()
    assert not outcome.done
    assert any(words in str(finding) for finding in outcome.findings), outcome.findings
    assert held.asks is Asks.BOOTP


def test_nobody_there_is_none_and_force_is_for_those_in_run():
    assert keep()[0] is None
    with device(memory(in_run=True)):
        assert keep(replace(JOB, force=True))[0].done


def lies(reply):
    return reply[:2] + b"\xff\x7f" + reply[4:]


def another(reply):
    """The answer to another service, status fine."""
    message = cip.parse(reply)
    if message.command != cip_message.SEND_RR_DATA:
        return reply
    wrong = cip_message.encode_response(cip_message.Response(0x4B, 0, b""))
    return cip_message.encode_unconnected(message.session, wrong)


def short(reply):
    """A configuration that ends in the middle of an address."""
    message = cip.parse(reply)
    if message.command != cip_message.SEND_RR_DATA:
        return reply
    cut = cip_message.encode_response(cip_message.Response(0x0E, 0, b"\x14\x3d\x0a"))
    return cip_message.encode_unconnected(message.session, cut)


@pytest.mark.parametrize(
    "mangle",
    [
        lambda reply: None,
        lambda reply: b"HTTP/1.1 400 Bad Request\r\n\r\n" + bytes(64),
        lambda reply: reply[:-1],
        lambda reply: bytes(70_000),
        lies,
        another,
        short,
    ],
)
def test_a_device_that_talks_nonsense_is_left_as_it_is(mangle):
    held = memory()
    with device(held, mangle):
        outcome, remembered = keep()
    assert not outcome.done
    assert list(map(str, outcome.findings)) == ["it does not tell how its address is set"]
    assert (held.asks, held.host_name, remembered) == (Asks.BOOTP, "gale7", [])


def test_a_mask_that_is_none_and_a_way_that_has_no_name_are_no_traceback():
    def odd(reply):
        message = cip.parse(reply)
        if message.command != cip_message.SEND_RR_DATA:
            return reply
        response = cip_message.parse_response(cip_message.parse_unconnected(message))
        if len(response.data) < 20:
            return reply
        configuration = cip_tcpip.parse_configuration(response.data)
        configuration = configuration._replace(mask=IPv4Address("255.0.255.0"))
        data = cip_tcpip.encode_configuration(configuration)
        answer = cip_message.encode_response(response._replace(data=data))
        return cip_message.encode_unconnected(message.session, answer, message.context)

    with device(memory(), odd):
        outcome, _ = keep()
    assert not outcome.done
    (finding,) = outcome.findings
    assert "its own settings say 127.0.61.20 by BOOTP, not 127.0.61.20/8" in str(finding)


def test_of_two_interfaces_the_one_that_was_reached_is_set_and_no_other():
    other = IPv4Interface("192.0.2.1/24")
    held = memory(other_port=other)
    with device(held):
        outcome, ((had,),) = keep()
        assert outcome.done, outcome
        assert (had.interface, held.stored, held.other_port) == (THERE, THERE, other)
        # When none of them has the address it was reached at, nobody knows which is meant.
        held.asks, held.interface = Asks.BOOTP, IPv4Interface("127.0.61.99/8")
        outcome, remembered = keep()
    assert (outcome.done, remembered, held.asks) == (False, [], Asks.BOOTP)
    assert "has this address, but 192.0.2.1, 127.0.61.99" in str(outcome.findings[0])


def test_a_device_that_does_not_say_who_it_is_is_not_called_another():
    before = cip.Identity(THERE.ip, cip.PORT, 704, 2, 64102, 5, 2, 0, 0x77B10921, b"Gale 7", 3)
    codes = [
        finding and finding.code
        for finding in (
            compared(before, before),
            compared(before, before._replace(serial=1)),
            compared(before, None),
            compared(None, before),
        )
    ]
    assert codes == ["same-device", "not-the-same", "same-mac-mute", None]
