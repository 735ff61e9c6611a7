"""Opening a device's door with the program that this computer has for it."""

from __future__ import annotations

import os
import shutil
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from ipaddress import IPv4Address

from portcall.core.adapters.adapter import Adapter
from portcall.core.find.web_page import OTHER_PORT, PAGES
from portcall.core.talk.door_knock import DoorState
from portcall.core.talk.pacer import Pace
from portcall.core.why.evidence import Trial
from portcall.host.pace import paced
from portcall.jobs.why.trial import try_doors

_DISPLAYS = ("DISPLAY", "WAYLAND_DISPLAY")

PROGRAMS: Mapping[int, tuple[tuple[str, ...], ...]] = {
    22: (("ssh", "{address}"),),
    23: (("telnet", "{address}"),),
    21: (("ftp", "{address}"), ("lftp", "{address}")),
    5900: (("vncviewer", "{address}"), ("remote-viewer", "vnc://{address}")),
}
"""For each other port, the lines of the programs that open it, best first."""


@dataclass(frozen=True, slots=True)
class Opening:
    """How a door is opened: a page's address, or a program's line, None where there is none here;
    ``elsewhere`` is the line to type on a computer that has it.
    """

    port: int
    page: str | None = None
    program: Sequence[str] | None = None
    elsewhere: str = ""


async def check_doors(
    adapter: Adapter, pace: Pace, address: IPv4Address, ports: Sequence[int]
) -> dict[int, DoorState]:
    """Which of these doors answer."""
    trial = Trial()
    with paced(adapter.name, pace) as runner:
        await try_doors(runner, adapter.name, address, ports, trial)
    return trial.doors


def opening(address: IPv4Address, port: int, user: str = "") -> Opening:
    """How a door of the trade is opened here."""
    if port in PAGES:
        usual = port != OTHER_PORT
        return Opening(port, f"{PAGES[port]}://{address}{'' if usual else f':{port}'}/")
    goal = f"{user}@{address}" if user and port == 22 else str(address)
    lines = [
        tuple(word.replace("{address}", goal) for word in line) for line in PROGRAMS.get(port, ())
    ]
    for line in lines:
        if shutil.which(line[0]):
            return Opening(port, program=line)
    return Opening(port, elsewhere=" ".join(lines[0]) if lines else "")


def has_display(environment: Mapping[str, str] = os.environ) -> bool:
    """Whether a browser could show itself."""
    return any(environment.get(name) for name in _DISPLAYS)


def run_program(line: Sequence[str]) -> int:
    """Run a program attached to this terminal; its exit code."""
    import subprocess

    code = subprocess.run(list(line), check=False).returncode
    return 128 - code if code < 0 else code
