"""The part of an entry about many devices that is about one of them."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from portcall.core.printable import printable


def said_of(body: Mapping[str, Any], name: str | None, mac: str | None) -> str:
    """A sentence of a look or verification about a device, by its name or MAC; "" for none."""
    judged = _of(body.get("rows"), name, mac)
    if judged:
        findings = judged.get("findings")
        first = findings[0] if isinstance(findings, list) and findings else ""
        return printable(f"{judged.get('verdict')}: {first}".rstrip(": "))
    seen = _of(body.get("devices"), name, mac)
    if not seen:
        return ""
    addresses = seen.get("addresses")
    at = ", ".join(map(str, addresses)) if isinstance(addresses, list) else ""
    parts = [f"seen at {at}" if at else "seen without an address"]
    parts += [str(seen[key]) for key in ("product", "firmware") if seen.get(key)]
    return printable(", ".join(parts))


def _of(listed: Any, name: str | None, mac: str | None) -> Mapping[str, Any]:
    for each in listed if isinstance(listed, list) else ():
        if isinstance(each, dict):
            is_it = mac and each.get("mac") == mac
            if is_it or (name and each.get("name") == name):
                return each
    return {}
