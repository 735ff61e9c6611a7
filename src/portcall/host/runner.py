"""The one runner: drives any number of conversations, with one clock and one pacer."""

from __future__ import annotations

import asyncio
import errno
import gc
from collections import deque
from collections.abc import Callable, Hashable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from ipaddress import IPv4Address
from math import inf
from time import monotonic
from typing import Any, Protocol, TypeAlias, TypeVar

from portcall.core.address import Mac
from portcall.core.talk.conversation import Actions, Conversation, Report, Send
from portcall.core.talk.pacer import (
    EVERYBODY,
    RESOLVING,
    Pacer,
    Shares,
)
from portcall.core.talk.receivers import is_resolved_first, of_frame, of_packet, room_for
from portcall.host.medium import Medium

P = TypeVar("P")
F = TypeVar("F")
M = TypeVar("M", bound=Medium[Any])

_FULL_RETRY = 0.002
"""Seconds until a send is tried again for which the kernel had no room."""

_MOST_IN_A_ROW = 128
"""Packets that are sent in a row before arrived packets get their turn."""

_RARELY = 100_000
"""Objects that are made between two runs of the garbage collector."""

_MOST_MET = 4096


class Counts(Protocol):
    """What counts the frames that leave an adapter."""

    def departed(self) -> tuple[list[bytes], int]:
        """The headers of the frames that have left since the last call, and how many more did."""
        ...


class End:
    """The end of a conversation, which those who wait for it are told of at once."""

    __slots__ = ("_error", "_is_told", "_over")

    def __init__(self) -> None:
        self._over = asyncio.Event()
        self._error: Exception | None = None
        self._is_told = False

    def is_set(self) -> bool:
        """Whether the conversation is over."""
        return self._over.is_set()

    async def wait(self) -> None:
        """Wait for it. Raises what the conversation, or the report of a fact, has raised."""
        await self._over.wait()
        self.check()

    def check(self) -> None:
        """Raise what it ended with, if that was an exception."""
        self._is_told = True
        if self._error is not None:
            raise self._error

    def check_untold(self) -> None:
        """The same, when nobody was told of it yet."""
        if not self._is_told:
            self.check()

    def come(self, error: Exception | None = None) -> None:
        """The conversation is over; with ``error``, because of that."""
        self._error = error
        self._over.set()


@dataclass(eq=False, slots=True)
class _Running:
    """A conversation, its medium, who wants its facts, and its next wake-up."""

    conversation: Conversation[Any, Any]
    medium: Medium[Any]
    report: Callable[[Any], None]
    over: End
    heeds_leaving: bool
    alarm: asyncio.TimerHandle | None = None
    wakes_at: float | None = None
    peer: IPv4Address | None = None
    """The other side of the medium, where it has only one."""


_Queued: TypeAlias = tuple[_Running, Any, Iterator[Any] | None]
"""Who sends, the packet, and where more come from. None as a packet: to be taken from there."""


