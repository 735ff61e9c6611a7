"""Setting something at one DCP station (IEC 61158-6-10 §4.3, service Set)."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from portcall.core.address import Mac
from portcall.core.talk.conversation import Actions, Conversation, Frame, Report, Send
from portcall.core.wire import dcp
from portcall.core.wire.octets import Malformed

ANSWER_WAIT = 1.0
"""Seconds to wait for an answer.

The standard allows 400 ms; writing to flash memory takes some devices longer.
"""

ATTEMPTS = 3
"""A request may be repeated after a lost answer: setting the same value again changes nothing."""


@dataclass(frozen=True, slots=True)
class SetAnswer:
    """The answer about each option: 0 for done, else its BlockError; None for silence."""

    errors: Mapping[tuple[int, int], int] | None


class DcpSet(Conversation[Frame, SetAnswer]):
    """Asks up to three times; reports one answer, and is over."""

    def __init__(self, own_mac: Mac, station: Mac, xid: int, blocks: tuple[dcp.Block, ...]) -> None:
        self._own_mac = own_mac
        self._station = station
        self._xid = xid
        self._frame = Frame(dcp.encode_set_request(own_mac, station, xid, blocks))
        self._attempts = 0

    def begin(self, now: float) -> Actions[Frame, SetAnswer]:
        """Ask."""
        yield from self.woke(now)

    def woke(self, now: float) -> Actions[Frame, SetAnswer]:
        """No answer: ask again, or give up."""
        if self._attempts == ATTEMPTS:
            yield from self._end(SetAnswer(None))
            return
        self._attempts += 1
        self.wake_at = now + ANSWER_WAIT
        yield Send(self._frame)

    def heard(self, packet: Frame, now: float) -> Actions[Frame, SetAnswer]:
        """Take the answer of the station that was asked, to this question."""
        if self.over:
            return
        try:
            sender, message = dcp.parse_frame(packet.data)
            ours = (
                sender == self._station
                and message.service is dcp.Service.SET
                and message.service_type != dcp.REQUEST
                and message.xid == self._xid
            )
            if not ours:
                return
            answer = SetAnswer(dcp.parse_set_errors(message))
        except Malformed:
            return
        yield from self._end(answer)

    def _end(self, answer: SetAnswer) -> Actions[Frame, SetAnswer]:
        self.over = True
        self.wake_at = None
        yield Report(answer)
