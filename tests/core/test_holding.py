"""What becomes of a visit's addresses: pulled out, taken off, restored, with a lease that ended."""

from __future__ import annotations

from dataclasses import replace
from ipaddress import IPv4Address, IPv4Interface

import pytest
from drive import Wire
from hypothesis import given
from hypothesis import strategies as st

from portcall.core.adapters.adapter import Adapter, AdapterAddress, AdapterKind, Origin
from portcall.core.adapters.holding import Happened, Holding
from portcall.core.address import BROADCAST, UNSPECIFIED, Mac
from portcall.core.setting.whereabouts import At, Left, Whereabouts
from portcall.core.talk.conversation import Frame
from portcall.core.wire import arp

OWN = IPv4Interface("192.168.1.248/24")
USB = Adapter("usb0", 4, AdapterKind.WIRED, Mac(b"\x02\x1a\x40\x7c\x00\x06"), True, True, 1500)
WITH = replace(USB, addresses=(AdapterAddress(OWN, Origin.MATCHED),))
LAN = replace(USB, name="lan0", index=3, mac=Mac(b"\x02\x1a\x40\x7c\x00\x05"))
HERE, BARE, OUT = (LAN, WITH), (LAN, USB), (LAN,)
NO_LINK = (LAN, replace(WITH, link=False))
RENAMED = (LAN, replace(USB, name="usb7", index=9))


def seen(held, looks):
    """The changes, when each state of the adapters lasts two seconds and is looked at twice."""
    times = [(time, adapters) for n, adapters in enumerate(looks) for time in (2 * n, 2 * n + 1)]
    return [each for time, adapters in times for each in held.look(adapters, [OWN], time)]


def holding():
    made = Holding(WITH)
    made.hold(OWN)
    return made


@pytest.mark.parametrize(
    ("looks", "happened"),
    [
        ((HERE, HERE), []),
        ((BARE, HERE, BARE, HERE, BARE), ["TAKEN_OFF", "TAKEN_OFF_AGAIN"]),
        ((NO_LINK, NO_LINK, HERE), ["LINK_LOST", "LINK_BACK"]),
        (
            (OUT, OUT, RENAMED, RENAMED, (LAN, replace(WITH, name="usb7", index=9)), RENAMED),
            [
                *("ADAPTER_GONE", "ADAPTER_BACK", "LINK_BACK", "WENT_WITH_ADAPTER"),
                # Between the two looks nobody put it on: that it is not there is not somebody's
                # second time.
                *("TAKEN_OFF", "TAKEN_OFF_AGAIN"),
            ],
        ),
    ],
)
def test_what_went_with_the_adapter_is_nobodys_doing_and_what_is_taken_off_twice_stays_off(
    looks, happened
):
    held = holding()
    told = [each.what.name for each in seen(held, looks)]
    assert told == happened
    assert held.name == ("usb7" if looks[-1] == RENAMED else "usb0")


def test_restore_and_the_end_of_a_lease_are_told_from_a_stranger():
    held = holding()
    assert not held.look(BARE, [OWN], 0.0)
    (change,) = held.look(BARE, [], 0.1)
    assert change.what is Happened.RESTORED
    for written, ended, what in (
        ([], [], Happened.RESTORED),
        ([OWN], [OWN], Happened.LEASE_ENDED),
        ([OWN], [], Happened.TAKEN_OFF),
    ):
        held = holding()
        first = held.look(BARE, written, 0.0, ended)
        # Who restores has it out of the record a moment later.
        assert bool(first) is (what is not Happened.TAKEN_OFF)
        (change,) = first or held.look(BARE, written, 1.0, ended)
        assert (change.what, change.interface) == (what, OWN)
        assert held.held == ([OWN] if what is Happened.TAKEN_OFF else [])


def test_a_link_that_was_lost_between_two_looks_is_told_all_the_same():
    held = holding()
    held.lost_link()
    assert [each.what for each in held.look(HERE, [OWN], 0.0)] == [
        Happened.LINK_LOST,
        Happened.LINK_BACK,
    ]


@given(st.lists(st.sampled_from((HERE, BARE, OUT, NO_LINK, RENAMED)), max_size=30))
def test_whatever_happens_an_address_is_put_on_once_and_let_go_of_once(looks):
    held = holding()
    told = [each.what for each in seen(held, looks)]
    assert told.count(Happened.TAKEN_OFF) <= 1
    assert told.count(Happened.TAKEN_OFF_AGAIN) <= 1
    assert (OWN in held.held) is (Happened.TAKEN_OFF_AGAIN not in told)
    gone, back = told.count(Happened.ADAPTER_GONE), told.count(Happened.ADAPTER_BACK)
    assert gone - back in (0, 1)
    lost, again = told.count(Happened.LINK_LOST), told.count(Happened.LINK_BACK)
    assert again <= gone + lost


# Keeping company with the device.

DEVICE = Mac(b"\x02\x5a\x1d\x00\x00\x01")
OLD, NEW = IPv4Address("192.168.1.1"), IPv4Address("10.61.20.21")


class Answers:
    """The device: it answers for its addresses, to whom it was asked by alone."""

    def __init__(self, wire, *addresses):
        self.wire, self.addresses = wire, set(addresses)
        self.asked = []
        self.wake_at = None
        self.over = False

    def begin(self, now):
        return ()

    def heard(self, packet, now):
        said = arp.parse_frame(packet.data)
        if said.operation is arp.Operation.REQUEST:
            self.asked.append((packet.data[:6], said.target_address, now))
            if said.target_address in self.addresses:
                self.wire.say(says(said.target_address))
        return ()


def says(address):
    answer = arp.Arp(arp.Operation.REPLY, DEVICE, address, USB.mac, UNSPECIFIED)
    head = USB.mac.octets + DEVICE.octets + b"\x08\x06"
    return Frame(head + arp.encode(answer))


def test_a_device_that_is_accompanied_is_asked_alone_seldom_and_found_where_it_went():
    wire = Wire()
    device = Answers(wire, OLD)
    wire.join(device)
    others = [IPv4Address(f"10.61.20.{n}") for n in range(1, 60)]
    beside = wire.join(Whereabouts(USB.mac, DEVICE, (OLD,), others, accompanied=True))
    wire.pass_time(20)
    assert all(to == DEVICE.octets != BROADCAST.octets for to, _, _ in device.asked)
    assert {address for _, address, at in device.asked if at > 2} == {OLD}
    assert 18 <= sum(at > 2 for _, _, at in device.asked) <= 22
    device.addresses = {NEW}
    wire.pass_time(6)
    assert beside.facts[0] == At(OLD, beside.facts[0].since)
    assert [type(each) for each in beside.facts[1:]] == [Left, At]
    assert beside.facts[-1].address == NEW
