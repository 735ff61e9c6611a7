"""The Modbus units behind a gateway, one question at a time.

A plant may be polling the serial line behind the gateway. So there is one connection, one question
in it, and after each answer the line is left alone for several times as long as that took.
"""

from __future__ import annotations

from collections.abc import Generator, Iterable, Iterator, Mapping, Sequence
from itertools import count
from typing import NamedTuple, TypeAlias, TypeVar

from portcall.core.catalog.registers import Description, Meaning, Register, of_product
from portcall.core.find import sentences as say
from portcall.core.find.modbus_identity import (
    OWN_UNIT,
    UnitKind,
    UnitSaid,
    ask_unit,
    exchange,
    pdu_of,
    without_answer,
)
from portcall.core.find.sighting import Field, FoundPart, Method, PartState, said_by
from portcall.core.finding import Finding
from portcall.core.part_path import TOP, PartKind
from portcall.core.printable import DeviceText, told_by_others
from portcall.core.talk.dialogue import Exchange, Script
from portcall.core.wire import modbus
from portcall.core.wire.modbus import ModbusMessage
from portcall.core.wire.octets import Malformed

REST = 6.0
"""Who polls the line without a pause is slowed by a sixth at most."""

_ENOUGH_ALIKE = 3
"""Units that answer as the device itself does, after which it is one that heeds no number."""

_MOST_RECOGNISED = 8
"""Descriptions that are tried for a unit that does not say what it is."""

_T = TypeVar("_T")
_Part: TypeAlias = Generator[Exchange, bytes | None, _T]
_Said: TypeAlias = tuple[tuple[Field, DeviceText], ...]

_STATES = {
    UnitKind.NAMED: PartState.THERE,
    UnitKind.NAMELESS: PartState.THERE,
    UnitKind.ABSENT: PartState.NOT_THERE,
    UnitKind.SILENT: PartState.SILENT,
}

_FIELDS = {
    Meaning.MODEL: Field.PRODUCT,
    Meaning.SERIAL: Field.SERIAL,
    Meaning.FIRMWARE: Field.FIRMWARE,
    Meaning.BATTERY: Field.BATTERY,
    Meaning.STATION: Field.STATION,
}


def units_script(
    units: Iterable[int],
    descriptions: Sequence[Description] = (),
    planned: Mapping[int, str] | None = None,
    rest: float = REST,
) -> Script[FoundPart]:
    """Ask each unit who it is, and tell of every one, those that do not answer among them.

    ``planned`` are the products that units should be: which description is read is known by what
    the unit says, else by that, else by the register that tells the product.
    """
    numbers = count(1)
    own = yield from _who(OWN_UNIT, numbers, rest)
    others = False
    alike = 0
    for unit in units:
        told = yield from _who(unit, numbers, rest)
        said = told.said
        if told.is_there and told == own:
            evidence = say.UNIT_OF_ITSELF(unit=unit)
            path = TOP.below(PartKind.UNIT, unit)
            said_here = said_by(Method.MODBUS, *said)
            yield FoundPart(path, PartState.ITSELF, Method.MODBUS, said_here, evidence=evidence)
            alike += 1
            if alike == _ENOUGH_ALIKE and not others:
                return
            continue
        others = True
        if told.is_there:
            own_word = _product(said)
            product = own_word or (planned or {}).get(unit, "")
            asking = _Asking(unit, numbers, rest)
            said += yield from _described(descriptions, product, bool(own_word), asking)
        yield FoundPart(
            TOP.below(PartKind.UNIT, unit),
            _STATES[told.kind],
            Method.MODBUS,
            said_by(Method.MODBUS, *said),
            evidence=_evidence(unit, told, bool(said)),
        )


def _who(unit: int, numbers: Iterator[int], rest: float) -> _Part[UnitSaid]:
    """Whether a unit is there, by a register that it may refuse, and then who it is.

    Many instruments leave a question for their identity without an answer, which a gateway cannot
    tell from an instrument that is not there. To read registers, all have learnt.
    """
    first = ModbusMessage(next(numbers), unit, modbus.encode_read(modbus.READ_HOLDING, 0, 1))
    reply = yield exchange(first, rest)
    kind = without_answer(reply)
    if kind is not None or reply is None:
        exception = modbus.parse(reply).exception if reply else None
        return UnitSaid(kind or UnitKind.SILENT, exception=exception)
    answer = modbus.parse(reply).pdu
    told = yield from ask_unit(unit, numbers, rest)
    kind = told.kind if told.is_there else UnitKind.NAMELESS
    return UnitSaid(kind, told.said, answer=answer)


def _product(said: Iterable[tuple[Field, DeviceText]]) -> str:
    return next((str(value) for field, value in said if field is Field.PRODUCT), "")


def _evidence(unit: int, told: UnitSaid, is_named: bool) -> Finding | None:
    """What tells how it is with a unit; nothing has to for one that says who it is."""
    if told.kind is UnitKind.ABSENT:
        return say.UNIT_NOT_THERE(unit=unit, exception=told.exception)
    if told.kind is UnitKind.SILENT:
        return say.UNIT_SILENT(unit=unit)
    return None if is_named else say.UNIT_NAMELESS(unit=unit)


class _Asking(NamedTuple):
    """How the registers of one unit are asked for."""

    unit: int
    numbers: Iterator[int]
    rest: float


def _described(
    descriptions: Sequence[Description], product: str, is_said: bool, asking: _Asking
) -> _Part[_Said]:
    """What a unit keeps in its registers, where a description says which they are.

    ``is_said``: the unit itself says that it is that product.
    """
    description = of_product(descriptions, product) if product else None
    if description is None and not product:
        description = yield from _recognised(descriptions, asking)
    elif description is not None and not is_said and description.recognition is not None:
        # It is planned as this product, and may be another one, which keeps other things there.
        description = yield from _recognised((description,), asking)
    if description is None:
        return ()
    found: dict[Field, DeviceText] = {}
    if not product:
        named = (
            (Field.PRODUCT, description.product),
            (Field.MAKER, description.maker),
            (Field.KIND, description.kind),
        )
        found = {field: told_by_others(text) for field, text in named if text}
    for meaning, register in description.values:
        octets = yield from _registers(register, asking)
        text = register.text(octets) if octets else ""
        if text:
            found[_FIELDS[meaning]] = told_by_others(text)
    return tuple(found.items())


def _recognised(descriptions: Sequence[Description], asking: _Asking) -> _Part[Description | None]:
    """The description of the product that a unit is by its registers, or None."""
    known = [each for each in descriptions if each.recognition is not None]
    for description in known[:_MOST_RECOGNISED]:
        assert description.recognition is not None
        register, value = description.recognition.register, description.recognition.value
        octets = yield from _registers(register, asking)
        if octets and register.number(octets) == value:
            return description
    return None


def _registers(register: Register, asking: _Asking) -> _Part[bytes | None]:
    """The octets of some registers; None where the unit refuses or is silent."""
    pdu = modbus.encode_read(register.function, register.first, register.count)
    message = ModbusMessage(next(asking.numbers), asking.unit, pdu)
    answer = pdu_of((yield exchange(message, asking.rest)))
    if answer is None:
        return None
    try:
        return modbus.parse_read(answer, register.function, register.count)
    except Malformed:
        return None
