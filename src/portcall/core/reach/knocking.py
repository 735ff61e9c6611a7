"""Attempts to connect to doors, timed like echoes: opened, refused and silent told apart."""

from __future__ import annotations

from collections.abc import Sequence

from portcall.core.reach.echo_facts import Fact, Replied, Unanswered
from portcall.core.reach.rounds import Rounds
from portcall.core.talk.conversation import Actions, Endpoint, Report
from portcall.core.talk.door_knock import DoorState, Knock

REFUSED = "refused"
SILENT = "silent"


class Knocking(Rounds[Knock, Endpoint]):
    """Rounds of one attempt at each door; one that is still under way is not tried twice."""

    def __init__(
        self, doors: Sequence[Endpoint], count: int | None, interval: float, wait: float
    ) -> None:
        super().__init__(doors, count, interval, wait)
        self._under_way: dict[Endpoint, int] = {}

    def question(self, target: Endpoint) -> Knock | None:
        """An attempt, unless one is under way."""
        if target in self._under_way:
            return None
        self._under_way[target] = self.round
        return Knock(target)

    def asked(self, packet: Knock) -> Endpoint:
        """The door."""
        return packet.door

    def unsent(self, packet: Knock, reason: str, now: float) -> Actions[Knock, Fact]:
        """The attempt could not be made."""
        self._under_way.pop(packet.door, None)
        yield from super().unsent(packet, reason, now)

    def heard(self, packet: Knock, now: float) -> Actions[Knock, Fact]:
        """How an attempt ended."""
        door, state = packet
        if state is not DoorState.CLOSED:
            number = self._under_way.pop(door, -1)
            waiting = self._settled(door, number)
            if waiting is not None and state is DoorState.OPEN:
                yield Report(Replied(door, number, max(now - waiting.sent, 0.0), at=waiting.sent))
            elif waiting is not None:
                reason = REFUSED if state is DoorState.REFUSED else SILENT
                yield Report(Unanswered(door, number, reason, at=waiting.sent))
        self._plan_wake()

    def woke(self, now: float) -> Actions[Knock, Fact]:
        """Give up on what is overdue; the medium is to be told of it, by who takes the report."""
        for action in super().woke(now):
            if isinstance(action, Report) and isinstance(action.fact, Unanswered):
                fact = action.fact
                assert isinstance(fact.target, Endpoint)
                self._under_way.pop(fact.target, None)
                yield Report(fact._replace(reason=SILENT))
            else:
                yield action
