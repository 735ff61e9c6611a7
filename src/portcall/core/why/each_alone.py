"""Asking each of several MACs that have one address alone, and noting which of them answers.

Two devices answer each by itself. One device with two plugs on a wire answers ARP by both, and
sends what it answers by one of them, whichever was asked.
"""

from __future__ import annotations

from collections.abc import Sequence
from ipaddress import IPv4Address

from portcall.core.address import Mac
from portcall.core.talk.conversation import Actions, Conversation, Frame, Send
from portcall.core.talk.frames import answers_echo, echo_request
from portcall.core.wire.ethernet import SENDER

_EVERY = 0.6
"""Seconds for one to answer, before the next is asked."""

_MOST = 4


class EachAlone(Conversation[Frame, None]):
    """Sends an echo to each MAC in turn; ``answers`` are who answered which. Reports nothing."""

    def __init__(
        self, own_mac: Mac, own: IPv4Address, address: IPv4Address, macs: Sequence[Mac]
    ) -> None:
        self._asking = [(mac, echo_request(own_mac, mac, own, address)) for mac in macs[:_MOST]]
        self._address = address
        self._asked: Mac | None = None
        self.answers: dict[Mac, Mac] = {}

    def begin(self, now: float) -> Actions[Frame, None]:
        """Ask the first."""
        yield from self.woke(now)

    def woke(self, now: float) -> Actions[Frame, None]:
        """Ask the next, or end."""
        if not self._asking:
            self.over, self.wake_at = True, None
            return
        self._asked, frame = self._asking.pop(0)
        self.wake_at = now + _EVERY
        yield Send(frame)

    def heard(self, packet: Frame, now: float) -> Actions[Frame, None]:
        """Note whose plug an answer left by."""
        if self._asked is not None and answers_echo(packet) == self._address:
            self.answers.setdefault(self._asked, Mac(packet.data[SENDER]))
        return ()
