"""Completion for the shell: commands, adapters, planned names, plant devices, doors.

This answers while a person waits for a key, so that it loads nothing that it does not need: where
only a command itself knows, as with its options and the methods of a look, Click is asked, which
imports that command.
"""

from __future__ import annotations

import os
from collections.abc import Iterable, Sequence

import click
from click.shell_completion import CompletionItem, ShellComplete, get_completion_class

from portcall.cli.topics import TOPICS
from portcall.core.plan.columns import COLUMNS
from portcall.jobs.workstation import completion
from portcall.system import HAS_NAMESPACES

VARIABLE = "_PORTCALL_COMPLETE"
_PROGRAM = "portcall"

DOORS = ["cip", "modbus", "opcua", "web", "secureweb", "ftp", "ssh", "telnet", "remotescreen"]
"""As they are spelt without spaces; a test holds them against what they stand for."""

_TAKE_NAMES = {
    *("find", "visit", "match", "assign", "keep", "move", "swap", "blink"),
    *("reach", "trace", "open", "why", "verify"),
}
_TAKE_A_DOOR_SECOND = {"why", "trace", "open"}
_ON_PLANT_DEVICES = {"power-cycle", "unplug", "plug", "fault", "mend", "on"}
_AFTER_OPTION = {
    "--adapter": "adapters",
    "--door": "doors",
    "--power-cycle": "names",
    "--device": "recorded devices",
    "--group": "groups",
}
_SUBCOMMANDS = {
    "plan": ["check", "show", "add", "set", "remove", "take", "import", "export"],
    "logbook": ["show", "export", "sync"],
    "catalog": ["add", "list"],
    "plant": ["run", "shell", "join", "list", *sorted(_ON_PLANT_DEVICES)],
    "completion": ["bash", "zsh", "fish", "powershell"],
}


def source(shell: str) -> str:
    """The script that has a shell ask here."""
    made = _spoken_with(shell)
    assert made is not None, "Click serves bash, zsh and fish"
    name = completion.program_name()
    return made(click.Command(name), {}, name, VARIABLE).source()


def _spoken_with(shell: str) -> type[ShellComplete] | None:
    """How a shell is spoken with; None for one that nobody knows."""
    if shell == "powershell":
        from portcall.cli.completing_powershell import PowerShellComplete

        return PowerShellComplete
    return get_completion_class(shell)


def answer(group: click.Group, instruction: str) -> str | None:
    """The answer to a shell that asks, or None when it asks for something else."""
    shell, _, what = instruction.partition("_")
    if what != "complete":
        return None
    made = _spoken_with(shell)
    if made is None or not {"COMP_WORDS", "COMP_CWORD"} <= os.environ.keys():
        return ""  # No shell sends such a request.
    asked = made(group, {}, _PROGRAM, VARIABLE)
    words, incomplete = asked.get_completion_args()
    found = candidates(words, incomplete, list(group.list_commands(click.Context(group))))
    is_value = bool(words) and words[-1].startswith("-") and words[-1] not in _AFTER_OPTION
    # Only the command knows whether an option has a value, and which.
    items = asked.get_completions(words, incomplete) if found is None or is_value else []
    items = items or [CompletionItem(each) for each in found or () if each.startswith(incomplete)]
    return "\n".join(asked.format_completion(item) for item in items)


def candidates(
    words: Sequence[str], incomplete: str, commands: Sequence[str]
) -> Iterable[str] | None:
    """The words that may end a line; None where only the command knows them."""
    if not words:
        return None if incomplete.startswith("-") else commands
    command, *rest = words
    kind = _AFTER_OPTION.get(rest[-1] if rest else "")
    if kind is not None:
        return _known(kind)
    if incomplete.startswith("-"):
        return None
    if command == "help" and not rest:
        return [*TOPICS, *commands]
    if command in _SUBCOMMANDS:
        if not rest:
            return _SUBCOMMANDS[command]
        if command == "catalog" and rest[-1] == "--from":
            return _known("names")
        if command == "plan" and rest[0] == "set" and len(rest) > 1:
            return [f"{column}=" for column in COLUMNS]
        if command == "plant" and rest[0] == "fault" and len(rest) == 2:
            return _known("faults")
        if command == "plan" and (rest == ["set"] or rest[0] == "remove"):
            return _known("names")
        on_device = command == "plant" and rest[0] in _ON_PLANT_DEVICES and len(rest) == 1
        return _known("plant devices") if on_device else None
    if command in _TAKE_NAMES:
        typed = [word for word in rest if not word.startswith("-")]
        is_door = command in _TAKE_A_DOOR_SECOND and len(typed) == 1
        return _known("doors" if is_door else "names")
    return None


def _known(kind: str) -> Iterable[str]:
    if kind == "adapters":
        return completion.adapter_names()
    if kind == "doors":
        return DOORS
    if kind == "names":
        return completion.planned_names()
    if kind == "recorded devices":
        return completion.recorded_devices()
    if kind == "groups":
        return completion.planned_groups()
    if kind == "faults":
        if not HAS_NAMESPACES:
            return []
        from portcall.plant.faults import ON_DEVICES

        return ON_DEVICES
    from portcall.core.trouble import Trouble

    if not HAS_NAMESPACES:
        return []
    from portcall.plant import control

    try:
        return [state.name for state in control.device_states()]
    except Trouble:
        return []
