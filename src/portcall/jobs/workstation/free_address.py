"""Which of some addresses is free, by probing them on the wire."""

from __future__ import annotations

import secrets
from collections.abc import Callable, Iterator, Sequence
from contextlib import closing
from ipaddress import IPv4Address
from itertools import islice
from time import monotonic
from typing import TYPE_CHECKING

from portcall.core.adapters.adapter import Adapter
from portcall.core.talk.conversation import Send
from portcall.core.talk.probe import AddressProbe, Taken
from portcall.host.link import Link

if TYPE_CHECKING:
    from portcall.core.assign.lookout import Offer

_SIDE_BY_SIDE = 2
"""Candidates probed at once: a taken one then costs no extra wait."""


def first_free(
    adapter: Adapter,
    candidates: Iterator[IPv4Address],
    taken: Callable[[Taken], None],
    offered: Callable[[Offer], None] | None = None,
) -> IPv4Address | None:
    """The first candidate that nobody answers for; None when there is none left.

    ``taken`` is called for each candidate that somebody has; ``offered`` for each that a DHCP
    server offers meanwhile, which is asked for only then.
    """
    assert adapter.mac is not None
    while batch := list(islice(candidates, _SIDE_BY_SIDE)):
        probes = [AddressProbe(adapter.mac, address) for address in batch]
        with closing(Link(adapter.name)) as link:
            for probe in probes:
                for action in probe.begin(monotonic()):
                    if isinstance(action, Send):
                        link.send(action.packet)
            # The first probes are out and the wait has begun: what is still to be loaded of this
            # program, a tenth of a second, is loaded within it.
            import asyncio

            free = asyncio.run(_wait(link, probes, taken, offered))
        best = next((address for address in batch if address in free), None)
        if best is not None:
            return best
    return None


async def _wait(
    link: Link,
    probes: Sequence[AddressProbe],
    taken: Callable[[Taken], None],
    offered: Callable[[Offer], None] | None,
) -> set[IPv4Address]:
    from portcall.core.assign.lookout import Lookout
    from portcall.core.talk.pacer import Pacer
    from portcall.host.runner import Runner
    from portcall.jobs.look.holders import free_among

    runner = Runner(Pacer())
    with runner.using(link):
        if offered is not None:
            runner.start(Lookout(link.mac, secrets.randbits(32)), link, offered)
        return await free_among(runner, link, probes, taken, begun=True)
