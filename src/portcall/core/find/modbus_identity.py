"""Identifying by Modbus TCP: device identification (43/14), or else the server ID (17)."""

from __future__ import annotations

from collections.abc import Generator, Iterator, Mapping
from enum import Enum, auto
from itertools import count
from typing import NamedTuple, TypeAlias

from portcall.core.find import sentences as say
from portcall.core.find.protocol import Behind, Protocol
from portcall.core.find.sighting import Field, Learnt, Method, Told, said_by
from portcall.core.printable import NO_TEXT, DeviceText, decoded
from portcall.core.talk.dialogue import Exchange, Script
from portcall.core.wire import modbus
from portcall.core.wire.modbus import Identification, ModbusMessage, ObjectId, ReadCode
from portcall.core.wire.octets import Malformed

OWN_UNIT = 255
"""Messaging on TCP/IP §4.4.2.3: the device itself."""

USUAL_UNITS = (1, 2, 3, 247)
"""Behind a gateway: most lines begin with 1, and some gateways have the last one alone."""

ANSWER_WAIT = 5.0
"""Seconds. A gateway waits itself for the serial line: two seconds for a unit that is not there.

A question that is asked before the last one is answered waits in the gateway, on a line that a
plant may be polling.
"""

_MOST_SILENCES = 2

_MOST_PARTS = 4
_FIELDS = {
    ObjectId.VENDOR_NAME: Field.MAKER,
    ObjectId.PRODUCT_CODE: Field.PRODUCT,
    ObjectId.REVISION: Field.FIRMWARE,
    ObjectId.PRODUCT_NAME: Field.PRODUCT,
    ObjectId.MODEL_NAME: Field.KIND,
    ObjectId.APPLICATION_NAME: Field.NAME,
}


class UnitKind(Enum):
    """The kinds of answers of a unit that is asked for its identity."""

    NAMED = auto()
    NAMELESS = auto()
    """It answers, and does not say."""
    ABSENT = auto()
    """A gateway says that nobody answers there."""
    SILENT = auto()


class UnitSaid(NamedTuple):
    """What a unit said of itself."""

    kind: UnitKind
    said: tuple[tuple[Field, DeviceText], ...] = ()
    exception: int | None = None
    """What a gateway refused with."""
    answer: bytes = b""
    """What it said to a question for a register: two that say the same may be one."""

    @property
    def is_there(self) -> bool:
        """Whether it answers."""
        return self.kind in (UnitKind.NAMED, UnitKind.NAMELESS)


Part: TypeAlias = Generator[Exchange, bytes | None, UnitSaid]


def script() -> Script[Learnt]:
    """Ask the device itself; where it does not say who it is, one unit behind it that is there.

    Who else is behind it is asked on request only (``inside.units``): each unit that is not there
    holds the serial line, on which a plant may be polling, until the gateway gives it up.
    """
    numbers = count(1)
    own = yield from ask_unit(OWN_UNIT, numbers)
    silences = int(own.kind is UnitKind.SILENT)
    found: tuple[int, UnitSaid] | None = None
    for unit in USUAL_UNITS if own.kind is not UnitKind.NAMED else ():
        told = yield from ask_unit(unit, numbers)
        silences += told.kind is UnitKind.SILENT
        if told.is_there:
            found = unit, told
        if found is not None or silences == _MOST_SILENCES:
            break
    yield Learnt(said_by(Method.MODBUS, *_together(own, found)))


