"""The link on the loopback adapter, and checksums that were left to hardware which is not there."""

import threading
import time
from contextlib import closing, suppress
from ipaddress import IPv4Address

import pytest
from hypothesis import given
from hypothesis import strategies as st

from portcall.core.address import BROADCAST, Mac
from portcall.core.talk.conversation import Frame
from portcall.core.wire import arp, udp
from portcall.core.wire.octets import Malformed
from portcall.host.filters import ADDRESSING
from portcall.host.link import Link
from portcall.host.linux.checksum import close_checksum
from portcall.host.medium import MOST_AT_ONCE
from portcall.host.neighbours import fixed_neighbours, known_neighbours
from portcall.host.recorder import Recorder

MAC = Mac(b"\2\x60\xd1\0\x5e\1")
OURS = bytes(12) + b"\x88\xb5"
"""The start of frames with an EtherType for experiments (IEEE 802, clause 9.2.4)."""


def ours(link):
    """What there is of them, in the order it came."""
    return [(frame.data, at) for frame, at in link.receive() if frame.data[12:14] == OURS[12:]]


def test_frames_arrive_whole_in_order_and_some_at_a_time():
    sent = [OURS + number.to_bytes(2, "big") * (number + 1) for number in range(MOST_AT_ONCE + 40)]
    with closing(Link("lo")) as link:
        for data in sent:
            link.send(Frame(data))
        first = ours(link)
        assert 0 < len(first) <= MOST_AT_ONCE
        rest = ours(link)
        assert [data for data, _ in first + rest] == sent
        assert ours(link) == []


def test_a_link_that_is_closed_while_it_is_read_reads_nothing_else():
    link = Link("lo")
    for _ in range(MOST_AT_ONCE):
        link.send(Frame(OURS + bytes(50)))
    frames = link.receive()
    next(frames)
    link.close()
    # The next socket has the number that the link's had.
    with closing(Link("lo")) as other:
        other.send(Frame(OURS + b"for the other"))
        assert not any(b"for the other" in frame.data for frame, _ in frames)
        assert len(ours(other)) == 1


def test_a_frame_has_the_time_of_its_arrival_not_of_its_reading():
    with closing(Link("lo")) as link:
        # The kernel starts to stamp a moment after the first socket wants it.
        time.sleep(0.2)
        sent = []
        for _ in range(2):
            before = time.monotonic()
            link.send(Frame(OURS + bytes(50)))
            sent.append((before, time.monotonic()))
            time.sleep(0.05)
        times = [at for _, at in ours(link)]
    slack = 0.005
    assert len(times) == 2
    for at, (before, after) in zip(times, sent, strict=True):
        assert before - slack <= at <= after + slack


def test_a_datagram_whose_checksum_was_left_open_can_be_read_once_it_is_closed():
    datagram = udp.UdpDatagram(68, 67, b"asking")
    frame = udp.UdpFrame(BROADCAST, BROADCAST, IPv4Address(1), IPv4Address(2), datagram)
    data = bytearray(udp.encode_frame(frame))
    data[40:42] = b"\x12\x34"
    with pytest.raises(Malformed):
        udp.parse_frame(bytes(data))
    assert udp.parse_frame(close_checksum(bytes(data))) == frame


@given(st.binary(max_size=80))
def test_other_frames_pass_as_they_are(data):
    closed = close_checksum(data)
    assert len(closed) == len(data)
    if data[12:14] != b"\x08\x00":
        assert closed == data


def arp_frame(operation, sender, target):
    said = arp.Arp(operation, MAC, IPv4Address(sender), MAC, IPv4Address(target))
    return BROADCAST + MAC + b"\x08\x06" + arp.encode(said).ljust(46, b"\0")


def to_port(port):
    datagram = udp.UdpDatagram(4000, port, b"x")
    return udp.encode_frame(
        udp.UdpFrame(MAC, BROADCAST, IPv4Address(5), IPv4Address("255.255.255.255"), datagram)
    )


def test_a_storm_of_questions_does_not_wake_an_address_server():
    """The kernel passes what tells who has an address, and who asks for one."""
    request, reply = arp.Operation.REQUEST, arp.Operation.REPLY
    heard = [
        arp_frame(reply, "10.61.20.5", "10.61.20.6"),
        arp_frame(request, "10.61.20.5", "10.61.20.5"),
        to_port(67),
        to_port(68),
    ]
    unheard = [arp_frame(request, "10.61.20.5", "10.61.20.6"), to_port(69), OURS + bytes(46)]
    with closing(Link("lo", ADDRESSING)) as link, closing(Link("lo")) as sender:
        for data in (*unheard, *heard, *unheard):
            sender.send(Frame(data))
        got = [frame.data for frame, _ in link.receive() if frame.data[6:12] == MAC]
    assert got == heard


def test_a_recording_ends_under_a_flood():
    written, ended = [], threading.Event()

    def flood():
        with closing(Link("lo")) as link:
            while not ended.is_set():
                with suppress(OSError):
                    link.send(Frame(OURS + bytes(50)))

    def write(data, nanoseconds, outgoing):
        written.append(len(data))
        time.sleep(0.0001)  # Slower than the flood: the socket is never empty.

    thread = threading.Thread(target=flood, daemon=True)
    recorder = Recorder("lo", write)
    thread.start()
    try:
        while len(written) < 500:
            time.sleep(0.01)
        closing_thread = threading.Thread(target=recorder.close, daemon=True)
        closing_thread.start()
        closing_thread.join(40)
        assert not closing_thread.is_alive()
    finally:
        ended.set()
        thread.join(5)


def test_an_adapter_that_is_gone_has_no_neighbours():
    assert known_neighbours("usb9") == fixed_neighbours("usb9") == {}
