"""What devices say, as tests write it down: by the names of the fields, and in text."""

from __future__ import annotations

from ipaddress import IPv4Address

from portcall.core.find.sentences import MODBUS_NAMELESS
from portcall.core.find.sighting import Door, Field, Method, Said, Told, as_text


def told(field: Field, value: str) -> Told:
    """A value of the type that its field has; a manner is one that any device may have."""
    if field in (Field.MASK, Field.GATEWAY):
        return IPv4Address(value)
    if field is Field.DOOR:
        port, _, name = value.partition(" ")
        return Door(int(port), name)
    return MODBUS_NAMELESS() if field is Field.MANNER else as_text(value)


def said(method: Method, **values: str) -> tuple[Said, ...]:
    """What a method said, by the names of the fields."""
    return tuple(Said(Field(key), told(Field(key), text), method) for key, text in values.items())
