"""``portcall plan``: its list of commands."""

from __future__ import annotations

import click

from portcall.cli.lazy import LazyGroup

_MODULES = {
    "check": "check",
    "show": "check",
    "add": "edit",
    "set": "edit",
    "remove": "edit",
    "take": "take",
    "undo": "history",
    "others": "history",
    "import": "importing",
    "export": "export",
}


class _PlanCommands(LazyGroup):
    modules = {name: f"portcall.cli.plan.{module}" for name, module in _MODULES.items()}  # noqa: RUF012


@click.group("plan", cls=_PlanCommands)
def plan_command() -> None:
    """The plan: which device shall have which address; plan.csv, one row a device."""
