"""A runner that keeps its pace on an adapter, over whatever else leaves there."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import ExitStack, closing, contextmanager, suppress

from portcall.core.talk.pacer import BURST_SECONDS, Pace, Pacer, Shares, sustained
from portcall.host.meter import Meter
from portcall.host.runner import Runner


@contextmanager
def paced(
    adapter: str, pace: Pace | None, burst_seconds: float = BURST_SECONDS
) -> Iterator[Runner]:
    """A runner that keeps a pace on an adapter, in all three parts; None: as fast as it goes.

    What the kernel sends there on its own is counted, too, where that is allowed (CAP_NET_RAW).
    Whatever goes on at the same time shares one such runner: two would make twice the pace.
    """
    with ExitStack() as stack:
        runner = Runner(pacer=None)
        if pace is not None:
            runner.pacer = Pacer(sustained(pace.in_all), burst_seconds=burst_seconds)
            runner.shares = Shares(pace)
            with suppress(OSError):
                runner.heed(stack.enter_context(closing(Meter(adapter))))
                # The meter is closed before the last queued packets would be sent.
                stack.callback(runner.heed, None)
        yield runner
