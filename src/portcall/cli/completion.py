"""``portcall completion``."""

from __future__ import annotations

import click

from portcall.cli.completing import source
from portcall.cli.main import YES
from portcall.cli.say import note
from portcall.jobs.workstation.completion import install

_SHELLS = ("bash", "zsh", "fish")


@click.command("completion")
@click.argument("shell", type=click.Choice(_SHELLS))
@click.option("--install", "installs", is_flag=True, help="Put it where the shell looks for it.")
def completion_command(shell: str, installs: bool) -> int:
    """Print the script with which SHELL completes commands, adapters, names and more.

    \b
    portcall completion bash --install
    eval "$(portcall completion zsh)"
    """
    text = source(shell)
    if not installs:
        click.echo(text)
        return YES
    path, line = install(shell, text)
    note(
        f"written: {path}; a new {shell} has it"
        + (f", once its settings have: {line}" if line else "")
    )
    return YES
