"""Every cause that ``why`` names: how it is made in the shipped plant, and at which targets.

Used by the tests and by ``benchmarks/diagnosis.py``, on the plant's workstation.
"""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
import time
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import portcall.plant

PORTCALL = [sys.executable, "-m", "portcall"]

SCENARIO = Path(portcall.plant.__file__).parent / "scenarios" / "tern-point.toml"

ADDRESSED = {"fan-drive-1": "10.61.20.21/24", "belt-drive": "10.61.20.23/24"}
"""Drives that have been given their addresses already."""

PREPARED = (
    "ip addr add 10.61.20.200/24 brd + dev usb0",
    "ip route add 10.61.30.0/24 via 10.61.20.1",
)
"""What is typed before: the workstation in the plant's subnet, and a route to the cell behind the
router."""


def write_scenario(path: Path) -> Path:
    """The shipped plant, in which the two drives have their addresses."""
    shutil.copytree(SCENARIO.with_suffix(""), path.parent / SCENARIO.stem, dirs_exist_ok=True)
    shutil.copy(SCENARIO.with_name("skerry-40.eds"), path.parent)
    text, *devices = SCENARIO.read_text().split("[[devices]]\n")
    for device in devices:
        name = device.split('"')[1]
        if name in ADDRESSED:
            lines = [line for line in device.splitlines() if not line.startswith("ask")]
            device = "\n".join((*lines, f'address = "{ADDRESSED[name]}"', ""))
        text += f"[[devices]]\n{device}"
    path.write_text(text)
    return path


HARMLESS = (
    "plant fault old-feeder slow 25",
    "plant fault hood-vent nobody-there",
    "plant fault line-switch ping-ignored",
    "plant fault old-feeder flapping",
    "plant fault old-feeder mask 255.255.0.0",
    "plant fault hood-vent lossy 40%",
    "plant fault old-feeder door-closed 44818",
    "plant fault usb0 firewall-in 10.61.20.99",
    "plant fault usb0 firewall-out 10.61.20.60",
)
"""Oddities beside the fault, which have nothing to do with it."""


@dataclass(frozen=True)
class Case:
    """A fault, what is asked for, and the cause to be named; None: nothing is broken."""

    cause: str | None
    fault: str
    target: str
    environment: str = ""

    def lines(self, oddity: str = "") -> list[str]:
        """What is typed to make it, and an oddity beside it."""
        made = [line.strip() for line in self.fault.split(";")]
        odd = f"portcall {oddity}" if oddity else ""
        return [
            f"portcall {line}" if line[:6] == "plant " else line for line in (*made, odd) if line
        ]

    def __str__(self) -> str:
        return f"{self.cause}-{self.target.replace(' ', '-')}"


def _on_both(cause: str, fault: str, *doors: str) -> list[Case]:
    """A fault of the device itself, at a controller and at a drive."""
    return [
        Case(cause, f"plant fault {name} {cause} {fault}".strip(), f"{name} {' '.join(doors)}")
        for name in ("dryer-plc", "fan-drive-1")
    ]


def _here(cause: str, fault: str, *targets: str) -> list[Case]:
    """A fault of the workstation or the router, and the devices it is noticed at."""
    return [Case(cause, fault, target) for target in targets]


BOTH = ("dryer-plc", "fan-drive-1")
BEHIND = ("10.61.30.10", "10.61.30.42")