@dataclass(slots=True)
class Runner:
    """Lives inside one asyncio loop, whose clock, ``monotonic``, is the conversations' clock.

    Packets leave in the order they were asked for, as the pacer allows; those for a receiver that
    has had its share wait, and the others pass them. What a conversation still had to send when it
    ended is not sent. A conversation that raises, or whose report raises, ends;
    who waits for it is told, and the others go on. ``using`` drops and closes a medium at its end.
    """

    pacer: Pacer | None = field(default_factory=Pacer)
    """What leaves in all; None: as fast as it goes."""
    shares: Shares | None = None
    """What of it goes to everybody, and to any one device; None: no more than in all."""
    _running: dict[int, tuple[_Running, ...]] = field(default_factory=dict)
    _queue: deque[_Queued] = field(default_factory=deque)
    _failed: list[End] = field(default_factory=list)
    """Ends by an exception that nobody may have been told of yet."""
    _drain_alarm: asyncio.TimerHandle | None = None
    _draining: bool = False
    _meter: Counts | None = None
    _held: dict[Hashable, deque[_Queued]] = field(default_factory=dict)
    """What waits until its receiver may be sent something again."""
    _next_release: float = inf
    """When the first of them may leave."""
    _waits_for_shares: bool = False
    """Whether nothing but those is waited for."""
    _met: set[Hashable] = field(default_factory=set)
    """Who was sent something through the kernel, which knows their MACs by that."""
    _meets: bool = False
    """Whether the last packet was the first for its receiver."""

    def start(
        self,
        conversation: Conversation[P, F],
        medium: Medium[P],
        report: Callable[[F], None],
        begun: bool = False,
    ) -> End:
        """Begin a conversation over a medium; gives its end, to be waited for.

        One that has ``begun`` is taken over: the caller has carried out what it said to that.
        """
        loop = asyncio.get_running_loop()
        heeds_leaving = type(conversation).left is not Conversation.left
        peer = getattr(medium, "peer", None)
        running = _Running(conversation, medium, report, End(), heeds_leaving, peer=peer)
        descriptor = medium.fileno()
        others = self._running.get(descriptor, ())
        self._running[descriptor] = (*others, running)
        if not others:
            loop.add_reader(descriptor, self._readable, descriptor, medium)
        if begun:
            self._carry_out(running, tuple)
        else:
            self._carry_out(running, conversation.begin, monotonic())
        return running.over

    async def run(
        self,
        conversation: Conversation[P, F],
        medium: Medium[P],
        report: Callable[[F], None],
    ) -> None:
        """Drive a conversation to its end. Raises what it, or the report of a fact, raises."""
        await self.start(conversation, medium, report).wait()

    @contextmanager
    def using(self, medium: M) -> Iterator[M]:
        """Hold conversations over a medium while the block runs.

        At its end they are over, and the medium is closed.
        Raises what ended one of them that nobody waited for.
        """
        try:
            yield medium
        finally:
            self.drop(medium)
            medium.close()
        failed, self._failed = self._failed, []
        for end in failed:
            end.check_untold()

    def tell(self, conversation: Conversation[P, F], actions: Actions[P, F]) -> None:
        """Carry out what a conversation answers to its owner."""
        for several in self._running.values():
            for running in several:
                if running.conversation is conversation:
                    self._carry_out(running, lambda: actions)
                    return

    def drop(self, medium: Medium[Any]) -> None:
        """End every conversation on a medium and stop reading it."""
        for running in self._running.get(medium.fileno(), ()):
            self._finish(running)

    def heed(self, meter: Counts | None) -> None:
        """From now on keep the pace over everything that leaves the adapter, as a meter counts it.

        The kernel sends too: it resolves addresses, acknowledges, ends connections.
        """
        self._meter = meter

    def knows(self, address: IPv4Address, mac: Mac) -> None:
        """A device has this address: all of its addresses share what one device may be sent."""
        if self.shares is not None:
            self.shares.is_of(address.packed, mac.octets)

    @property
    def foreign(self) -> int:
        """Packets that other programs of this computer sent by the adapter meanwhile."""
        return self.shares.foreign if self.shares is not None else 0

    def _count_others(self, pacer: Pacer, now: float) -> None:
        """Charge with the packets that left for what was sent here, and were not sent here."""
        if self._meter is None or self.shares is None:
            return
        heads, more = self._meter.departed()
        for head in heads:
            if self.shares.seen(of_frame(head), now):
                pacer.spend(now)
        self.shares.foreign += more

    def _released(self, now: float) -> tuple[_Queued | None, Hashable | None]:
        """A held packet that may leave now, and the receiver that it was held back for."""
        shares = self.shares
        assert shares is not None
        self._next_release = inf
        for receiver, waiting in self._held.items():
            ready = self._ready_at(shares, receiver, waiting[0][1], now)
            if ready <= now:
                queued = waiting.popleft()
                if not waiting:
                    del self._held[receiver]
                self._next_release = now  # Other conversations may be due as well.
                return queued, receiver
            self._next_release = min(self._next_release, ready)
        return None, None

    def _ready_at(self, shares: Shares, receiver: Hashable, packet: Any, now: float) -> float:
        """The time from which a packet may leave, as far as this receiver's share goes."""
        if receiver is not EVERYBODY:
            return shares.ready_at(receiver, now, room_for(packet))
        ready = shares.ready_at(EVERYBODY, now)
        # Before the first packet to a host, the kernel asks everybody for its MAC.
        return max(ready, shares.meetings.ready_at(now)) if is_resolved_first(packet) else ready

    def _must_wait(
        self, shares: Shares, queued: _Queued, released: Hashable | None, now: float
    ) -> bool:
        """Whether a packet's receiver has had its share; it is held back until it may have more."""
        running, packet, _ = queued
        receiver = of_packet(packet, running.peer)
        if receiver is None:
            return False
        meets = receiver not in self._met and is_resolved_first(packet)
        meets = meets and receiver is not EVERYBODY
        for each in (receiver, EVERYBODY) if meets else (receiver,):
            if each == released:
                continue
            ready = self._ready_at(shares, each, packet, now)
            # Packets that were held back go first.
            if ready > now or each in self._held:
                self._held.setdefault(each, deque()).append(queued)
                self._next_release = min(self._next_release, ready)
                return True
        shares.spend(receiver, now)
        if meets:
            self._meet(shares, receiver, now)
        return False

    def _meet(self, shares: Shares, receiver: Hashable, now: float) -> None:
        """A receiver is sent something for the first time."""
        shares.meetings.spend(now)
        shares.allow(EVERYBODY, RESOLVING)
        self._meets = True
        if len(self._met) >= _MOST_MET:
            self._met.clear()
        self._met.add(receiver)
        if self._meter is None:
            shares.spend(EVERYBODY, now)

    def _put_back(self, queued: _Queued, released: Hashable | None) -> None:
        """Put it first again."""
        if released is None:
            self._queue.appendleft(queued)
        else:
            self._held[released] = deque((queued, *self._held.get(released, ())))

    def _readable(self, descriptor: int, medium: Medium[Any]) -> None:
        listeners, carry_out = self._running, self._carry_out
        try:
            for packet, at in medium.receive():
                for running in listeners.get(descriptor, ()):
                    if not running.over.is_set():
                        carry_out(running, running.conversation.heard, packet, at)
        except Exception as error:
            # The medium is broken: none of its conversations can go on.
            for running in listeners.get(descriptor, ()):
                self._finish(running, error)

    def _carry_out(
        self, running: _Running, answer: Callable[..., Actions[Any, Any]], *said: Any
    ) -> None:
        """Tell a conversation something, and do what it answers."""
        try:
            for action in answer(*said):
                if isinstance(action, Report):
                    running.report(action.fact)
                elif isinstance(action, Send):
                    self._queue.append((running, action.packet, None))
                else:
                    self._queue.append((running, None, action.packets))
        except Exception as error:
            self._finish(running, error)
            return
        conversation = running.conversation
        if conversation.over:
            self._finish(running)
        elif conversation.wake_at != running.wakes_at:
            self._set_alarm(running)
        if self._queue and not self._draining:
            if self._waits_for_shares and self._drain_alarm is not None:
                # A packet held back for one receiver does not delay the others.
                self._drain_alarm.cancel()
                self._drain_alarm = None
            if self._drain_alarm is None:
                self._drain()

    def _set_alarm(self, running: _Running) -> None:
        if running.alarm is not None:
            running.alarm.cancel()
            running.alarm = None
        running.wakes_at = wake_at = running.conversation.wake_at
        if wake_at is not None and not running.over.is_set():
            loop = asyncio.get_running_loop()
            running.alarm = loop.call_at(wake_at, self._wake, running)

    def _wake(self, running: _Running) -> None:
        running.alarm = running.wakes_at = None
        # The loop may call an alarm slightly early; a conversation may rely on its time having
        # come.
        now = max(monotonic(), running.conversation.wake_at or 0.0)
        self._carry_out(running, running.conversation.woke, now)

    def _finish(self, running: _Running, error: Exception | None = None) -> None:
        if running.over.is_set():
            return
        running.over.come(error)
        if error is not None:
            self._failed.append(running.over)
        if running.alarm is not None:
            running.alarm.cancel()
        descriptor = running.medium.fileno()
        others = tuple(each for each in self._running.get(descriptor, ()) if each is not running)
        self._running[descriptor] = others
        if not others:
            del self._running[descriptor]
            asyncio.get_running_loop().remove_reader(descriptor)

    def _drain(self) -> None:
        """Send what the pacer allows now, and come back when it allows more."""
        queue, pacer, shares = self._queue, self.pacer, self.shares
        self._drain_alarm = None
        # What `left` asks for in answer is queued and sent by this same loop.
        self._draining = True
        again_in = None
        sent = 0
        if pacer is not None:
            self._count_others(pacer, monotonic())
        while True:
            if sent == _MOST_IN_A_ROW:
                again_in = 0.0
                break
            now = monotonic()
            released: Hashable | None = None
            if self._held and now >= self._next_release:
                queued, released = self._released(now)
            else:
                queued = None
            if queued is None:
                if not queue:
                    break
                queued = queue.popleft()
            sent += 1
            running, packet, more = queued
            if running.over.is_set():
                continue
            if packet is None and more is not None:
                try:
                    packet = next(more, None)
                except Exception as error:
                    self._finish(running, error)
                    continue
                if packet is None:
                    self._carry_out(running, running.conversation.all_left, now)
                    continue
            if pacer is not None and pacer.ready_at(now) > now:
                self._put_back((running, packet, more), released)
                again_in = pacer.worth_waking_at(now) - now
                break
            queued = running, packet, more
            if shares is not None and self._must_wait(shares, queued, released, now):
                continue
            try:
                left = running.medium.send(packet)
            except BlockingIOError:
                self._put_back((running, packet, more), released)
                again_in = _FULL_RETRY
                break
            except OSError as error:
                reason = _reason(error)
                self._carry_out(running, running.conversation.unsent, packet, reason, now)
            except Exception as error:
                self._finish(running, error)
            else:
                if pacer is not None:
                    pacer.spend(now)
                    if self._meets:
                        # Count at once whether the kernel has asked for the MAC.
                        self._meets = False
                        self._count_others(pacer, now)
                if running.heeds_leaving:
                    self._carry_out(running, running.conversation.left, packet, left or now)
            if more is not None:
                queue.append((running, None, more))
        self._draining = False
        self._waits_for_shares = again_in is None and bool(self._held)
        if self._waits_for_shares:
            again_in = max(self._next_release - monotonic(), 0.0)
        if again_in is not None:
            loop = asyncio.get_running_loop()
            self._drain_alarm = loop.call_later(again_in, self._drain)


_FORBIDDEN_BY_WINDOWS = 10013
"""WSAEACCES: what a firewall there says instead."""

FORBIDDEN = "this computer's firewall forbids it"
"""Why a packet could not leave: a filter rule of this computer drops it on its way out."""


def _reason(error: OSError) -> str:
    if error.errno == errno.EPERM or getattr(error, "winerror", None) == _FORBIDDEN_BY_WINDOWS:
        return FORBIDDEN
    return (error.strerror or str(error)).lower()


@contextmanager
def rare_collections() -> Iterator[None]:
    """While the block runs, collect garbage rarely.

    Packets and facts are values without cycles: searching them for garbage is a waste, and a pause
    in which no device is answered.
    """
    usual = gc.get_threshold()
    gc.collect()
    gc.freeze()
    gc.set_threshold(_RARELY, *usual[1:])
    try:
        yield
    finally:
        gc.set_threshold(*usual)
        gc.unfreeze()
