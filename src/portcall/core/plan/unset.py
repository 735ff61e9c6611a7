"""Giving a device its first address."""

from __future__ import annotations

from portcall.core.address import Mac
from portcall.core.finding import Line, Setting
from portcall.core.plan.rows import Plan


def to_get_an_address(mac: Mac | None, asks: bool, plan: Plan) -> Line:
    """The line by which a device without an address gets one.

    One that ``asks`` for it is answered; any other is set. One that the plan does not have is given
    the address that the person chooses.
    """
    row = plan.by_mac(mac) if mac is not None else None
    if mac is None:
        return Line("find")
    if asks:
        named = row.name if row is not None else Setting(mac, "ADDRESS")
        return Line("assign", named, "--match", "--keep")
    return Line("move", row.name) if row is not None else Line("move", mac, "--to", "ADDRESS/N")
