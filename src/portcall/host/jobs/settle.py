"""Which of some addresses is free, by probing them on the wire."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import ExitStack, closing
from ipaddress import IPv4Address
from itertools import islice

from portcall.core.adapter import Adapter
from portcall.core.pacer import Pacer
from portcall.core.probe import AddressProbe, Free, Taken
from portcall.host.link import Link
from portcall.host.runner import Runner

_SIDE_BY_SIDE = 2
"""Candidates probed at once: a taken one then costs no extra wait."""


async def first_free(
    adapter: Adapter,
    candidates: Iterator[IPv4Address],
    taken: Callable[[Taken], None],
) -> IPv4Address | None:
    """The first candidate that nobody answers for; None when there is none left.

    ``taken`` is called for each candidate that somebody has.
    """
    assert adapter.mac is not None
    with ExitStack() as stack:
        link = stack.enter_context(closing(Link(adapter.name)))
        runner = Runner(Pacer())
        stack.callback(runner.drop, link)
        while batch := list(islice(candidates, _SIDE_BY_SIDE)):
            free: set[IPv4Address] = set()

            def report(fact: Free | Taken, free: set[IPv4Address] = free) -> None:
                if isinstance(fact, Taken):
                    taken(fact)
                else:
                    free.add(fact.address)

            ends = [
                runner.start(AddressProbe(adapter.mac, address), link, report) for address in batch
            ]
            for end in ends:
                await end.wait()
            best = next((address for address in batch if address in free), None)
            if best is not None:
                return best
    return None
