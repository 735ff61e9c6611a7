"""The sheet that is filled in at the cabinet: what is planned, panel by panel, with empty boxes.

It rests on the plan alone, and is no record: what somebody writes on it is on the paper only.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from portcall.core.find.switch_tables import natural
from portcall.core.plan.rows import Plan, PlannedDevice


def before_sheet(
    site: str,
    version: str,
    language: str,
    plan: Plan,
    made: str,
    picture: Mapping[str, Any] | None,
) -> dict[str, Any]:
    """The sheet as plain JSON. ``made`` is when, RFC 3339."""
    panels: dict[str, list[PlannedDevice]] = {}
    for row in plan.rows:
        if not row.of:
            panels.setdefault(row.place or row.group, []).append(row)
            panels[row.place or row.group] += sorted(plan.parts_of(row.name), key=_by_part)
    named = sorted(panels, key=lambda name: (not name, natural(name)))
    return {
        "site": site,
        "version": version,
        "language": language,
        "made": made,
        "rows": len(plan.rows),
        "panels": [
            {"name": name, "rows": [_row(row, name) for row in panels[name]]} for name in named
        ],
        "picture": picture,
    }


def _by_part(row: PlannedDevice) -> tuple[object, ...]:
    return row.part.steps if row.part is not None else ()


def _row(row: PlannedDevice, panel: str) -> dict[str, Any]:
    expected = row.expected.asked
    is_told = not row.has_no_address and not row.mask_assumed
    return {
        "name": row.name,
        "part": str(row.part) if row.part is not None else "",
        "kind": ", ".join(filter(None, (row.kind, row.place if row.place != panel else ""))),
        "has_address": not row.has_no_address,
        "address": row.where,
        "mask": str(row.interface.netmask) if is_told else "",
        "gateway": str(row.gateway) if row.gateway else "",
        "mac": str(row.mac or ""),
        "product": expected.get("product", ""),
        "maker": expected.get("maker", ""),
        "serial": expected.get("serial", ""),
        "firmware": expected.get("firmware", ""),
        "note": row.note,
    }
