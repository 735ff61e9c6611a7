"""The address server: BOOTP and DHCP answers to planned devices, and to nobody else.

What a request leads to, by who asks and how (RFC 951 §7.3, RFC 2131 §4.3):

===============================  ==============================================================
from a device not planned        nothing is sent; reported, with near misses. With temporary
                                 addresses to lend, DHCP clients get one of those
BOOTP request                    clear the address, BOOTREPLY
DHCPDISCOVER                     clear the address, DHCPOFFER
anything that names another      nothing; the client chose the other (§4.3.2, SELECTING)
server
DHCPREQUEST for the address      DHCPACK
DHCPREQUEST for another address  DHCPNAK: a planned device has one address, this server owns it
DHCPDECLINE                      the address is in use; reported, not offered again for a while
DHCPRELEASE                      reported
DHCPINFORM                       DHCPACK without address or lease (§4.3.5)
===============================  ==============================================================

*Clear the address*: before it is given, ARP asks whether another MAC has it (RFC 2131 §2.2), or a
ping where a relay agent is between. If one answers, the request is refused and the conflict
reported. At the start, and after giving an address, the server asks whether the device answers
there, and reports that too.

Answers follow from the plan alone, so that a restarted server gives the same ones. Leases do not
end unless told to (RFC 2131 §3.3): the laptop leaves the site, the addresses must not. What is
given is reported before the answer leaves, so that a record can be on the disk by then.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from heapq import heappop, heappush
from ipaddress import IPv4Address, IPv4Interface

from portcall.core.address import UNSPECIFIED, Mac
from portcall.core.assign import sentences as say
from portcall.core.assign.event import Event, EventKind
from portcall.core.assign.reply import Replies, Terms
from portcall.core.assign.strangers import Strangers
from portcall.core.assign.temporary import TEMPORARY_SECONDS, Lent, Pool
from portcall.core.assign.voices import Voices
from portcall.core.finding import Finding, Name
from portcall.core.plan.rows import NO_PLAN, Plan, PlannedDevice
from portcall.core.printable import told_by_others
from portcall.core.talk.conversation import Actions, Conversation, Frame, Report, Send
from portcall.core.talk.frames import answers_echo, echo_request, heard_arp
from portcall.core.talk.pacer import TO_ALL, sustained
from portcall.core.talk.request import AddressProtocol, Request, read, sender
from portcall.core.wire import arp, dhcp, ethernet
from portcall.core.wire.dhcp import MessageType
from portcall.core.wire.octets import Malformed

CLEAR_WAIT = 0.3
"""Seconds to wait for an answer of another holder before an address is given.

