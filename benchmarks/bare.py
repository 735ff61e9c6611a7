"""A bare cable with nine unset devices: how long until all are in the list, and at which pace.

Stated limits: 12 s for the whole look, and no more than 100 broadcasts in any second. Beside it the
same look without the starting addresses: what they cost in seconds and in frames.
"""

from __future__ import annotations

import json
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

HERE = Path(__file__).resolve().parent
SCENARIO = HERE.parent / "docs" / "plants" / "bare-cable.toml"
PORTCALL = str(Path(sys.executable).with_name("portcall"))
RUNS = 3
LIMIT, MOST_A_SECOND, DEVICES = 12.0, 100, 9
_BROADCAST = b"\xff" * 6


def look(folder: Path, name: str) -> tuple[float, int, list[float]]:
    """Seconds, devices, and when each broadcast left."""
    file = folder / f"{name}.pcapng"
    file.unlink(missing_ok=True)
    began = time.monotonic()
    words = [PORTCALL, "find", "--json", "--capture", str(file)]
    done = subprocess.run(words, capture_output=True, text=True, cwd=folder)
    seconds = time.monotonic() - began
    from portcall.site.captures import read_capture

    own = bytes.fromhex("021a407c0036")
    left = [each.at for each in read_capture(file) if each.data[:12] == _BROADCAST + own]
    return seconds, len(json.loads(done.stdout)["devices"]), left


def busiest(times: list[float]) -> int:
    """The most that left within one second."""
    return max((sum(at <= each < at + 1 for each in times) for at in times), default=0)


def inside() -> int:
    """On the plant's workstation."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        (folder / "site.toml").write_text("")
        wholes, cheap = [], []
        for _ in range(RUNS):
            (folder / "site.toml").write_text("")
            wholes.append(look(folder, "whole"))
            (folder / "site.toml").write_text("starting_addresses = false\n")
            cheap.append(look(folder, "without"))
    seconds = statistics.median(each[0] for each in wholes)
    most = max(busiest(each[2]) for each in wholes)
    found = min(each[1] for each in wholes)
    frames = statistics.median(len(each[2]) for each in wholes)
    without = statistics.median(each[0] for each in cheap)
    fewer = statistics.median(len(each[2]) for each in cheap)
    print(f"bare cable: {found} of {DEVICES} devices in {seconds / LIMIT:.2f} of {LIMIT:.0f} s")
    print(f"bare cable: at most {most / MOST_A_SECOND:.2f} of {MOST_A_SECOND} broadcasts a second")
    print(
        f"bare cable: the starting addresses cost {seconds - without:.1f} s and "
        f"{frames - fewer:.0f} broadcasts"
    )
    good = found == DEVICES and seconds <= LIMIT and most <= MOST_A_SECOND
    return 0 if good else 1


def main() -> int:
    """The same, in a practice plant."""
    words = [PORTCALL, "plant", "run", "--scenario", str(SCENARIO), "--"]
    return subprocess.run([*words, sys.executable, __file__, "inside"]).returncode


if __name__ == "__main__":
    sys.exit(inside() if sys.argv[1:] == ["inside"] else main())
