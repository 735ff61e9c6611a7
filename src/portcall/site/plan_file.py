"""``plan.csv``: read whole, and changed so that all else in it stays as it is."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from portcall.core.address import Mac
from portcall.core.plan.adopt import adopt
from portcall.core.plan.reading import parse_plan
from portcall.core.plan.rows import Plan, PlannedDevice, Subnet
from portcall.core.trouble import NotPossibleHere
from portcall.site.files import write_whole
from portcall.site.turns import alone_in

PLAN_FILE = "plan.csv"


def read_plan(path: Path, subnets: Sequence[Subnet]) -> Plan:
    """A plan from a file, with the site's masks. Raises PlanError or NotPossibleHere."""
    try:
        data = path.read_bytes()
    except OSError as error:
        raise NotPossibleHere(f"{path}: cannot be read: {error.strerror}") from None
    return parse_plan(data, path.name, subnets)


def take_into(
    path: Path, answer: str, mac: Mac, rows: Sequence[PlannedDevice], subnets: Sequence[Subnet]
) -> str | None:
    """Write into a plan which of some rows a device is, or a new row for it (``adopt``).

    Gives the row's name, None for "nobody". The new text is read before it is written, so that the
    plan stays sound. Raises BadInput, OSError.
    """
    with alone_in(path.parent, _PATIENCE):
        return _taken_into(path, answer, mac, rows, subnets)


_PATIENCE = 5.0
"""Seconds; a change of the plan takes a fraction of one."""


def _taken_into(
    path: Path, answer: str, mac: Mac, rows: Sequence[PlannedDevice], subnets: Sequence[Subnet]
) -> str | None:
    data = path.read_bytes() if path.exists() else b""
    plan = parse_plan(data, path.name, subnets) if data else Plan()
    adoption = adopt(answer, mac, rows, plan, data)
    if adoption is None:
        return None
    parse_plan(adoption.data, PLAN_FILE, subnets)
    write_whole(path, adoption.data)
    return adoption.name
