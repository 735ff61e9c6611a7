"""What it costs until the command itself begins: ``portcall --version`` against importing Click.

The limit is 2.5 times the CPU time of ``python -c "import click"``, measured in the same run, the
two in turn. Ends with 1 when the median is over it.
"""

from __future__ import annotations

import os
import statistics
import subprocess
import sys

LIMIT = 2.5
PAIRS = 25

OURS = [sys.executable, "-m", "portcall", "--version"]
BASELINE = [sys.executable, "-c", "import click"]


def cpu_seconds(command: list[str]) -> float:
    """User and system time of one run, by the kernel's account of the finished process."""
    process = subprocess.Popen(command, stdout=subprocess.DEVNULL)
    _, status, usage = os.wait4(process.pid, 0)
    process.returncode = os.waitstatus_to_exitcode(status)
    if process.returncode:
        sys.exit(f"{command} ended with {process.returncode}")
    return usage.ru_utime + usage.ru_stime


def main() -> int:
    """Measure and judge."""
    for command in (OURS, BASELINE):
        cpu_seconds(command)  # Warm-up: bytecode and page cache.
    pairs = [(cpu_seconds(OURS), cpu_seconds(BASELINE)) for _ in range(PAIRS)]
    ratios = sorted(ours / baseline for ours, baseline in pairs)
    median = statistics.median(ratios)
    print(f"portcall --version / import click, CPU time, {PAIRS} pairs")
    print(f"ratio: min {ratios[0]:.2f}, median {median:.2f}, max {ratios[-1]:.2f}; limit {LIMIT}")
    return 0 if median <= LIMIT else 1


if __name__ == "__main__":
    sys.exit(main())
