"""Driving conversations with made-up times: a clock that jumps, a wire without a kernel."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from portcall.core.talk.conversation import Conversation, Report, Send, SendEach


@dataclass(eq=False)
class Party:
    """A conversation, what it sent (with times) and what it reported."""

    conversation: Conversation[Any, Any]
    sent: list[tuple[float, Any]] = field(default_factory=list)
    facts: list[Any] = field(default_factory=list)

    @property
    def packets(self) -> list[Any]:
        return [packet for _, packet in self.sent]


class Wire:
    """Everyone hears what everyone else sends, at once; time passes only in ``pass_time``.

    ``lose`` may swallow packets; ``gap`` is the time a packet takes to leave.
    """

    def __init__(self, lose: Callable[[Any], bool] = lambda packet: False, gap: float = 0) -> None:
        self.now = 0.0
        self.parties: list[Party] = []
        self.lose = lose
        self.gap = gap

    def join(self, conversation: Conversation[Any, Any]) -> Party:
        party = Party(conversation)
        self.parties.append(party)
        self._carry_out(party, conversation.begin(self.now))
        return party

    def say(self, packet: Any) -> None:
        """A packet from somebody who is not a party."""
        for party in self.parties:
            self._hear(party, packet)

    def pass_time(self, seconds: float) -> None:
        """Wake everyone who wants to be woken, in order, until the time has passed."""
        end = self.now + seconds
        while True:
            due = [p for p in self.parties if p.conversation.wake_at is not None]
            first = min(due, key=lambda p: p.conversation.wake_at, default=None)
            if first is None or first.conversation.wake_at > end:
                break
            self.now = max(self.now, first.conversation.wake_at)
            self._carry_out(first, first.conversation.woke(self.now))
        self.now = max(self.now, end)

    def _hear(self, party: Party, packet: Any) -> None:
        if not party.conversation.over:
            self._carry_out(party, party.conversation.heard(packet, self.now))

    def _carry_out(self, party: Party, actions: Any) -> None:
        # As the runner does: facts at once, packets when the conversation has finished speaking.
        queue = self._facts_apart(party, actions)
        while queue:
            action = queue.pop(0)
            if isinstance(action, Send):
                packet = action.packet
            else:
                packet = next(action.packets, None)
                if packet is None:
                    queue += self._facts_apart(party, party.conversation.all_left(self.now))
                    continue
                queue.append(action)
            self.now += self.gap
            party.sent.append((self.now, packet))
            queue += self._facts_apart(party, party.conversation.left(packet, self.now))
            if not self.lose(packet):
                for other in self.parties:
                    if other is not party:
                        self._hear(other, packet)

    def _facts_apart(self, party: Party, actions: Any) -> list[Send[Any] | SendEach[Any]]:
        sends = []
        for action in actions:
            if isinstance(action, Report):
                party.facts.append(action.fact)
            else:
                sends.append(action)
        return sends


def alone(conversation: Conversation[Any, Any], gap: float = 0) -> tuple[Wire, Party]:
    wire = Wire(gap=gap)
    return wire, wire.join(conversation)
