"""A find on a plant of 250 answering devices, and on the shipped one: time, CPU, memory, the pace.

Stated limits, for the 250: all are identified; the first row within 0.5 s of Enter, all of them
within 10 s, CPU time 2 s, each as the median of some runs; memory 80 MB. For the shipped plant,
from outside its subnets: 7 s. On the wire, in no second of any run, by ``find`` or by what else
talks to a whole plan: more broadcasts and multicasts than 100, more frames to any one device than
20, more in all than 1,000.
"""

from __future__ import annotations

import compileall
import os
import pty
import statistics
import struct
import subprocess
import sys
import tempfile
import time
from collections import defaultdict
from collections.abc import Iterator
from pathlib import Path
from typing import NamedTuple

import portcall
from portcall.core.talk.pacer import IN_ALL, TO_ALL, TO_ONE

ARP_ANSWER = b"\x08\x06\x00\x01\x08\x00\x06\x04\x00\x02"
"""Not counted: with it the computer's kernel answers what a device asks, at the device's pace."""

DEVICES = 250
RUNS = 3
MOST_FIRST, MOST_WALL, MOST_CPU, MOST_MEGABYTES = 0.5, 10.0, 2.0, 80
MOST_SHIPPED = 7.0
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


def first_row() -> float:
    """Seconds from Enter until a device stands on the terminal."""
    began = time.monotonic()
    pid, terminal = pty.fork()
    if pid == 0:
        os.environ["TERM"] = "xterm-256color"
        os.execv(PORTCALL, [PORTCALL, "find"])
    drawn, first = b"", 0.0
    try:
        while piece := os.read(terminal, 65536):
            drawn += piece
            if not first and b"02-" in drawn:
                first = time.monotonic() - began
    except OSError:
        pass  # The terminal is gone with its last program.
    os.waitpid(pid, 0)
    return first


class Left(NamedTuple):
    """A frame that left: when, in seconds, and whom it was for."""

    at: float
    to: bytes


def departures(capture: Path) -> Iterator[Left]:
    """The frames that left the adapter, out of a capture that the tool wrote."""
    data, position = capture.read_bytes(), 0
    while position + 28 <= len(data):
        kind, length = struct.unpack_from("<II", data, position)
        # Enhanced packet blocks: the flags option is the last before its end and the length.
        outgoing = kind == 6 and data[position + length - 12] & 3 == 2
        frame = position + 28
        if outgoing and data[frame + 12 : frame + 22] != ARP_ANSWER:
            high, low = struct.unpack_from("<II", data, position + 12)
            yield Left((high << 32 | low) * 1e-9, data[frame : frame + 6])
        position += length


def busiest_second(times: list[float]) -> int:
    """The most frames that left within any one second."""
    times, most, first = sorted(times), 0, 0
    for last, at in enumerate(times):
        while times[first] <= at - 1.0:
            first += 1
        most = max(most, last - first + 1)
    return most


def shares(capture: Path) -> tuple[float, float, float]:
    """The busiest second's share of what is stated: to everybody, to any one device, in all."""
    by_receiver: dict[bytes, list[float]] = defaultdict(list)
    for left in departures(capture):
        by_receiver[b"" if left.to[0] & 1 else left.to].append(left.at)
    to_all = by_receiver.pop(b"", [])
    to_one = max((busiest_second(times) for times in by_receiver.values()), default=0)
    everything = [at for times in (to_all, *by_receiver.values()) for at in times]
    return (
        busiest_second(to_all) / TO_ALL,
        to_one / TO_ONE,
        busiest_second(everything) / IN_ALL,
    )


def told(what: str, measured: tuple[float, float, float]) -> bool:
    """Print the shares; whether none is exceeded."""
    to_all, to_one, in_all = measured
    print(
        f"{what}: busiest second {to_all:.2f} of {TO_ALL:.0f} to everybody, {to_one:.2f} of "
        f"{TO_ONE:.0f} to any one device, {in_all:.2f} of {IN_ALL:,.0f} in all (stated: 1)"
    )
    return max(measured) <= 1


def inside(folder: Path) -> int:
    """On the plant's workstation."""
    # As an installed package has it; this may run from a folder that has no bytecode.
    compileall.compile_dir(next(iter(portcall.__path__)), quiet=1)
    command("find", "--method", "dcp")  # Warm-up: page cache.
    good = True
    firsts, walls, cpus = [], [], []
    capture = folder / "sent.pcapng"
    for run in range(1, RUNS + 1):
        command("find", "--capture", str(capture))
        good = told(f"run {run}, find", shares(capture)) and good
        firsts.append(first_row() / MOST_FIRST)
        wall, cpu, megabytes, out = command("find")
        found = sum("Gale 7" in line for line in out.splitlines())
        print(
            f"run {run}: {found} of {DEVICES} identified; first row {firsts[-1]:.2f} of "
            f"{MOST_FIRST} s; all {wall / MOST_WALL:.2f} of {MOST_WALL:.0f} s; CPU "
            f"{cpu / MOST_CPU:.2f} of {MOST_CPU:.0f} s; memory {megabytes / MOST_MEGABYTES:.2f} of "
            f"{MOST_MEGABYTES} MB"
        )
        walls.append(wall / MOST_WALL)
        cpus.append(cpu / MOST_CPU)
        good = good and found == DEVICES and megabytes <= MOST_MEGABYTES
    medians = [statistics.median(each) for each in (firsts, walls, cpus)]
    print(f"medians: first row {medians[0]:.2f}, all {medians[1]:.2f}, CPU {medians[2]:.2f}")
    good = good and max(medians) <= 1
    Path("plan.csv").write_text(plan(), encoding="utf-8")
    for line in ("verify", f"reach 10.61.20.1-{DEVICES}", "assign --keep --until-done"):
        *_, out = command(*line.split(), "--capture", str(capture))
        named = sum("drive-" in line and "10.61.20." in line for line in out.splitlines())
        good = told(line, shares(capture)) and named >= DEVICES and good
    return 0 if good else 1


def inside_shipped(folder: Path) -> int:
    """On the shipped plant's workstation, in the practice site, with no address in its subnets."""
    os.chdir(os.environ["PRACTICE_SITE"])
    capture = folder / "shipped.pcapng"
    command("find", "--capture", str(capture))
    good = told("shipped plant, find", shares(capture))
    first = statistics.median(first_row() for _ in range(RUNS)) / MOST_FIRST
    wall = statistics.median(command("find")[0] for _ in range(RUNS)) / MOST_SHIPPED
    print(
        f"shipped plant, medians: first row {first:.2f} of {MOST_FIRST} s, all {wall:.2f} of "
        f"{MOST_SHIPPED:.0f} s"
    )
    return 0 if good and max(first, wall) <= 1 else 1


def main() -> int:
    """Outside the plants: bring them up around this file, one after the other."""
    if sys.argv[1:2] == ["inside"]:
        return inside(Path(sys.argv[2]))
    if sys.argv[1:2] == ["shipped"]:
        return inside_shipped(Path(sys.argv[2]))
    with tempfile.TemporaryDirectory() as folder:
        file = Path(folder, "plant.toml")
        file.write_text(scenario(), encoding="utf-8")
        this = [sys.executable, str(Path(__file__).resolve())]
        codes = [
            subprocess.run([PORTCALL, "plant", "run", *words, folder], check=False, cwd=folder)
            for words in (
                ["--scenario", str(file), "--", *this, "inside"],
                ["--", *this, "shipped"],
            )
        ]
        return max(each.returncode for each in codes)


if __name__ == "__main__":
    sys.exit(main())
