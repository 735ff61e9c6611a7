"""JSON of values of ours; ``core.document`` reads it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence, Set
from dataclasses import fields, is_dataclass
from enum import Enum
from typing import Any


def plain(value: object) -> Any:
    """A value of ours as JSON has it: a number, text, a list or an object."""
    if isinstance(value, Enum):
        return value.value
    if value is None or isinstance(value, (str, int, float)):
        return value
    if isinstance(value, Mapping):
        return {str(key): plain(each) for key, each in value.items()}
    if is_dataclass(value) and not isinstance(value, type):
        return {each.name: plain(getattr(value, each.name)) for each in fields(value)}
    if isinstance(value, tuple) and hasattr(value, "_asdict"):
        return plain(value._asdict())
    if isinstance(value, (Sequence, Set)) and not isinstance(value, bytes):
        return [plain(each) for each in value]
    return str(value)
