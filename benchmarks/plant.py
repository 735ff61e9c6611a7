"""A find on a plant of 250 answering devices: time, CPU, memory, and the pace on the wire.

Stated limits: wall time at most 1.25 times what the stated waits and the pace require; CPU time
2 s, both as the median of some runs; memory 80 MB, and in no second more than 5 % over the pace, by
``find`` or by what else talks to a whole plan, in any of them.

What is required is counted, not assumed: the frames that left the adapter, as a capture of the same
kind of run has them, at the pace; and the waits that nothing can overlap: after the sweep's rounds,
and after the last questions.
"""

from __future__ import annotations

import compileall
import os
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import portcall
from portcall.core.find.arp_sweep import ANSWER_WAIT as SWEEP_WAIT
from portcall.core.talk.ask_each import ANSWER_WAITS
from portcall.core.talk.pacer import DEFAULT_PACE

ARP_ANSWER = b"\x08\x06\x00\x01\x08\x00\x06\x04\x00\x02"
"""Not counted: with it the computer's kernel answers what a device asks, at the device's pace."""

DEVICES = 250
RUNS = 5
MOST_WALL, MOST_CPU, MOST_MEGABYTES, MOST_OVER = 1.25, 2.0, 80, 1.05
PORTCALL = str(Path(sys.executable).with_name("portcall"))

WORKSTATION = """
[[workstation]]
adapter = "usb0"
wire = "plant"
mac = "02-1A-40-7C-00-06"
address = "10.61.20.254/24"
"""

DEVICE = """
[[devices]]
name = "drive-{n}"
kind = "drive"
speaks = ["cip"]
wire = "plant"
mac = "02-77-B1-00-00-{n:02X}"
address = "10.61.20.{n}/24"
product = "Gale 7 drive, 4 kW"
serial = "77B100{n:02X}"
vendor = 64102
device_type = 0x02
product_code = 704
firmware = "5.002"
"""


def scenario() -> str:
    """A plant of drives, as TOML."""
    devices = "".join(DEVICE.format(n=n) for n in range(1, DEVICES + 1))
    return f'name = "two hundred and fifty"\n{WORKSTATION}{devices}'


def plan() -> str:
    """All of them, as CSV."""
    rows = (f"drive-{n},02-77-B1-00-00-{n:02X},10.61.20.{n},24" for n in range(1, DEVICES + 1))
    return "\n".join(("name,mac,address,mask", *rows, ""))


def command(*words: str) -> tuple[float, float, float, str]:
    """Wall seconds, CPU seconds, megabytes, and what it printed."""
    began = time.monotonic()
    with subprocess.Popen(
        [PORTCALL, *words], stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True
    ) as process:
        assert process.stdout is not None
        out = process.stdout.read()
        _, _, used = os.wait4(process.pid, 0)
        process.returncode = 0
    wall = time.monotonic() - began
    return wall, used.ru_utime + used.ru_stime, used.ru_maxrss / 1024, out


def departures(capture: Path) -> list[float]:
    """When each frame left, in seconds, out of a capture that the tool wrote."""
    import struct

    data, position, times = capture.read_bytes(), 0, []
    while position + 28 <= len(data):
        kind, length = struct.unpack_from("<II", data, position)
        # Enhanced packet blocks: the flags option is the last before its end and the length.
        outgoing = kind == 6 and data[position + length - 12] & 3 == 2
        frame = position + 28
        arp_answer = data[frame + 12 : frame + 22] == ARP_ANSWER
        if outgoing and not arp_answer:
            high, low = struct.unpack_from("<II", data, position + 12)
            times.append((high << 32 | low) * 1e-9)
        position += length
    return times


def busiest_second(times: list[float]) -> int:
    """The most frames that left within any one second."""
    most = first = 0
    for last, at in enumerate(times):
        while times[first] <= at - 1.0:
            first += 1
        most = max(most, last - first + 1)
    return most


def inside(folder: Path) -> int:
    """On the plant's workstation."""
    # As an installed package has it; this may run from a folder that has no bytecode.
    compileall.compile_dir(next(iter(portcall.__path__)), quiet=1)
    command("find", "--method", "arp")  # Warm-up: page cache.
    good = True
    walls, cpus = [], []
    capture = folder / "sent.pcapng"
    for run in range(1, RUNS + 1):
        command("find", "--capture", str(capture))
        times = sorted(departures(capture))
        waits = 2 * SWEEP_WAIT + sum(ANSWER_WAITS)
        required = len(times) / DEFAULT_PACE + waits
        over = busiest_second(times) / DEFAULT_PACE
        wall, cpu, megabytes, out = command("find")
        found = sum("Gale 7" in line for line in out.splitlines())
        print(
            f"run {run}: {found} of {DEVICES} identified; wall {wall / required:.2f} of what "
            f"{len(times):,} frames and {waits:.1f} s of waits require (stated: {MOST_WALL}); "
            f"CPU {cpu / MOST_CPU:.2f} of {MOST_CPU:.0f} s; "
            f"memory {megabytes / MOST_MEGABYTES:.2f} of {MOST_MEGABYTES} MB; "
            f"busiest second {over:.2f} of the pace (stated: {MOST_OVER})"
        )
        walls.append(wall / required)
        cpus.append(cpu / MOST_CPU)
        good = good and found == DEVICES and megabytes <= MOST_MEGABYTES and over <= MOST_OVER
    wall, cpu = statistics.median(walls), statistics.median(cpus)
    print(f"median of {RUNS}: wall {wall:.2f} (stated: {MOST_WALL}), CPU {cpu:.2f} (stated: 1)")
    good = good and wall <= MOST_WALL and cpu <= 1
    Path("plan.csv").write_text(plan(), encoding="utf-8")
    for line in ("verify", f"reach 10.61.20.1-{DEVICES}", "assign --keep --until-done"):
        *_, out = command(*line.split(), "--capture", str(capture))
        named = sum("drive-" in line and "10.61.20." in line for line in out.splitlines())
        over = busiest_second(sorted(departures(capture))) / DEFAULT_PACE
        print(f"{line}: busiest second {over:.2f} of the pace (stated: {MOST_OVER})")
        good = good and named >= DEVICES and over <= MOST_OVER
    return 0 if good else 1


def main() -> int:
    """Outside the plant: write its scenario, and bring it up around this file."""
    if sys.argv[1:2] == ["inside"]:
        return inside(Path(sys.argv[2]))
    with tempfile.TemporaryDirectory() as folder:
        file = Path(folder, "plant.toml")
        file.write_text(scenario(), encoding="utf-8")
        plant = [PORTCALL, "plant", "run", "--scenario", str(file), "--"]
        line = [*plant, sys.executable, str(Path(__file__).resolve()), "inside", folder]
        return subprocess.run(line, check=False, cwd=folder).returncode


if __name__ == "__main__":
    sys.exit(main())
