"""A visit that lasts: it holds what it added to this computer, and goes along with its device."""

from __future__ import annotations

import asyncio
from collections.abc import Collection
from contextlib import suppress
from dataclasses import replace
from ipaddress import IPv4Address, IPv4Interface, IPv4Network
from itertools import chain, islice
from time import monotonic

from portcall.core.adapters.adapter import Adapter, found_again
from portcall.core.adapters.adapter_watch import AdapterChange, ChangeKind
from portcall.core.adapters.holding import Happened, Holding
from portcall.core.adapters.own_address import wanted_for
from portcall.core.address import Mac, hosts
from portcall.core.plan.rows import Plan
from portcall.core.setting.whereabouts import Asks, At, Left, Whereabout, Whereabouts
from portcall.core.talk.pacer import Pacer
from portcall.core.trouble import NotPossibleHere
from portcall.core.wire.dhcp import prefix_length
from portcall.host.adapter_watch import watch_adapters
from portcall.host.adapters import managed_by
from portcall.host.address_link import AddressLink
from portcall.host.addresses import add_address, remove_address
from portcall.host.filters import NO_CONVERSATIONS
from portcall.host.runner import Runner
from portcall.jobs.look.holders import holders_of
from portcall.jobs.telling import Tell, nobody
from portcall.jobs.together import end
from portcall.jobs.workstation.adapters import adapters_now
from portcall.jobs.workstation.match import changing_addresses, is_taken, refuse_overlap
from portcall.jobs.workstation.match_dhcp import best_offer, match_by_dhcp
from portcall.jobs.workstation.restore import Restored, restore_one
from portcall.jobs.workstation.stay_facts import (
    AnotherDevice,
    Answers,
    AsksNow,
    Held,
    Leased,
    NotHeld,
    NotWatched,
    Silent,
    SomebodyElses,
    WentAlong,
    Woken,
)
from portcall.jobs.workstation.visit import come_out, go_in, put_back_forgotten
from portcall.site.folder import Site
from portcall.site.matches import Lease, OpenMatch, open_matches, this_process
from portcall.site.moment import Moment
from portcall.site.visits import Visited, forget_visits, write_visit

_LOOK = 1.0
"""Seconds between two looks at the adapters when the kernel tells of nothing."""

_SOON = 0.2
"""Seconds to the next look when an address is missing."""

_SLEPT = 10.0
"""Seconds without a look after which this computer was asleep, or this program was stopped."""

_RENEW_AGAIN = 10.0
"""Seconds between two attempts to lengthen a lease; or a tenth of it, when that is more."""

_MEET_AGAIN = 2.0
"""Seconds between two questions who answers at an address where nobody did."""

_GLANCE = 0.2
"""Seconds between two glances whether the cable is still in."""

_WIDE, _NARROW = 8, 30
"""The masks between which a device's own is believed."""

_MOST_SEARCHED = 1024
_MOST_CANDIDATES = 4096


