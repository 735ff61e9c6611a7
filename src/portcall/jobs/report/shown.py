"""Values of a record as every page shows them."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime
from typing import Any


def when(moment: str | None) -> str:
    """A time as people read it: by the clock it was written by; "" for none."""
    return "" if moment is None else f"{datetime.fromisoformat(moment):%Y-%m-%d %H:%M}"


def told(device: Mapping[str, Any], what: str, words: Mapping[str, str]) -> str:
    """What a device says of itself, or else what is planned, which is said then; "" for neither."""
    planned, said = device[f"planned_{what}"], device[what]
    if said and said != "0.0.0.0":
        return str(said)
    return f"{planned} ({words['planned']})" if planned else ""


def number(value: float | None, unit: str = "") -> str:
    """A number with its unit; "" for none."""
    return "" if value is None else f"{value:g} {unit}".strip()
