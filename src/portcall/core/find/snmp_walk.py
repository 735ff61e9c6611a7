"""Reading columns of SNMP tables: by version 2c many values at once, by version 1 one.

RFC 3416 §4.2.2 and §4.2.3: whoever asks for what follows an object gets the next row of a column,
or, behind the last one, something else.
"""

from __future__ import annotations

from collections.abc import Generator, Mapping
from ipaddress import IPv4Address
from typing import TypeAlias, TypeVar

from portcall.core.find.snmp_system import DEFAULT_COMMUNITY
from portcall.core.talk.conversation import (
    Actions,
    Conversation,
    Datagram,
    Endpoint,
    Report,
    Send,
)
from portcall.core.wire import snmp
from portcall.core.wire.octets import Malformed
from portcall.core.wire.snmp import Value, Version

_AT_ONCE = 24
"""Values of one answer: some 1,000 octets."""

MOST_ROWS = 2048
"""Rows of one column that are read: a switch of a whole site knows more MACs than a line has."""

_MOST_QUESTIONS = 240
"""At the pace to one device that is some ten seconds."""

_ANSWER_WAIT = 1.0
_ATTEMPTS = 2

F = TypeVar("F")
T = TypeVar("T")

Rows: TypeAlias = Mapping[str, Value]
"""The values of a column by what follows its name."""

Asking: TypeAlias = Generator[str, Mapping[str, Value] | None, T]
"""A part of a reading, to be used with ``yield from``: yields what is asked for, gets values."""

Reading: TypeAlias = Asking[F | None]
"""A whole one: ends with what the tables come to, or None where the device has none."""


class Walk(Conversation[Datagram, F]):
    """Read tables of one device, one question at a time; it ends with at most one report.

    Version 2c, which gives many values at once; who is silent to that is asked by version 1, which
    gives one.
    """

    def __init__(
        self, address: IPv4Address, script: Reading[F], community: str = DEFAULT_COMMUNITY
    ) -> None:
        self._peer = Endpoint(address, snmp.PORT)
        self._community = community.encode()
        self._version = Version.V2C
        self._number = 0
        self._attempts = 0
        self._answered = False
        self._script = script
        self._after = next(script)

    def begin(self, now: float) -> Actions[Datagram, F]:
        """The first question."""
        yield self._ask()

    def left(self, packet: Datagram, now: float) -> Actions[Datagram, F]:
        """The question has left: wait for the answer."""
        if not self.over:
            self.wake_at = now + _ANSWER_WAIT
        yield from ()

    def heard(self, packet: Datagram, now: float) -> Actions[Datagram, F]:
        """Take the answer to the last question."""
        if self.over or packet.peer != self._peer:
            return
        if packet.refused:
            self._end()
            return
        try:
            number, values = _answer(packet.payload)
        except Malformed:
            return
        if number == self._number:
            self._answered = True
            yield from self._go_on(values)

    def woke(self, now: float) -> Actions[Datagram, F]:
        """No answer: once more, by the older version, or no more."""
        if self._attempts < _ATTEMPTS:
            yield self._ask()
        elif not self._answered and self._version is Version.V2C:
            self._version, self._attempts = Version.V1, 0
            yield self._ask()
        else:
            yield from self._go_on(None)

    def _go_on(self, values: Mapping[str, Value] | None) -> Actions[Datagram, F]:
        self.wake_at = None
        self._attempts = 0
        if self._number >= _MOST_QUESTIONS:
            values = None
        try:
            self._after = self._script.send(values)
            while values is None:
                # Do not wait for a silent switch at each of the other columns, too.
                self._after = self._script.send(None)
        except StopIteration as end:
            self._end()
            if end.value is not None:
                yield Report(end.value)
            return
        yield self._ask()

    def _ask(self) -> Send[Datagram]:
        self._number += 1
        self._attempts += 1
        bulk = self._version is Version.V2C
        message = snmp.SnmpMessage(
            self._version,
            self._community,
            self._number,
            {self._after: None},
            repetitions=_AT_ONCE if bulk else 0,
        )
        encode = snmp.encode_get_bulk if bulk else snmp.encode_get_next
        return Send(Datagram(self._peer, encode(message)))

    def _end(self) -> None:
        self.over = True
        self.wake_at = None


def _answer(payload: bytes) -> tuple[int, Mapping[str, Value]]:
    """The number of an answer, and its values: none where it says that nothing follows.

    Raises Malformed.
    """
    try:
        message = snmp.parse(payload)
    except Malformed:
        return snmp.parse_error(payload), {}
    return message.request, message.values


def column(name: str) -> Asking[tuple[Rows, bool]]:
    """The rows of a column by what follows its name, and whether these are all of them."""
    rows: dict[str, Value] = {}
    after = name
    while len(rows) < MOST_ROWS:
        found = yield after
        if found is None:
            return rows, False
        for key, value in found.items():
            if not key.startswith(f"{name}.") or value is None or not _follows(key, after):
                return rows, True
            rows[key.removeprefix(f"{name}.")] = value
            after = key
        if not found:
            return rows, True
    return rows, False


def single(name: str) -> Asking[bytes]:
    """The octets of an object that a device has once, or none; one question, whatever it answers.

    What is no switch may answer any question with something else that it has.
    """
    found = yield name
    value = (found or {}).get(f"{name}.0")
    return value if isinstance(value, bytes) else b""


def _follows(key: str, before: str) -> bool:
    """Whether an object comes after another one: who goes back would lead in a circle."""
    return numbers(key) > numbers(before)


def numbers(key: str) -> tuple[int, ...]:
    """An object identifier as numbers, which have an order."""
    return tuple(map(int, key.split(".")))
