"""``portcall plan``: one file a command, imported when it is called."""

from __future__ import annotations

import importlib

import click

_MODULES = {
    "check": "check",
    "show": "check",
    "add": "edit",
    "set": "edit",
    "remove": "edit",
    "take": "take",
    "import": "importing",
    "export": "export",
}


class _PlanCommands(click.Group):
    """A group whose commands live in modules of their own."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        """The names, in the order of the work."""
        return list(_MODULES)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        """Import the command's module."""
        if cmd_name not in _MODULES:
            return None
        module = importlib.import_module(f"portcall.cli.plan.{_MODULES[cmd_name]}")
        command: click.Command = getattr(module, f"{cmd_name}_command")
        return command


@click.group("plan", cls=_PlanCommands)
def plan_command() -> None:
    """The plan: which device shall have which address; plan.csv, one row a device."""
