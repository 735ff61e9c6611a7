"""Checksums that the kernel left to hardware which a virtual link does not have."""

from ipaddress import IPv4Address

import pytest
from hypothesis import given
from hypothesis import strategies as st

from portcall.core.address import BROADCAST
from portcall.core.wire import udp
from portcall.core.wire.octets import Malformed
from portcall.host.link import _close_checksum


def test_a_datagram_whose_checksum_was_left_open_can_be_read_once_it_is_closed():
    datagram = udp.UdpDatagram(68, 67, b"asking")
    frame = udp.UdpFrame(BROADCAST, BROADCAST, IPv4Address(1), IPv4Address(2), datagram)
    data = bytearray(udp.encode_frame(frame))
    data[40:42] = b"\x12\x34"
    with pytest.raises(Malformed):
        udp.parse_frame(bytes(data))
    assert udp.parse_frame(_close_checksum(bytes(data))) == frame


@given(st.binary(max_size=80))
def test_other_frames_pass_as_they_are(data):
    closed = _close_checksum(data)
    assert len(closed) == len(data)
    if data[12:14] != b"\x08\x00":
        assert closed == data