Old BOOTP clients repeat a request after one second at the earliest, so the first request is the one
that is answered.
"""

LATE = 3.5
"""Seconds within which a slow holder of an address answers: radios and sleeping devices take up to
three. Who was heard to have an address has it until a question has had no answer for so long.
"""

CLEAR_HOLDS = 30.0
"""Seconds for which a cleared address needs no new probe: a DHCP exchange, or a few retries. An
address offered from those to lend is held as long."""

WATCH_AFTER = 0.5
WATCH_INTERVAL = 1.0
WATCH_TIMES = 30
"""How soon after giving, how often, and how many times, a device is asked whether it has taken its
address."""

FIRST_LOOK_TIMES = 2
"""How many times each planned address is asked for at the start."""

LOOK_AGAIN, LOOK_AGAIN_GAP = 10.0, 0.2
"""Seconds between two later looks for who has not asked, and at least so many for each of them."""

DECLINED_REST = 30.0
"""Seconds for which a declined address is not offered again."""

_MOST_AT_ONCE = 16
"""How many devices are looked after in a row before waiting requests get their turn."""

_ANSWERED = (None, MessageType.DISCOVER, MessageType.REQUEST, MessageType.INFORM)


@dataclass(slots=True, eq=False)
class _Clearing:
    """A request that waits until its address is known to be free."""

    terms: Terms
    request: Request


@dataclass(slots=True, eq=False)
class _Holder:
    """Somebody else who has a planned address: when it was heard, and asked last."""

    mac: Mac
    heard: float
    asked: float | None = None

    def is_gone(self, now: float) -> bool:
        """Whether it has had time to answer the last question, and has not."""
        return self.asked is not None and self.heard <= self.asked <= now - LATE


@dataclass(slots=True, eq=False)
class _Watch:
    """An address that a device was given, or should have, until the device answers there."""

    terms: Terms
    mac: Mac
    request: Request | None
    """What it was given in answer to; None for the first look."""
    asks_left: int


class AddressServer(Conversation[Frame, Event]):
    """Serves the rows of a plan by which a device can be recognised; it is never over by itself.

    ``own`` are the workstation's addresses. Rows in none of their subnets are served only through
    relay agents. ``others`` are planned too, and left alone. ``pace``, in packets a second, holds
    for what nobody asked for, which is the check at the start; answers do not wait.
    """

    def __init__(
        self,
        own: Sequence[IPv4Interface],
        plan: Plan,
        replies: Replies,
        lease_seconds: int = dhcp.INFINITE,
        pool: Pool | None = None,
        others: Plan = NO_PLAN,
        pace: float = TO_ALL,
        held: Mapping[IPv4Address, Mac] | None = None,
    ) -> None:
        self._own_mac = replies.own_mac
        self._own = tuple(own)
        self._replies = replies
        self._lease_seconds = lease_seconds
        self._pool = pool
        self._look_gap = FIRST_LOOK_TIMES / sustained(pace)
        self.malformed = 0
        """Requests that could not be read, and were ignored."""
        self._clearing: dict[IPv4Address, _Clearing] = {}
        self._clear: dict[IPv4Address, tuple[Mac, float]] = {}
        self._resting: dict[IPv4Address, float] = {}
        self._watches: dict[IPv4Address, _Watch] = {}
        self._given: dict[IPv4Address, Mac] = {}
        self._held_at_first = dict(held or {})
        self._held: dict[IPv4Address, _Holder] = {}
        self._voices = Voices()
        self._alarms: list[tuple[float, int, _Clearing | _Watch]] = []
        self._alarm_number = 0
        self._take_plan(plan, others)

    def _take_plan(self, plan: Plan, others: Plan) -> None:
        self._plan = plan
        terms = {row.name: self._terms(row) for row in plan}
        self._by_mac = {row.mac: terms[row.name] for row in plan if row.mac}
        self._by_circuit = {row.circuit: terms[row.name] for row in plan if row.circuit}
        planned = (row.address for row in (*plan, *others))
        self._planned = {*planned, *(each.ip for each in self._own)}
        self._strangers = Strangers(plan, others)

    def begin(self, now: float) -> Actions[Frame, Event]:
        """Ask which devices have their address already."""
        self._held = {at: _Holder(mac, now) for at, mac in self._held_at_first.items()}
        self._look_for(self._plan, now)
        yield from self.woke(now)

    def change(self, plan: Plan, others: Plan, now: float) -> Actions[Frame, Event]:
        """From now on serve another plan; its owner carries out what comes back."""
        before = {(row.mac, row.circuit, row.interface, row.name) for row in self._plan}
        new = [row for row in plan if (row.mac, row.circuit, row.interface, row.name) not in before]
        self._take_plan(plan, others)
        for address in (*self._clearing, *self._watches):
            if plan.by_address(address) in (None, *new):
                self._forget(address)
        self._look_for(new, now)
        yield from self.woke(now)

    def _look_for(self, rows: Sequence[PlannedDevice] | Plan, now: float) -> None:
        at = now
        for row in rows:
            terms = self._by_mac.get(row.mac) if row.mac else None
            if row.mac is not None and terms is not None and terms.own is not None:
                watch = _Watch(terms, row.mac, None, FIRST_LOOK_TIMES)
                self._watches[row.address] = watch
                self._wake(watch, at)
                at += self._look_gap

    def heard(self, packet: Frame, now: float) -> Actions[Frame, Event]:
        """A frame: ARP and pings say who holds an address, UDP to port 67 asks for one."""
        said = heard_arp(packet)
        if said is not None:
            yield from self._claimed(said.sender_address, said.sender_mac, now)
            return
        plain, vlan = ethernet.without_tags(packet.data)
        if vlan is not None:
            yield from self._asked_in_vlan(Frame(plain), vlan)
            return
        try:
            request = read(packet)
        except Malformed as trouble:
            self.malformed += 1
            who = sender(packet)
            if who is not None and who != self._own_mac:
                known = self._by_mac.get(who)
                name = known.name if known else None
                told = say.UNREADABLE(because=told_by_others(trouble.what))
                yield Report(Event(EventKind.IGNORED, who, None, None, name, told))
            return
        if request is None:
            address = answers_echo(packet)
            if address is not None:
                yield from self._claimed(address, None, now)
        elif request.mac != self._own_mac:
            yield from self._asked(request, now)

    def _asked_in_vlan(self, packet: Frame, vlan: int) -> Actions[Frame, Event]:
        """Somebody asks in a VLAN: an answer without its tag would not come to it."""
        try:
            request = read(packet)
        except Malformed:
            self.malformed += 1
            return
        if request is None or request.mac == self._own_mac:
            return
        known = self._by_mac.get(request.mac)
        name = known.name if known else None
        told = say.ASKS_IN_VLAN(vlan=vlan)
        yield Report(Event(EventKind.IGNORED, request.mac, request.protocol, None, name, told))

    def woke(self, now: float) -> Actions[Frame, Event]:
        """Give addresses that nobody else claimed; ask whether given ones are taken up."""
        for _ in range(_MOST_AT_ONCE):
            if not self._alarms or self._alarms[0][0] > now:
                break
            _, _, what = heappop(self._alarms)
            address = what.terms.address
            if isinstance(what, _Clearing):
                if self._clearing.get(address) is what:
                    del self._clearing[address]
                    self._clear[address] = (what.request.mac, now + CLEAR_HOLDS)
                    own = self._own_for(what.terms, what.request)
                    if own is not None:
                        yield from self._give(what.terms, what.request, own, now)
            elif self._watches.get(address) is what:
                yield from self._watch_on(what, now)
        self.wake_at = self._alarms[0][0] if self._alarms else None

    def _wake(self, what: _Clearing | _Watch, at: float) -> None:
        self._alarm_number += 1
        heappush(self._alarms, (at, self._alarm_number, what))
        self.wake_at = self._alarms[0][0]

    # Requests, and the purpose of each.

    def _asked(self, request: Request, now: float) -> Actions[Frame, Event]:
        terms = self._by_mac.get(request.mac)
        if terms is None and self._by_circuit:
            terms = self._by_circuit.get(request.options.circuit or b"")
        if terms is None:
            yield from self._asked_by_stranger(request, now)
            return
        self._strangers.served(request.mac)
        own = self._own_for(terms, request)
        chosen = request.options.server_identifier
        if own is None:
            told = say.BELONGS_ELSEWHERE(relay=request.relay, address=terms.address)
            yield self._event(EventKind.REFUSED, request, terms, told)
        elif chosen not in (None, own):
            told = say.TAKES_FROM_ANOTHER(server=chosen)
            yield self._event(EventKind.IGNORED, request, terms, told)
        elif request.kind is MessageType.DECLINE:
            self._forget(terms.address)
            self._resting[terms.address] = now + DECLINED_REST
            yield self._event(EventKind.DECLINED, request, terms, say.DECLINES())
        elif request.kind is MessageType.RELEASE:
            self._forget(terms.address)
            name, address = terms.name, terms.address
            kind, protocol, told = EventKind.ASKED, request.protocol, say.GIVES_BACK()
            yield Report(Event(kind, request.mac, protocol, address, name, told, gave_back=True))
        elif request.kind in _ANSWERED:
            facts = request.introduction
            introduced = say.INTRODUCES(facts=facts) if facts else None
            yield self._event(EventKind.ASKED, request, terms, introduced)
            oddity = self._voices.oddity(request)
            if oddity is not None:
                yield self._event(EventKind.NOTICE, request, terms, oddity)
            yield from self._answer(terms, request, own, now)

    def _answer(
        self, terms: Terms, request: Request, own: IPv4Address, now: float
    ) -> Actions[Frame, Event]:
        if request.kind is MessageType.REQUEST and request.wanted != terms.address:
            told = say.TOLD_TO_ASK_ANEW(wanted=request.wanted)
            yield self._event(EventKind.REFUSED, request, terms, told)
            yield self._send(terms, request, own, MessageType.NAK)
        elif request.kind is MessageType.INFORM:
            yield self._send(terms, request, own, MessageType.ACK)
        elif self._resting.get(terms.address, now) > now:
            yield self._event(EventKind.REFUSED, request, terms, say.DECLINED_JUST_NOW())
        else:
            yield from self._clear_then_give(terms, request, own, now)

    def _asked_by_stranger(self, request: Request, now: float) -> Actions[Frame, Event]:
        """A device that is not planned gets no answer, unless there are addresses to lend and it
        can give one back.
        """
        known = self._strangers.told_of(request.mac)
        facts, near = (*known.facts, *request.introduction), known.near
        told = say.INTRODUCES(facts=facts)
        asks = request.kind in (MessageType.DISCOVER, MessageType.REQUEST)
        planned = self._strangers.is_planned(request.mac)
        if self._pool is None or planned or request.relay or not asks:
            if self._pool is not None and request.kind is MessageType.RELEASE:
                self._pool.release(request.mac)
            elif self._pool is not None and request.kind is MessageType.DECLINE and request.wanted:
                self._pool.rest(request.wanted, now)
            yield self._event(EventKind.IGNORED, request, None, told, near)
            return
        interface = self._pool.choose(request.mac, now, self._planned)
        own = None if interface is None else self._own_in(interface.ip)
        if interface is None or own is None:
            told = say.NONE_LEFT(facts=facts)
            yield self._event(EventKind.IGNORED, request, None, told, near)
            return
        terms = Terms(interface.ip, interface.network, own, lease_seconds=TEMPORARY_SECONDS)
        is_request = request.kind is MessageType.REQUEST
        if is_request and request.wanted != terms.address:
            # The server that gave it that address may confirm it; this one must not deny it.
            yield self._event(EventKind.IGNORED, request, None, told, near)
            return
        if request.options.server_identifier not in (None, own):
            yield self._event(EventKind.IGNORED, request, None, told, near)
            return
        self._pool.lend(Lent(request.mac, terms.address, now + CLEAR_HOLDS))
        yield self._event(EventKind.ASKED, request, terms, told, near)
        yield from self._clear_then_give(terms, request, own, now)

    # Clearing and giving.

    def _clear_then_give(
        self, terms: Terms, request: Request, own: IPv4Address, now: float
    ) -> Actions[Frame, Event]:
        cleared_for, until = self._clear.get(terms.address, (None, now))
        if (cleared_for == request.mac and until > now) or request.message.ciaddr == terms.address:
            # A device that renews has the address: a probe would only find that device.
            yield from self._give(terms, request, own, now)
            return
        holder = self._held.get(terms.address)
        if holder is not None and holder.is_gone(now):
            del self._held[terms.address]
        elif holder is not None and holder.mac != request.mac:
            told = say.HELD(holder=holder.mac, address=terms.address)
            yield self._event(EventKind.REFUSED, request, terms, told)
            if holder.asked is None or holder.heard > holder.asked:
                # A later request shows whether the device still has the address.
                holder.asked = now
                yield self._ask_for(terms.address, request, own, UNSPECIFIED)
            return
        waiting = self._clearing.get(terms.address)
        if waiting is not None:
            if waiting.request.mac == request.mac:
                waiting.request = request
            return
        clearing = self._clearing[terms.address] = _Clearing(terms, request)
        self._wake(clearing, now + CLEAR_WAIT)
        yield self._ask_for(terms.address, request, own, UNSPECIFIED)

    def _give(
        self, terms: Terms, request: Request, own: IPv4Address, now: float
    ) -> Actions[Frame, Event]:
        if request.kind is MessageType.DISCOVER:
            yield self._event(EventKind.OFFERED, request, terms)
            yield self._send(terms, request, own, MessageType.OFFER)
            return
        told = None
        if not terms.name and self._pool is not None:
            self._pool.lend(Lent(request.mac, terms.address, now + terms.lease_seconds))
            told = say.TEMPORARY(seconds=terms.lease_seconds)
        yield self._event(EventKind.ASSIGNED, request, terms, told)
        answer = None if request.protocol is AddressProtocol.BOOTP else MessageType.ACK
        yield self._send(terms, request, own, answer)
        self._given[terms.address] = request.mac
        if terms.own is None and request.relay is None:
            # The device asked from its present address, which is on another wire: send the answer
            # there.
            yield self._event(EventKind.ANSWERING, request, terms)
            return
        known = self._watches.get(terms.address)
        if known is not None and known.mac == request.mac and known.request is not None:
            known.request, known.asks_left = request, WATCH_TIMES
            return
        watch = _Watch(terms, request.mac, request, WATCH_TIMES)
        self._watches[terms.address] = watch
        self._wake(watch, now + WATCH_AFTER)

    def _forget(self, address: IPv4Address) -> None:
        for table in (self._clearing, self._clear, self._watches, self._given, self._held):
            table.pop(address, None)

    # Who holds an address.

    def _ask_for(
        self, address: IPv4Address, request: Request | None, own: IPv4Address, sender: IPv4Address
    ) -> Send[Frame]:
        if request is not None and request.relay:
            to = request.frame.source_mac
            return Send(echo_request(self._own_mac, to, own, address))
        return Send(Frame(arp.encode_request(self._own_mac, sender, address)))

    def _watch_on(self, watch: _Watch, now: float) -> Actions[Frame, Event]:
        own = self._own_for(watch.terms, watch.request)
        if own is None or (watch.asks_left <= 0 and watch.request is not None):
            del self._watches[watch.terms.address]
            if watch.request is not None:
                told = say.NO_ANSWER(seconds=WATCH_TIMES * WATCH_INTERVAL)
                yield self._event(EventKind.NOTICE, watch.request, watch.terms, told)
            return
        watch.asks_left -= 1
        interval = WATCH_INTERVAL
        if watch.asks_left <= 0 and watch.request is None:
            # It may get this address in another way: set by hand, or from another computer.
            interval = max(LOOK_AGAIN, len(self._plan.devices) * LOOK_AGAIN_GAP)
        self._wake(watch, now + interval)
        yield self._ask_for(watch.terms.address, watch.request, own, own)

    def _claimed(self, address: IPv4Address, mac: Mac | None, now: float) -> Actions[Frame, Event]:
        """Somebody has an address; ``mac`` None where a relay agent hides who."""
        if mac is not None and mac != self._own_mac and address in self._planned:
            self._note_holder(address, mac, now)
        clearing, watch = self._clearing.get(address), self._watches.get(address)
        if (clearing is None and watch is None) or mac == self._own_mac:
            return
        asking = clearing.request.mac if clearing else watch.mac if watch else None
        if mac == asking or (mac is None and self._given.get(address) == asking):
            if asking is not None:
                self._strangers.served(asking)
            if watch is not None:
                del self._watches[address]
                protocol = watch.request.protocol if watch.request else None
                name = watch.terms.name
                yield Report(Event(EventKind.ANSWERING, watch.mac, protocol, address, name))
            return
        held = say.HELD(holder=mac, address=address)
        if clearing is not None:
            del self._clearing[address]
            if not clearing.terms.name and self._pool is not None:
                self._pool.rest(address, now)
            yield self._event(EventKind.REFUSED, clearing.request, clearing.terms, held)
        elif watch is not None and watch.request is None:
            del self._watches[address]
            name = watch.terms.name
            yield Report(Event(EventKind.REFUSED, watch.mac, None, address, name, held))
        elif watch is not None and watch.request is not None and mac is not None:
            del self._watches[address]
            told = say.ANOTHER_ANSWERS(holder=mac, address=address, mac=watch.mac)
            yield self._event(EventKind.NOTICE, watch.request, watch.terms, told)

    def _note_holder(self, address: IPv4Address, mac: Mac, now: float) -> None:
        """Remember who has a planned address, unless it is who should have it."""
        row = self._plan.by_address(address)
        known = self._by_mac.get(mac)
        if (known is not None and known.address == address) or self._given.get(address) == mac:
            self._held.pop(address, None)
        elif row is not None and row.mac is not None:
            holder = self._held.get(address)
            if holder is None or holder.mac != mac:
                self._held[address] = _Holder(mac, now)
            else:
                holder.heard = now

    # The terms of each row, and which address of this computer gives them.

    def _terms(self, row: PlannedDevice) -> Terms:
        network, own = row.interface.network, self._own_in(row.address)
        return Terms(row.address, network, own, row.gateway, row.name, self._lease_seconds)

    def _own_in(self, address: IPv4Address) -> IPv4Address | None:
        """The workstation's address in the subnet that another is in, if it is in that."""
        return next((each.ip for each in self._own if address in each.network), None)

    def _own_for(self, terms: Terms, request: Request | None) -> IPv4Address | None:
        """The own address from which a request is answered with these terms, or None when they are
        wrong there.

        The planned address must be in the relay agent's subnet, or in one of this adapter's
        subnets.
        """
        if request is not None and request.renews_from_afar:
            # RFC 2131 §4.3.2: what renews asks its server itself, past the relay agent.
            asked = request.frame.destination
            renews = request.message.ciaddr == terms.address
            return asked if renews and asked in [each.ip for each in self._own] else terms.own
        if request is None or request.relay is None:
            return terms.own
        if request.relay not in terms.network:
            return None
        mine = [each.ip for each in self._own]
        spoken_to = request.frame.destination
        return spoken_to if spoken_to in mine else next(iter(mine), None)

    def _event(
        self,
        kind: EventKind,
        request: Request,
        terms: Terms | None,
        told: Finding | None = None,
        near: tuple[Name, ...] = (),
    ) -> Report[Event]:
        address = terms.address if terms else None
        name = terms.name if terms else None
        says = request.says if name is None else ""
        who = (kind, request.mac, request.protocol, address, name)
        return Report(Event(*who, told, near=near, says=says))

    def _send(
        self, terms: Terms, request: Request, own: IPv4Address, kind: MessageType | None
    ) -> Send[Frame]:
        return Send(self._replies.frame(request, terms, own, kind))
