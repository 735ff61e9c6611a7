"""What it costs until the command itself begins, and what a key for completion costs.

``portcall --version``, and completing a command, an adapter and a planned name, against importing
Click. The limit is 2.5 times the CPU time of ``python -c "import click"``, measured in the same
run, the two in turn. And dist/portcall.pyz, where it is made, against the installed program, at
most 1.5 times. Ends with 1 when a median is over its limit.
"""

from __future__ import annotations

import os
import statistics
import subprocess
import sys
from pathlib import Path

import portcall

LIMIT = 2.5
PAIRS = 25
STICK = Path(__file__).parents[1] / "dist" / "portcall.pyz"
STICK_LIMIT = 1.5

PORTCALL = [sys.executable, "-m", "portcall"]
SITE = Path(portcall.__file__).with_name("plant") / "scenarios" / "tern-point"
COMPLETED = ("portcall fi", "portcall find --adapter e", "portcall reach dry")
BASELINE = [sys.executable, "-c", "import click"]


def cpu_seconds(command: list[str], typed: str = "") -> float:
    """User and system time of one run, by the kernel's account of the finished process.

    ``typed`` is a line that a shell wants completed.
    """
    environment = dict(os.environ)
    # What is installed was compiled by pip; what was unpacked is when it is first imported.
    environment.pop("PYTHONDONTWRITEBYTECODE", None)
    if typed:
        words = str(len(typed.split()) - 1)
        environment |= {"_PORTCALL_COMPLETE": "bash_complete", "COMP_WORDS": typed}
        environment |= {"COMP_CWORD": words}
    process = subprocess.Popen(command, stdout=subprocess.DEVNULL, env=environment, cwd=SITE)
    _, status, usage = os.wait4(process.pid, 0)
    process.returncode = os.waitstatus_to_exitcode(status)
    if process.returncode:
        sys.exit(f"{command} ended with {process.returncode}")
    return usage.ru_utime + usage.ru_stime


def main() -> int:
    """Measure and judge."""
    good = True
    ours: list[tuple[str, list[str], str]] = [("--version", [*PORTCALL, "--version"], "")]
    ours += [(f'completing "{line}"', PORTCALL, line) for line in COMPLETED]
    for what, command, typed in ours:
        cpu_seconds(command, typed)  # Warm-up: bytecode and page cache.
        cpu_seconds(BASELINE)
        pairs = [(cpu_seconds(command, typed), cpu_seconds(BASELINE)) for _ in range(PAIRS)]
        ratios = sorted(one / baseline for one, baseline in pairs)
        median = statistics.median(ratios)
        print(
            f"{what} / import click, CPU time, {PAIRS} pairs: min {ratios[0]:.2f}, median "
            f"{median:.2f}, max {ratios[-1]:.2f}; limit {LIMIT}"
        )
        good = good and median <= LIMIT
    return 0 if as_quick_from_the_stick() and good else 1


def as_quick_from_the_stick() -> bool:
    """Whether the one file, once it is unpacked, starts nearly as quickly as what is installed."""
    if not STICK.exists():
        print(f"{STICK} is not there: make stick")
        return True
    installed = [str(Path(sys.executable).with_name("portcall")), "--version"]
    carried = [sys.executable, str(STICK), "--version"]
    cpu_seconds(carried)
    cpu_seconds(installed)
    pairs = [(cpu_seconds(carried), cpu_seconds(installed)) for _ in range(PAIRS)]
    median = statistics.median(one / baseline for one, baseline in pairs)
    print(f"{STICK.name} / installed, CPU time, {PAIRS} pairs: {median:.2f}; limit {STICK_LIMIT}")
    return median <= STICK_LIMIT


if __name__ == "__main__":
    sys.exit(main())