def ask_unit(unit: int, numbers: Iterator[int], rest: float = 0.0) -> Part:
    """Ask one unit: device identification (43/14), or else the server ID (17).

    ``rest`` is how long the line is left alone before each question (``Exchange``).
    """
    objects: dict[int, bytes] = {}
    for code in (ReadCode.BASIC, ReadCode.REGULAR):
        first: int | None = 0 if code is ReadCode.BASIC else ObjectId.VENDOR_URL
        for _ in range(_MOST_PARTS):
            if first is None:
                break
            pdu = modbus.encode_identification_request(code, first)
            reply = yield exchange(ModbusMessage(next(numbers), unit, pdu), rest)
            kind = without_answer(reply)
            if kind is not None and not objects:
                return UnitSaid(kind, exception=modbus.parse(reply).exception if reply else None)
            said = _identification(reply)
            if said is None:
                break
            objects.update(said.objects)
            first = said.next_object
        if not objects:
            break
    if objects:
        return UnitSaid(UnitKind.NAMED, _fields(objects))
    pdu = bytes((modbus.REPORT_SERVER_ID,))
    reply = yield exchange(ModbusMessage(next(numbers), unit, pdu), rest)
    text = _server_id(reply)
    if text:
        return UnitSaid(UnitKind.NAMED, ((Field.DESCRIPTION, text),))
    return UnitSaid(UnitKind.NAMELESS)


def _together(
    own: UnitSaid, found: tuple[int, UnitSaid] | None
) -> Iterator[tuple[Field, Told | None]]:
    """The values of the device, or else those of the unit that was ``found`` behind it."""
    yield from own.said
    unit, behind = found if found is not None else (0, UnitSaid(UnitKind.ABSENT))
    if behind.kind is UnitKind.NAMED:
        yield from behind.said
        yield Field.MANNER, say.MODBUS_AS_UNIT(unit=unit)
    elif own.kind is UnitKind.NAMELESS:
        yield Field.MANNER, say.MODBUS_NAMELESS()
    elif behind.kind is UnitKind.NAMELESS:
        yield Field.MANNER, say.MODBUS_UNITS_NAMELESS(several=False, units=[unit])
    elif own.kind is UnitKind.ABSENT:
        yield Field.MANNER, say.MODBUS_GATEWAY()
    elif own.kind is UnitKind.SILENT:
        yield Field.MANNER, say.MODBUS_SILENT()


def exchange(message: ModbusMessage, rest: float = 0.0) -> Exchange:
    """A question to a unit, and how long its answer is waited for."""
    request = modbus.encode(message)
    return Exchange(
        request,
        modbus.whole_length,
        modbus.is_answer,
        wait=ANSWER_WAIT,
        rest=rest,
        times=lambda reply: message.unit != OWN_UNIT and without_answer(reply) is None,
    )


def without_answer(reply: bytes | None) -> UnitKind | None:
    """Why there is nothing to read in a reply, or None."""
    if reply is None:
        return UnitKind.SILENT
    refused = modbus.parse(reply).exception in modbus.GATEWAY_REFUSALS
    return UnitKind.ABSENT if refused else None


def pdu_of(reply: bytes | None) -> bytes | None:
    """The PDU of an answer that is no refusal."""
    if reply is None:
        return None
    message = modbus.parse(reply)
    return None if message.exception is not None else message.pdu


def _identification(reply: bytes | None) -> Identification | None:
    pdu = pdu_of(reply)
    if pdu is None:
        return None
    try:
        return modbus.parse_identification(pdu)
    except Malformed:
        return None


def _server_id(reply: bytes | None) -> DeviceText:
    pdu = pdu_of(reply)
    try:
        return NO_TEXT if pdu is None else decoded(modbus.parse_server_id(pdu))
    except Malformed:
        return NO_TEXT


def _fields(objects: Mapping[int, bytes]) -> tuple[tuple[Field, DeviceText], ...]:
    found: dict[Field, DeviceText] = {}
    for number, field in _FIELDS.items():
        value = decoded(objects.get(number, b""))
        if value:
            # Later lines of the table describe the device better: a product's name rather than its
            # code.
            found[field] = value
    return tuple(found.items())


_FIRST = ModbusMessage(1, 1, modbus.encode_identification_request(ReadCode.BASIC))

PROTOCOL = Protocol(
    Method.MODBUS,
    "Modbus",
    13,
    doors={
        modbus.PORT: Behind(lambda door, is_known: (script,), modbus.encode(_FIRST), modbus.parse)
    },
)
