"""Values of a record as every page shows them."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime
from typing import Any


def when(moment: str | None) -> str:
    """A time as people read it: by the clock it was written by; "" for none."""
    return "" if moment is None else f"{datetime.fromisoformat(moment):%Y-%m-%d %H:%M}"


def told(device: Mapping[str, Any], what: str, words: Mapping[str, str]) -> str:
    """The value that a device tells, or else the planned one, marked as such; "" for neither."""
    planned, said = device[f"planned_{what}"], device[what]
    if said and said != "0.0.0.0":
        return f"{said} ({words['by_hand']})" if what in device.get("by_hand", ()) else str(said)
    return f"{planned} ({words['planned']})" if planned else ""


def number(value: float | None, unit: str = "") -> str:
    """A number with its unit; "" for none."""
    return "" if value is None else f"{value:g} {unit}".strip()


def cells(device: Mapping[str, Any], words: Mapping[str, str]) -> tuple[str, ...]:
    """A device's row, each cell in lines; its name, which is bold, is left out of the first."""

    def at(moment: str | None, what: str) -> str:
        return f"{what}\n{when(moment)}" if moment else ""

    def lines(*parts: str | None) -> str:
        return "\n".join(part or "–" for part in parts)

    unknown = "–" if device.get("part") else words["not_known"]
    holds = words[device["holds"]] if device["holds"] else unknown
    mark = "✓ " if device["is_right"] else "✗ " if device["state"] == "verified wrong" else ""
    again = device["verified"] != device["since"]
    proof = (
        f"{mark}{words[device['state']]}",
        when(device["since"]),
        at(device["verified"], words["verified"]) if again else "",
        f"{words['echo']} {device['echo_ms']} ms" if device["echo_ms"] else "",
        at(device["power_cycle"], words["power_cycle"]),
    )
    return (
        ", ".join(filter(None, (device["kind"], device["place"]))),
        lines(device["product"], device["maker"]),
        lines(device["serial"], device["firmware"]),
        lines(device["address"], device["mac"]),
        lines(told(device, "mask", words), told(device, "gateway", words)),
        "\n".join(filter(None, (holds, when(device["kept"])))),
        "\n".join(filter(None, proof)),
    )