CASES = [
    *_here("no-link", "plant fault usb0 no-link", *BOTH),
    *_here("flapping", "plant fault usb0 flapping", *BOTH),
    *_here("no-address", "plant fault workstation no-address", *BOTH),
    *_here("other-subnet", "plant fault workstation other-subnet", *BOTH),
    *_here("other-subnet", "", "203.0.113.40", "203.0.113.42"),
    *_here("own-address-taken", "plant fault workstation own-address-taken", *BOTH),
    *_here("route-elsewhere", "plant fault workstation route-elsewhere", *BOTH),
    *_here("fixed-neighbour", "plant fault usb0 fixed-neighbour 10.61.20.10", "dryer-plc"),
    *_here("no-router", "plant fault workstation no-router", *BEHIND),
    *_here("router-silent", "plant fault cell-router router-silent", *BEHIND),
    *_here("stops-at-hop", "plant fault cell-router stops-at-hop", *BEHIND),
    *_here("return-filtered", "plant fault cell-router return-filtered", *BEHIND),
    # A router that has spoken to it lately would say nothing: that is not to be decided.
    Case(
        "nobody-there",
        "plant fault washer-plc nobody-there; "
        "portcall plant on cell-router -- ip neigh flush dev eth1",
        "10.61.30.10",
    ),
    *_on_both("mask", "255.255.255.224"),
    *_on_both("nobody-there", ""),
    *_on_both("asking", "bootp"),
    *_on_both("moved", "203.0.113.46/24"),
    *_on_both("moved", "10.61.20.77/24"),
    *_on_both("wrong-device", ""),
    *_on_both("address-shared", ""),
    Case("unset", "", "io-island-1"),
    *_here("firewall-out", "plant fault usb0 firewall-out 10.61.20.10", "dryer-plc"),
    *_here("firewall-out", "plant fault usb0 firewall-out 10.61.20.21", "fan-drive-1"),
    *_here("firewall-in", "plant fault usb0 firewall-in 10.61.20.10", "dryer-plc"),
    *_here("firewall-in", "plant fault usb0 firewall-in 10.61.30.42", "10.61.30.42"),
    *_on_both("ping-ignored", ""),
    *_on_both("door-closed", "44818", "cip"),
    *_on_both("door-silent", "44818", "cip"),
    *_on_both("speaks-otherwise", "44818", "cip"),
    Case("speaks-otherwise", "plant fault dryer-plc speaks-otherwise 80", "dryer-plc web"),
    *_on_both("lossy", "25%"),
    *_on_both("large-lost", "1000"),
    Case("proxy", "", "dryer-plc web", "http_proxy=http://198.51.100.1:3128"),
    Case("proxy", "", "10.61.30.10 web", "all_proxy=http://198.51.100.1:3128"),
]

HEALTHY = [
    Case(None, "", target)
    for target in (
        "dryer-plc",
        "fan-drive-1 cip",
        "belt-drive",
        "10.61.20.15 cip",
        "10.61.30.10 web",
        "10.61.30.42 modbus",
        "10.61.20.60",
    )
]
# A page that is there without encryption is not asked by way of this proxy.
HEALTHY.append(Case(None, "", "dryer-plc web", "https_proxy=http://198.51.100.1:3128"))


@dataclass(frozen=True)
class Told:
    """What ``why`` said of a case, and how long it took."""

    case: Case
    document: dict[str, Any]
    code: int
    seconds: float

    @property
    def is_right(self) -> bool:
        """Whether it named the cause, and nothing else."""
        return self.document.get("cause") == self.case.cause


def ask(case: Case, oddity: str = "") -> Told:
    """Make a fault, ask, and mend it."""
    for line in case.lines(oddity):
        _run(line)
    environment = dict(os.environ)
    if case.environment:
        name, _, value = case.environment.partition("=")
        environment[name] = value
    began = time.monotonic()
    ended = subprocess.run(
        [*PORTCALL, "why", *case.target.split(), "--json"],
        capture_output=True,
        text=True,
        timeout=60,
        env=environment,
    )
    seconds = time.monotonic() - began
    _run("portcall plant mend")
    try:
        document = json.loads(ended.stdout)
    except ValueError:
        document = {"cause": f"no JSON: {ended.stderr[-300:]}"}
    return Told(case, document, ended.returncode, seconds)


def _run(line: str) -> None:
    words = line.split()
    command = [*PORTCALL, *words[1:]] if words[0] == "portcall" else words
    subprocess.run(command, check=True, capture_output=True)


def prepare() -> None:
    """Bring workstation and plant to where the cases begin."""
    os.chdir(os.environ["PRACTICE_SITE"])
    for line in PREPARED:
        _run(line)
