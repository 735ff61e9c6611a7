"""Completion of names of this computer and the site, and the script with which a shell asks."""

from __future__ import annotations

import os
from pathlib import Path

from portcall.core.trouble import NotPossibleHere
from portcall.host.adapter_names import adapter_names
from portcall.host.program import one_file
from portcall.site.plan_names import plan_names, site_around

__all__ = [
    "adapter_names",
    "install",
    "planned_groups",
    "planned_names",
    "program_name",
    "recorded_devices",
]


def program_name() -> str:
    """The name that a person types to start this program, without its folder."""
    file = one_file()
    return file.name if file is not None else "portcall"


def planned_names() -> list[str]:
    """The names of the planned devices, of the site that the current folder is in."""
    try:
        return plan_names(Path.cwd())
    except OSError:
        return []  # The folder was deleted, or may not be read.


def planned_groups() -> list[str]:
    """The groups of the planned devices."""
    try:
        return plan_names(Path.cwd(), "group")
    except OSError:
        return []


def recorded_devices() -> list[str]:
    """The planned names, and the devices of the logbook beside them, by name and MAC."""
    from portcall.site.logbook.devices import devices_in

    try:
        told = devices_in(site_around(Path.cwd()))
    except OSError:
        return []
    return list(dict.fromkeys((*planned_names(), *told)))


def install(shell: str, text: str) -> tuple[Path, str | None]:
    """Write the script for the person; gives where, and a line that the shell's settings need.

    Raises NotPossibleHere.
    """
    from portcall.site.files import make_folder, write_whole
    from portcall.site.matches import state_folder

    data = Path(os.environ.get("XDG_DATA_HOME") or Path.home() / ".local" / "share")
    config = Path(os.environ.get("XDG_CONFIG_HOME") or Path.home() / ".config")
    path = {
        "bash": data / "bash-completion" / "completions" / program_name(),
        "zsh": data / "zsh" / "site-functions" / f"_{program_name()}",
        "fish": config / "fish" / "completions" / f"{program_name()}.fish",
        "powershell": state_folder() / "completion.ps1",
    }[shell]
    try:
        make_folder(path.parent)
        write_whole(path, text.encode())
    except OSError as error:
        raise NotPossibleHere(f"{path}: cannot be written: {error.strerror}") from None
    lines = {
        "zsh": f"fpath=({path.parent} $fpath); autoload -U compinit; compinit",
        "powershell": f'. "{path}"',
    }
    return path, lines.get(shell)
