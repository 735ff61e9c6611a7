"""``reach`` against the operating system's own ping, and what a watch of 1,000 targets costs.

Stated limits: the median of the round-trip times is within 30 µs of what ping tells of the same
target, asked by turns in the same run; watching 1,000 targets once a second costs at most 10 % of
one core. Both in the practice plant. Ends with 1 when one of these is not kept.
"""

from __future__ import annotations

import json
import re
import resource
import statistics
import subprocess
import sys
from pathlib import Path

PORTCALL = str(Path(sys.executable).with_name("portcall"))
TARGET = "10.61.20.10"
CROWD = "10.62.8.1-10.62.11.232"
RUNS = 5
ECHOES = 200
MOST_APART, MOST_SHARE = 30.0, 0.10
SHORT, LONG = 5, 35


def by_reach() -> float:
    """The median round-trip time in microseconds."""
    line = [PORTCALL, "reach", TARGET, "--count", str(ECHOES), "--interval", "0.05", "--json"]
    told = subprocess.run(line, capture_output=True, check=True).stdout
    return float(json.loads(told)["targets"][0]["median_ms"]) * 1000


def by_ping() -> float:
    """The same, as the operating system's ping tells each time."""
    line = ["ping", "-c", str(ECHOES), "-i", "0.05", "-s", "48", TARGET]
    told = subprocess.run(line, capture_output=True, check=True, text=True).stdout
    return statistics.median(float(ms) for ms in re.findall(r"time=([\d.]+)", told)) * 1000


def seconds_of_work(lasts: int) -> float:
    """Seconds of processor time that a watch of so many seconds takes."""
    before = resource.getrusage(resource.RUSAGE_CHILDREN)
    line = [PORTCALL, "reach", CROWD, "--watch", "--for", str(lasts), "--pace", "2000"]
    ended = subprocess.run(
        [*line, "--adapter", "usb0"], capture_output=True, text=True, check=False
    )
    after = resource.getrusage(resource.RUSAGE_CHILDREN)
    summaries = [each for each in ended.stdout.splitlines() if " lost" in each]
    if len(summaries) != 1000 or any(" 0.0% lost" not in each for each in summaries):
        sys.exit(f"not all 1,000 targets were reached:\n{ended.stdout[-300:]}{ended.stderr}")
    return after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime


def main() -> int:
    """Inside the plant: measure. Outside: bring one up around this file."""
    if sys.argv[1:] != ["inside"]:
        inside = [sys.executable, str(Path(__file__).resolve()), "inside"]
        return subprocess.run([PORTCALL, "plant", "run", "--", *inside], check=False).returncode
    spare = [PORTCALL, "plant", "on", "spare-1", "--"]
    for line in (
        [PORTCALL, "match", TARGET, "--no-probe"],
        ["ip", "addr", "add", "10.62.0.1/16", "dev", "usb0"],
        [*spare, "ip", "addr", "add", "10.62.255.1/16", "dev", "eth0"],
        [*spare, "ip", "route", "add", "local", "10.62.8.0/22", "dev", "lo"],
    ):
        subprocess.run(line, check=True, capture_output=True)
    pairs = [(by_reach(), by_ping()) for _ in range(RUNS)]
    apart = [reach - ping for reach, ping in pairs]
    middle = statistics.median(apart)
    print(
        f"reach's median is {middle:+.0f} µs from ping's (stated: within {MOST_APART:.0f}; "
        f"{min(apart):+.0f} to {max(apart):+.0f} in {RUNS} pairs)"
    )
    # What starting and ending takes is in both, and is not the watch's.
    share = (seconds_of_work(LONG) - seconds_of_work(SHORT)) / (LONG - SHORT)
    print(f"watching 1,000 targets takes {share:.3f} of one core (stated: {MOST_SHARE})")
    return 0 if abs(middle) <= MOST_APART and share <= MOST_SHARE else 1


if __name__ == "__main__":
    sys.exit(main())