class Stay:
    """One visit: ``enter``, then ``run`` beside what the person does, then ``leave``.

    ``name`` is what the device is called here, and without ``is_device`` the subnet. The visit is
    with the device of that ``mac``, or with ``whoever`` answers at the address.
    """

    def __init__(
        self,
        adapter: Adapter,
        site: Site,
        tell: Tell,
        name: str,
        mac: Mac | None = None,
        address: IPv4Address | None = None,
        *,
        is_device: bool = True,
        whoever: bool = False,
    ) -> None:
        process = this_process()
        assert process is not None
        self._site = site
        self._tell = tell
        self._holding = Holding(adapter)
        self._whoever = whoever or mac is None
        self._been_at: dict[IPv4Address, None] = {}
        self._check = False
        """Whether what is held may be somebody else's by now."""
        self._meets_again = False
        """Whether another device may be at the address by now."""
        self._was_silent = False
        self._again_at = 0.0
        self._ended: tuple[IPv4Interface, Lease] | None = None
        """A lease that has ended, and that is to be had again."""
        self._news = asyncio.Event()
        self.visited = Visited(process, adapter.name, adapter.name, name, mac, address, is_device)

    def enter(self, target: IPv4Address | IPv4Network | None) -> None:
        """Go into a subnet; None takes the address that somebody there hands out.

        What a visit left behind that was killed is put back first; so is this computer when this
        does not succeed. Raises NotPossibleHere.
        """
        forget_visits()
        put_back_forgotten(self._tell)
        try:
            self._enter(target)
        except BaseException:
            self.leave()
            raise

    def _enter(self, target: IPv4Address | IPv4Network | None) -> None:
        if target is None:
            lease = self._obtain()
            if lease is not None and self.visited.address is None:
                server, mac = lease.server, lease.server_mac
                self.visited = replace(self.visited, name=str(server), address=server, mac=mac)
        else:
            self._go_in(target)
        write_visit(self.visited)

    def learn_mask(self, mask: IPv4Address | None) -> None:
        """Take over the mask that the device told, where nobody else knew one.

        Raises NotPossibleHere.
        """
        address, prefix = self.visited.address, prefix_length(mask) if mask else None
        if address is None or prefix is None or not _NARROW >= prefix >= _WIDE:
            return
        wanted = wanted_for(address, _plan(self._site), self._site.subnets)
        own = next((each for each in self._holding.held if address in each.network), None)
        entry = self._entries().get(own) if own is not None else None
        if own is None or entry is None or entry.lease or not wanted.prefix_assumed:
            return
        if own.network.prefixlen != prefix:
            self._holding.let_go(own)
            self._tell(restore_one(entry))
            self._go_in(address, prefix)

    def leave(self) -> list[Restored]:
        """Put this computer back; what came of each address is told."""
        try:
            return come_out(self._tell)
        finally:
            forget_visits()

    async def run(self, over: asyncio.Event) -> None:
        """Hold what was added, and go along with the device, until ``over`` is set."""
        try:
            await self._run(over)
        except (NotPossibleHere, OSError) as trouble:
            self._tell(NotWatched(trouble))

    async def _run(self, over: asyncio.Event) -> None:
        watching = asyncio.ensure_future(watch_adapters(self._changed, over))
        beside = asyncio.ensure_future(self._beside_the_device(over))
        seen = Moment.now()
        try:
            while not over.is_set():
                await _first(over, self._news, seconds=_SOON if self._holding.is_waiting else _LOOK)
                self._news.clear()
                if seen.elapsed > _SLEPT:
                    self._tell(Woken(seen.elapsed))
                    self._check = True
                seen = Moment.now()
                self._look()
                if self._check and self._holding.is_ready:
                    self._check = False
                    await asyncio.to_thread(self._still_free)
                await asyncio.to_thread(self._lengthen)
                for task in (watching, beside):
                    if task.done() and not over.is_set():
                        task.result()
        finally:
            for task in (watching, beside):
                await end(task)

    def _changed(self, change: AdapterChange) -> None:
        if change.kind is ChangeKind.LINK_LOST and change.adapter.mac == self._holding.mac:
            self._holding.lost_link()
        self._news.set()

    def _entries(self) -> dict[IPv4Interface, OpenMatch]:
        """What this process has added, as it is written down."""
        mac, me = self._holding.mac, self.visited.visitor
        return {e.added: e for e in open_matches() if (e.mac, e.visitor) == (mac, me)}

    def _look(self) -> None:
        entries = self._entries()
        ended = [own for own, e in entries.items() if e.lease and e.lease.seconds_left <= 0]
        held = set(self._holding.held)
        now = monotonic()
        for change in self._holding.look(adapters_now(), entries.keys(), now, ended):
            own = change.interface
            adapter = self._now()
            by = managed_by(adapter) if adapter is not None else None
            self._tell(Held(change, own.network if own else None, by))
            if change.what in (Happened.LINK_BACK, Happened.ADAPTER_BACK):
                self._check = True
            if change.what in (Happened.WENT_WITH_ADAPTER, Happened.TAKEN_OFF) and own:
                self._put_on(entries[own])
        if self._holding.name != self.visited.adapter:
            self._is_with(replace(self.visited, adapter=self._holding.name))
        for own in held - set(self._holding.held):
            entry = entries.get(own)
            if entry is None:
                continue
            if entry.lease is not None and own in ended:
                self._ended, self._again_at = (own, entry.lease), 0.0
            restore_one(entry)

    def _now(self) -> Adapter | None:
        """The adapter as it is now."""
        return found_again(adapters_now(), self._holding.mac, self._holding.name)

    def _put_on(self, entry: OpenMatch) -> None:
        """Put an address on again that is still written down."""
        adapter = self._now()
        if adapter is None:
            return
        left = entry.lease.seconds_left if entry.lease else float("inf")
        try:
            refuse_overlap(adapter, entry.added.network)
            add_address(adapter, entry.added, None if left == float("inf") else max(int(left), 1))
            if entry.added not in self._entries():
                # Restored at this very moment: nothing would take it off any more.
                remove_address(adapter, entry.added)
        except NotPossibleHere as trouble:
            self._holding.let_go(entry.added)
            self._tell(NotHeld(entry.added, trouble))

    def _still_free(self) -> None:
        """After the cable was out it may be another: is what was added somebody else's there?"""
        for own in tuple(self._holding.held):
            adapter, entry = self._now(), self._entries().get(own)
            if adapter is None or entry is None or own not in adapter.interfaces:
                continue
            try:
                if not is_taken(adapter, own):
                    continue
                self._tell(SomebodyElses(own))
                self._holding.let_go(own)
                restore_one(entry)
                if entry.lease is None:
                    self._go_in(self._inside(own.network))
                else:
                    self._obtain()
            except (NotPossibleHere, OSError) as trouble:
                self._tell(NotHeld(own, NotPossibleHere(str(trouble))))
        if self._whoever and self.visited.is_device:
            # Another device may be at the end of the cable.
            self._meets_again = True

    def _inside(self, network: IPv4Network) -> IPv4Address | IPv4Network:
        address = self.visited.address
        return address if address is not None and address in network else network

    def _go_in(self, target: IPv4Address | IPv4Network, prefix: int | None = None) -> None:
        adapter = self._now()
        if adapter is None:
            raise NotPossibleHere(f"{self._holding.name} is gone from this computer")
        added = go_in(adapter, target, self._site, self._tell, prefix=prefix)
        if added is not None:
            self._holding.hold(added)

    def _obtain(self) -> Lease | None:
        """Take the address that is handed out, or lengthen its lease. Raises NotPossibleHere."""
        adapter = self._now()
        if adapter is None:
            raise NotPossibleHere(f"{self._holding.name} is gone from this computer")
        offer = best_offer(adapter, False, nobody)
        with changing_addresses():
            matched = match_by_dhcp(adapter, offer, False, True, nobody, visiting=True)
        if matched.lease is not None:
            self._holding.hold(matched.interface)
        return matched.lease

    def _lengthen(self) -> None:
        """Lengthen each lease of which half is over, and ask for a new one where one has ended."""
        now = Moment.now().uptime
        if not self._holding.is_ready or now < self._again_at:
            return
        due = [self._ended] if self._ended is not None else []
        for own, entry in self._entries().items():
            lease = entry.lease
            if lease and lease.seconds is not None and lease.seconds_left < lease.seconds / 2:
                due.append((own, lease))
        for own, lease in due:
            self._again_at = now + max(_RENEW_AGAIN, (lease.seconds or 0) / 10)
            try:
                longer = self._obtain()
            except (NotPossibleHere, OSError):
                longer = None
            self._tell(Leased(own, lease, longer))
            if longer is not None:
                self._ended = None

    async def _beside_the_device(self, over: asyncio.Event) -> None:
        """Keep company with the device for as long as there is one and the cable is in."""
        while not over.is_set():
            if self.visited.is_device and self._holding.is_ready:
                # The adapter may go at any moment; the other half of this visit tells of that.
                with suppress(NotPossibleHere, OSError):
                    if self.visited.mac is None or self._meets_again:
                        await self._meet()
                    else:
                        await self._accompany(over)
            await _first(over, seconds=_MEET_AGAIN if self.visited.mac is None else _GLANCE)

    async def _meet(self) -> None:
        """Learn who answers at the address."""
        before, address, adapter = self.visited.mac, self.visited.address, self._now()
        if address is None or adapter is None:
            return
        macs = sorted(await holders_of(adapter, address))
        if before in macs:
            self._meets_again = False
        elif macs:
            self._meets_again = False
            self._is_with(replace(self.visited, mac=macs[0]))
            if before is None:
                self._tell(Answers(self.visited.name, address, macs[0]))
            else:
                self._tell(AnotherDevice(address, before, macs[0]))

    async def _accompany(self, over: asyncio.Event) -> None:
        """Follow the device on the wire until the cable is out, or it is another's turn."""
        mac, address = self.visited.mac, self.visited.address
        assert mac is not None
        adapter = self._now()
        if adapter is None:
            return
        news: asyncio.Queue[Whereabout] = asyncio.Queue()
        device = Whereabouts(
            self._holding.mac,
            mac,
            () if address is None else (address,),
            self._may_be_at(adapter, mac, address),
            accompanied=True,
        )
        runner = Runner(Pacer())
        with runner.using(AddressLink(adapter.name, NO_CONVERSATIONS)) as link:
            ended = runner.start(device, link, news.put_nowait)
            while not (over.is_set() or ended.is_set() or self._meets_again):
                if not self._holding.is_ready:
                    return
                try:
                    fact = await asyncio.wait_for(news.get(), _GLANCE)
                except TimeoutError:
                    continue
                if await self._heeded(fact, device):
                    return

    async def _heeded(self, fact: Whereabout, device: Whereabouts) -> bool:
        """Take in where the device is; whether it is somewhere else now."""
        visited = self.visited
        assert visited.mac is not None
        if isinstance(fact, At):
            if fact.address == visited.address:
                if self._was_silent:
                    self._was_silent = False
                    self._tell(Answers(visited.name, fact.address, visited.mac))
                return False
            if visited.address is None or not device.is_at(visited.address):
                await self._goes_along(fact.address)
                return True
        elif isinstance(fact, Left) and fact.address == visited.address:
            elsewhere = next(iter(device.there), None)
            if elsewhere is not None:
                await self._goes_along(elsewhere)
                return True
            self._was_silent = True
            self._tell(Silent(visited.name, fact.address))
        elif isinstance(fact, Asks):
            self._tell(AsksNow(visited.name, fact.protocol))
        return False

    async def _goes_along(self, address: IPv4Address) -> None:
        self._was_silent = False
        if self.visited.address is not None:
            self._been_at[self.visited.address] = None
        self._is_with(replace(self.visited, address=address, is_there=False))
        trouble = None
        try:
            await asyncio.to_thread(self._go_in, address)
        except NotPossibleHere as error:
            trouble = error
        self._tell(WentAlong(self.visited.name, address, trouble))
        self._is_with(replace(self.visited, is_there=True))

    def _is_with(self, visited: Visited) -> None:
        self.visited = visited
        # The lines that are typed in it then name the device themselves.
        with suppress(NotPossibleHere):
            write_visit(visited)

    def _may_be_at(
        self, adapter: Adapter, mac: Mac, address: IPv4Address | None
    ) -> Collection[IPv4Address]:
        """Where the device might be when it is silent where it was, the likeliest first."""
        row = _plan(self._site).by_mac(mac)
        near = [own.network for own in adapter.interfaces]
        near += [subnet.network for subnet in self._site.subnets]
        # Whoever types another number mostly changes the last one only.
        near.sort(key=lambda network: address not in network)
        searched = (hosts(each) for each in near if each.num_addresses <= _MOST_SEARCHED)
        own = {each.ip for each in adapter.interfaces}
        choices = chain(
            () if row is None else (row.address,),
            self._been_at,
            self._site.default_addresses(),
            chain.from_iterable(searched),
            self._site.starting,
        )
        wanted = (each for each in choices if each != address and each not in own)
        return list(dict.fromkeys(islice(wanted, _MOST_CANDIDATES)))


def _plan(site: Site) -> Plan:
    from portcall.core.plan.reading import PlanError

    try:
        return site.plan()
    except PlanError:
        return Plan()


async def _first(over: asyncio.Event, *others: asyncio.Event, seconds: float) -> None:
    """Wait until one of these is set, or the time is up."""
    waiting = [asyncio.ensure_future(each.wait()) for each in (over, *others)]
    try:
        await asyncio.wait(waiting, timeout=seconds, return_when=asyncio.FIRST_COMPLETED)
    finally:
        for each in waiting:
            each.cancel()
