"""Serving addresses on one adapter, and noticing what gets in the way of it meanwhile."""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Iterable, Iterator
from contextlib import ExitStack, closing, contextmanager
from ipaddress import IPv4Interface

from portcall.core.adapters.adapter import Adapter
from portcall.core.adapters.adapter_watch import AdapterChange, ChangeKind
from portcall.core.assign import sentences as say
from portcall.core.assign.event import Event, EventKind
from portcall.core.assign.lookout import Lookout, Offer
from portcall.core.assign.server import AddressServer
from portcall.core.plan.rows import Plan
from portcall.core.trouble import NotPossibleHere
from portcall.core.wire import bootp
from portcall.host.adapter_watch import watch_adapters
from portcall.host.address_link import AddressLink
from portcall.host.datagrams import Datagrams
from portcall.host.filters import ADDRESSING
from portcall.host.firewall import keeps_out
from portcall.host.runner import Runner, rare_collections
from portcall.site.turns import turn

_TOLD_OF = (ChangeKind.LINK_LOST, ChangeKind.LINK_BACK, ChangeKind.FLAPPING)


class Service:
    """An address server at work on an adapter; ``serving`` makes one.

    ``ends`` are those of its conversations: one that comes by itself brings an exception.
    """

    def __init__(
        self,
        runner: Runner,
        server: AddressServer,
        link: AddressLink,
        report: Callable[[Event], None],
        own: Iterable[IPv4Interface],
    ) -> None:
        self.server = server
        self._runner = runner
        self._own = [each.ip for each in own]
        self._link = link
        self._report = report
        self.ends = [runner.start(server, link, report)]

    def change(self, plan: Plan, others: Plan) -> None:
        """From now on serve another plan, and leave the others alone."""
        now = asyncio.get_running_loop().time()
        self._runner.tell(self.server, self.server.change(plan, others, now))

    def stop(self) -> None:
        """Send nothing more, also nothing that waits to be sent."""
        self._runner.drop(self._link)

    def look_out(self, xid: int, known: tuple[Offer, ...]) -> None:
        """Report DHCP servers that appear; those ``known`` have been told of."""
        told = {offer.server for offer in known}

        def offered(offer: Offer) -> None:
            if offer.server not in told:
                told.add(offer.server)
                mac, address = offer.server_mac, offer.server
                other = say.ANOTHER_SERVER(server=address, server_mac=mac)
                self._report(Event(EventKind.NOTICE, mac, address=address, told=other))

        lookout = Lookout(self._link.mac, xid, lasting=True, serving=self._own)
        self.ends.append(self._runner.start(lookout, self._link, offered))


@contextmanager
def serving(
    adapter: Adapter, server: AddressServer, report: Callable[[Event], None]
) -> Iterator[Service]:
    """Answer requests while the block runs. Raises NotPossibleHere.

    The UDP port is held while the server's own frames do the talking: it tells that another
    program has it, and keeps the kernel from answering requests with "port unreachable". There is
    no pace: every answer was asked for, and a plant that powers up must not be kept waiting.
    """
    runner = Runner(pacer=None)
    with ExitStack() as stack:
        stack.enter_context(
            turn(f"assign-{adapter.name}", f"is assigning addresses on {adapter.name} already")
        )
        stack.enter_context(rare_collections())
        link = stack.enter_context(runner.using(AddressLink(adapter.name, ADDRESSING)))
        if link.hears_all:
            stack.enter_context(closing(Datagrams(adapter.name, bootp.SERVER_PORT)))
        elif (kept_out := keeps_out(bootp.SERVER_PORT)) is not None:
            told = say.FIREWALL(told=kept_out)
            report(Event(EventKind.NOTICE, None, told=told))
        yield Service(runner, server, link, report, adapter.interfaces)


async def watch_link(
    adapter: Adapter, report: Callable[[Event], None], stop: asyncio.Event
) -> None:
    """Report the adapter's link going and coming. Raises NotPossibleHere when no adapter has this
    name any more.

    Frames are heard again when the link is back; when the adapter was pulled out of the computer,
    its addresses are gone, too.
    """
    gone = asyncio.Event()

    def changed(change: AdapterChange) -> None:
        if change.adapter.index != adapter.index:
            return
        if change.kind in (ChangeKind.VANISHED, ChangeKind.RENAMED):
            gone.set()
            stop.set()
        elif change.kind in _TOLD_OF:
            link = say.LINK(adapter=adapter.name, happened=change.kind, detail=change.detail)
            report(Event(EventKind.NOTICE, None, told=link))

    await watch_adapters(changed, stop)
    if gone.is_set():
        raise NotPossibleHere(f"{adapter.name} is gone", "plug it in, match, and assign again")
