"""How long ``match`` takes from Enter until its address is in use, in the practice plant.

Two limits: with probing, the time that RFC 5227 asks for plus 300 ms; without, 300 ms. What is
measured is the whole command, from its start to its end. Ends with 1 when a median is over.
"""

from __future__ import annotations

import os
import statistics
import subprocess
import sys
import time
from pathlib import Path

from portcall.core.talk.probe import PROBE_TIME

MARGIN = 0.3
RUNS = 9
PROBING_RUNS = 3
PORTCALL = [str(Path(sys.executable).with_name("portcall"))]


def timed(*words: str) -> float:
    """Seconds from starting a match until it says "now has"; it is put back afterwards."""
    began = time.monotonic()
    with subprocess.Popen(
        [*PORTCALL, "match", *words], stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True
    ) as match:
        assert match.stdout is not None
        said = any(" now has " in line for line in iter(match.stdout.readline, ""))
        took = time.monotonic() - began
    if not said:
        sys.exit(f"match {' '.join(words)} did not come into force")
    subprocess.run([*PORTCALL, "restore"], check=True, capture_output=True)
    return took


def judge(what: str, limit: float, times: list[float]) -> bool:
    """Print the times as shares of the limit."""
    shares = sorted(seconds / limit for seconds in times)
    median = statistics.median(shares)
    print(
        f"{what}: of the {limit * 1000:.0f} ms allowed it takes "
        f"min {shares[0]:.2f}, median {median:.2f}, max {shares[-1]:.2f} ({len(times)} runs)"
    )
    return median <= 1


def main() -> int:
    """Inside the plant: measure. Outside: bring one up around this file."""
    if sys.argv[1:] != ["inside"]:
        command = [
            *PORTCALL,
            "plant",
            "run",
            "--",
            sys.executable,
            str(Path(__file__).resolve()),
            "inside",
        ]
        return subprocess.run(command, check=False).returncode
    os.chdir(os.environ["PRACTICE_SITE"])
    timed("dryer-plc", "--no-probe")  # Warm-up: bytecode and page cache.
    quick = [timed("dryer-plc", "--no-probe") for _ in range(RUNS)]
    probing = [timed("dryer-plc") for _ in range(PROBING_RUNS)]
    good = judge("match --no-probe", MARGIN, quick)
    return 0 if judge("match", PROBE_TIME + MARGIN, probing) and good else 1


if __name__ == "__main__":
    sys.exit(main())
