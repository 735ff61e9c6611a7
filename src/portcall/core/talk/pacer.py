"""The pacers: between the conversations and the wire. Plants are fragile.

What hurts a plant is what everybody has to read, and load on one old device; not the sum of packets
through a switch. So a pace has three parts.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Hashable
from dataclasses import dataclass
from math import ceil, inf

IN_ALL = 1000.0
"""Packets a second: a hundredth of what the slowest link of a plant carries."""

TO_ALL = 100.0
"""Broadcasts and multicasts a second: a sweep of a /24 takes two and a half seconds."""

TO_ONE = 20.0
"""Packets a second to any one device."""

HIGHEST_PACE = 2000.0
"""A faster pace makes old devices drop packets that are meant for them."""

BURST_SECONDS = 0.06
_LARGEST_BURST = 12
"""How many packets may leave back to back:

as many as the pace has in this time, but never more than this number. Each burst wakes the computer
once, which costs more than the packets do.
"""

_KEPT_BACK = 0.1
"""The share of the pace that is held back:

a burst, and kernel replies that are counted only after they have left, would otherwise exceed the
pace in the busiest second.
"""


@dataclass(frozen=True, slots=True)
class Pace:
    """Packets a second: in all, to everybody at once (broadcast, multicast), to one device."""

    in_all: float = IN_ALL
    to_all: float = TO_ALL
    to_one: float = TO_ONE


def sustained(pace: float) -> float:
    """The rate at which no second has more than ``pace`` packets on the wire, bursts included."""
    return pace * (1 - _KEPT_BACK)


class Pacer:
    """Allows ``rate`` packets a second, and at most ``burst`` of them back to back.

    Without ``burst``, as many may leave back to back as the rate has in ``burst_seconds``.
    """

    def __init__(
        self,
        rate: float = IN_ALL,
        burst: int | None = None,
        burst_seconds: float = BURST_SECONDS,
    ) -> None:
        if burst is None:
            burst = max(1, min(_LARGEST_BURST, int(rate * burst_seconds)))
        if rate <= 0 or burst < 1:
            raise ValueError("a pace is above 0 packets a second, a burst at least 1")
        self._gap = 1.0 / rate
        self._slack = (burst - 1) * self._gap
        self._worth_it = max(0, burst - 2) * self._gap
        # The bucket is kept as one number: the time when it will be full again. Each packet moves
        # that on by one gap.
        self._full_at = float("-inf")

    def ready_at(self, now: float) -> float:
        """The time, now or later, from which the next packet may leave."""
        return max(now, self._full_at - self._slack)

    def worth_waking_at(self, now: float) -> float:
        """The time from which nearly a whole burst may leave.

        Waking the computer for each packet would cost more than sending it.
        """
        return self.ready_at(now) + self._worth_it

    def spend(self, now: float) -> None:
        """A packet left at ``now``."""
        self._full_at = max(self._full_at, now) + self._gap


class Window:
    """At most ``most`` packets within any second, and never two closer than ``gap`` seconds.

    With ``evenly``, no tenth of a second has more than its share either.
    """

    __slots__ = ("_gap", "_last", "_tenth", "_times")

    def __init__(self, most: float, gap: float, evenly: bool = False) -> None:
        # A pace below one a second is one packet in several seconds.
        self._gap = max(gap, 1.0 / most if most < 1 else 0.0)
        self._times: deque[float] = deque(maxlen=max(1, int(most)))
        self._tenth = max(1, ceil(most / 10)) if evenly else 0
        self._last = -inf

    def ready_at(self, now: float, room: int = 1) -> float:
        """The time, now or later, from which ``room`` packets more may leave in a second."""
        times = self._times
        most = times.maxlen or 1
        over = len(times) + min(room, most) - most
        ready = max(now, self._last + self._gap, times[over - 1] + _A_SECOND if over > 0 else -inf)
        if self._tenth and len(times) >= self._tenth:
            ready = max(ready, times[-self._tenth] + _A_TENTH)
        return ready

    def spend(self, now: float) -> None:
        """A packet left at ``now``."""
        self._times.append(now)
        self._last = now


_A_SECOND = 1.01
"""A second, and what the clocks of the sender and of who counts may differ by."""

_A_TENTH = 0.101

_WORTH_HOLDING_BACK = 10.0
"""Packets a second to one device from which one of them is left to the kernel."""

_GAP_TO_ONE = 0.004
"""Seconds between two packets to one device: it takes them one by one."""

_GAP_TO_ALL = 0.005
_HELD_BACK_TO_ALL = 0.03
"""The share of what goes to everybody that is left to the kernel, which asks for nothing."""

_MOST_DEVICES = 4096
_MOST_EXPECTED = 64

_KERNEL_ADDS = 5
"""Packets that the kernel may send for one that was sent here: it resolves, acknowledges, ends."""

_MOST_ALLOWED = 30
"""The most of them that are still to come."""

RESOLVING = 3
"""Times that it asks everybody for one MAC."""
_EXPECTED_SECONDS = 0.5

EVERYBODY: Hashable = "everybody"
"""Whom a broadcast or a multicast is for."""


class Shares:
    """How much of the pace goes to everybody, and how much to any one receiver.

    A receiver is anything that can be looked up; those that are of one device (``is_of``) have one
    share together, since a device may have several addresses. What is seen to leave that was
    ``spent`` before is not counted twice; the rest, such as what the kernel sends by itself, is
    counted when seen.
    """

    def __init__(self, pace: Pace) -> None:
        self._pace = pace
        to_all = pace.to_all * (1 - _HELD_BACK_TO_ALL)
        self._windows: dict[Hashable, Window] = {
            EVERYBODY: Window(to_all, min(_GAP_TO_ALL, 0.5 / to_all))
        }
        self._expected: dict[Hashable, deque[float]] = {}
        self._device: dict[Hashable, Hashable] = {}
        self._allowed: dict[Hashable, int] = {EVERYBODY: _MOST_ALLOWED}
        self.foreign = 0
        """Packets of other programs that were seen to leave."""
        self._others_to_all = Window(to_all / 2, 0.0)
        """The part of what may go to everybody that other programs are given: a second look here
        shares it, and nobody who floods takes it all."""
        self.meetings = Window(to_all, 1.0 / to_all)
        """Receivers that are sent something for the first time: the kernel asks everybody for
        their MACs."""

    def is_of(self, receiver: Hashable, device: Hashable) -> None:
        """From now on a receiver has a device's share. The first device that is told stays."""
        if receiver not in self._device and len(self._device) < _MOST_DEVICES:
            self._device[receiver] = device
            earlier = self._windows.pop(receiver, None)
            if earlier is not None and device not in self._windows:
                self._windows[device] = earlier

    def ready_at(self, receiver: Hashable, now: float, room: int = 1) -> float:
        """The time, now or later, from which the next packet for a receiver may leave."""
        return self._window(receiver).ready_at(now, room)

    def spend(self, receiver: Hashable, now: float) -> None:
        """A packet for this receiver left at ``now``; it will be seen to."""
        self._window(receiver).spend(now)
        expected = self._expected.get(receiver)
        if expected is None:
            if len(self._expected) >= _MOST_DEVICES:
                self._expected.clear()
            expected = self._expected[receiver] = deque(maxlen=_MOST_EXPECTED)
        expected.append(now)
        if receiver is not EVERYBODY:
            self.allow(receiver, _KERNEL_ADDS)

    def allow(self, receiver: Hashable, packets: int) -> None:
        """So many packets may follow that the kernel sends for those that were sent here."""
        key = self._device.get(receiver, receiver)
        if len(self._allowed) >= _MOST_DEVICES:
            self._allowed.clear()
        self._allowed[key] = min(self._allowed.get(key, 0) + packets, _MOST_ALLOWED)

    def seen(self, receiver: Hashable, now: float) -> bool:
        """A packet was seen to leave; whether it is a new one that was sent for this work.

        Other programs send by the same adapter, too: what the kernel does not send for packets that
        were sent here is somebody else's, and counts as ``foreign``.
        """
        expected = self._expected.get(receiver)
        while expected:
            if now - expected.popleft() < _EXPECTED_SECONDS:
                return False
        key = self._device.get(receiver, receiver)
        allowed = self._allowed.get(key, 0)
        if not allowed:
            self.foreign += 1
            if receiver is EVERYBODY and self._others_to_all.ready_at(now) <= now:
                self._others_to_all.spend(now)
                self._window(receiver).spend(now)
            return False
        self._allowed[key] = allowed - 1
        self._window(receiver).spend(now)
        return True

    def _window(self, receiver: Hashable) -> Window:
        receiver = self._device.get(receiver, receiver)
        window = self._windows.get(receiver)
        if window is None:
            if len(self._windows) >= _MOST_DEVICES:
                self._windows = {EVERYBODY: self._windows[EVERYBODY]}
            most = self._pace.to_one
            if most >= _WORTH_HOLDING_BACK:
                # The kernel asks a known device for its MAC again, now and then.
                most -= 1
            window = Window(most, _GAP_TO_ONE, evenly=True)
            self._windows[receiver] = window
        return window
