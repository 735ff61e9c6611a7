"""Groups whose commands live in modules of their own, imported when a command is called."""

from __future__ import annotations

import importlib
from collections.abc import Mapping
from typing import ClassVar

import click


class LazyGroup(click.Group):
    """``modules`` gives for each command, in the order of the work, the module that has it.

    A command called ``find`` is ``find_command`` there.
    """

    modules: ClassVar[Mapping[str, str]] = {}

    def list_commands(self, ctx: click.Context) -> list[str]:
        """The names, in the order of the work."""
        return list(self.modules)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        """Import the command's module."""
        if cmd_name not in self.modules:
            return None
        module = importlib.import_module(self.modules[cmd_name])
        command: click.Command = getattr(module, f"{cmd_name}_command")
        return command
