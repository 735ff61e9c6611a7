"""Asking one device over TCP how its own interface is set: address, mask, gateway.

CIP volume 2 §5-4.3.2.5. Two requests: a session, then the attribute in it.
"""

from __future__ import annotations

from portcall.core.conversation import Actions, Conversation, Report, Send, StreamBytes
from portcall.core.wire import cip, cip_message
from portcall.core.wire.cip_message import InterfaceConfiguration
from portcall.core.wire.octets import Malformed

ANSWER_WAIT = 1.0
"""Seconds for each answer."""


class AskInterface(Conversation[StreamBytes, InterfaceConfiguration]):
    """Over an open connection; over when it is known, refused or too late."""

    def __init__(self) -> None:
        self._received = b""

    def begin(self, now: float) -> Actions[StreamBytes, InterfaceConfiguration]:
        """Ask for a session."""
        self.wake_at = now + ANSWER_WAIT
        yield Send(StreamBytes(cip_message.register_session()))

    def woke(self, now: float) -> Actions[StreamBytes, InterfaceConfiguration]:
        """No answer in time."""
        self._end()
        yield from ()

    def heard(
        self, packet: StreamBytes, now: float
    ) -> Actions[StreamBytes, InterfaceConfiguration]:
        """Gather whole messages, and take the next step with each."""
        self._received += packet.data
        try:
            if not packet.data:
                self._end()
            while not self.over and len(self._received) >= cip.HEADER_LENGTH:
                length = cip.whole_length(self._received[: cip.HEADER_LENGTH])
                if len(self._received) < length:
                    return
                message = cip.parse(self._received[:length])
                self._received = self._received[length:]
                yield from self._step(message, now)
        except Malformed:
            self._end()

    def _step(
        self, message: cip.Encapsulation, now: float
    ) -> Actions[StreamBytes, InterfaceConfiguration]:
        if message.command == cip_message.REGISTER_SESSION and message.status == 0:
            self.wake_at = now + ANSWER_WAIT
            request = cip_message.AttributeRequest(
                cip_message.TCP_IP_INTERFACE, 1, cip_message.INTERFACE_CONFIGURATION
            )
            data = cip_message.encode_request(request)
            yield Send(StreamBytes(cip_message.encode_unconnected(message.session, data)))
            return
        self._end()
        response = cip_message.parse_response(cip_message.parse_unconnected(message))
        if response.status == cip_message.SUCCESS:
            yield Report(cip_message.parse_configuration(response.data))

    def _end(self) -> None:
        self.over = True
        self.wake_at = None
