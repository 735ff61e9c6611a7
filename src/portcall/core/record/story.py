"""The part of an entry about many devices that is about one of them."""

from __future__ import annotations

from portcall.core.document import Part, a_text
from portcall.core.printable import printable


def said_of(body: Part, name: str | None, mac: str | None) -> str:
    """A sentence of a look or verification about a device, by its name or MAC; "" for none."""
    judged = _of(body, "rows", name, mac)
    if judged:
        first = next(iter(judged.each("findings", a_text)), "")
        return printable(f"{judged.get('verdict', a_text, '')}: {first}".rstrip(": "))
    seen = _of(body, "devices", name, mac)
    if not seen:
        return ""
    at = ", ".join(seen.each("addresses", a_text))
    told = (seen.get(key, a_text, "") for key in ("product", "firmware"))
    return printable(
        ", ".join((f"seen at {at}" if at else "seen without an address", *filter(None, told)))
    )


def _of(body: Part, listed: str, name: str | None, mac: str | None) -> Part:
    for each in body.parts(listed):
        is_it = mac and each.get("mac", a_text) == mac
        if is_it or (name and each.get("name", a_text) == name):
            return each
    return Part(None)
