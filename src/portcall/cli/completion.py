"""``portcall completion``."""

from __future__ import annotations

import click

from portcall.cli.completing import source
from portcall.cli.main import YES
from portcall.cli.options import json_option
from portcall.cli.say import note, print_json, wants_json
from portcall.jobs.workstation.completion import install

_SHELLS = ("bash", "zsh", "fish", "powershell")


@click.command("completion")
@click.argument("shell", type=click.Choice(_SHELLS))
@click.option("--install", "installs", is_flag=True, help="Put it where the shell looks for it.")
@json_option
def completion_command(shell: str, installs: bool) -> int:
    """Print the script with which SHELL completes commands, adapters, names and more.

    \b
    portcall completion bash --install
    eval "$(portcall completion zsh)"
    portcall completion powershell | Out-String | Invoke-Expression
    """
    text = source(shell)
    if not installs:
        if wants_json():
            print_json({"shell": shell, "script": text})
        else:
            click.echo(text)
        return YES
    path, line = install(shell, text)
    if wants_json():
        print_json({"shell": shell, "written": str(path), "needs": line})
        return YES
    note(
        f"written: {path}; a new {shell} has it"
        + (f", once its settings have: {line}" if line else "")
    )
    return YES
