"""A value that a device told, as JSON has it."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from portcall.core.document import Part, a_text, an_address, told_text
from portcall.core.find.protocols import method_named
from portcall.core.find.sentences import MANNERS, PARTS
from portcall.core.find.sighting import Door, Field, Method, Said, Told
from portcall.core.finding import Finding, Sentence, Value, values_as_json

_MOST = 64


def said_document(said: Said) -> dict[str, Any]:
    """A value with its field and who said it; of a manner its code and values, too."""
    told: dict[str, Any] = {"what": said.field, "value": str(said.value), "by": said.method}
    if isinstance(said.value, Finding):
        told |= {"code": said.value.code, "values": values_as_json(said.value)}
    return told


def read_said(said: Part) -> Said:
    """A value that a device told. Raises OddDocument."""
    field = said.take("what", Field)
    return Said(field, _told(field, said), said.take("by", a_method))


def a_method(value: object) -> Method:
    """A way of finding, by its name. Raises ValueError."""
    method = method_named(value)
    if method is None:
        raise ValueError("is no method")
    return method


def read_finding(said: Part, kinds: Mapping[str, Sentence]) -> Finding | None:
    """A sentence by its code and values; None where it is none of these ``kinds``."""
    kind, values = kinds.get(said.get("code", a_text, "")), said.part("values")
    if kind is None or set(values) != kind.names:
        return None
    return kind(**{key: values.get(key, _value) for key in values})


def read_evidence(part: Part) -> Finding | None:
    """What told the state of a part, or None."""
    return read_finding(part, PARTS)


def _told(field: Field, said: Part) -> Told:
    """The value of a field as it was before it was written down. Raises OddDocument."""
    if field in (Field.MASK, Field.GATEWAY):
        return said.take("value", an_address)
    if field is Field.DOOR:
        return said.take("value", _door)
    text = said.take("value", told_text)
    return (read_finding(said, MANNERS) or text) if field is Field.MANNER else text


def _door(value: object) -> Door:
    number, _, name = a_text(value).partition(" ")
    if not number.isdecimal() or len(number) > 5:
        raise ValueError("is no port")
    return Door(int(number), name)


def _value(value: object) -> Value:
    """A value of a sentence that was written down: a number, or text."""
    if isinstance(value, list):
        return [_value(each) for each in value[:_MOST]]
    if value is None or isinstance(value, bool | int | float):
        return value
    return told_text(value)
