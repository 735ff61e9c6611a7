"""An unpaced ARP sweep of a /16 that all answers, against a bare C loop; and the list's memory.

Stated limits: at least 0.2 of the C loop's rate, measured in the same run, in turn; and a ``find``
of 65,534 devices, each with a MAC of its own, in 250 MB. In a practice plant of two: ``sweep.c`` is
the loop, the kernel of the other end answers for the block, ``crowd.c`` answers with many MACs.
"""

from __future__ import annotations

import asyncio
import os
import resource
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

HERE = Path(__file__).resolve().parent
BLOCK, BLOCK_HEX = "10.61.0.0/16", "0a3d"
ADDRESSES = 65_534
RUNS = 7
SHARE = 0.2
MOST_MEGABYTES = 250
PORTCALL = str(Path(sys.executable).with_name("portcall"))


def ours() -> float:
    """Requests a second of the tool's own sweep, up to its last answer."""
    from portcall.core.address import parse_range
    from portcall.core.find.devices import Gathering
    from portcall.core.find.sighting import Method, Sighting
    from portcall.host.adapters import read_adapters
    from portcall.jobs.look.findings import Orders
    from portcall.jobs.look.look import Look

    adapter = next(each for each in read_adapters() if each.name == "usb0")
    gathering = Gathering()
    last, count = 0.0, 0

    def seen(sighting: Sighting) -> None:
        nonlocal last, count
        gathering.add(sighting)
        last = time.monotonic()
        count += 1

    async def look() -> float:
        orders = Orders(ranges=(parse_range(BLOCK),), pace=None, methods=(Method.ARP,))
        began = time.monotonic()
        await Look(adapter, orders, seen).run()
        return began

    began = asyncio.run(look())
    if count != ADDRESSES:
        sys.exit(f"the sweep heard {count} of {ADDRESSES} answers")
    return ADDRESSES / (last - began)


def bare(program: Path) -> float:
    """Requests a second of the C loop."""
    out = subprocess.run([program, "usb0", BLOCK_HEX], check=True, capture_output=True, text=True)
    return float(out.stdout.split()[0])


def on_crowd(*words: str) -> list[str]:
    return [PORTCALL, "plant", "on", "crowd", "--", *words]


def inside(folder: Path) -> int:
    """On the plant's workstation."""
    subprocess.run(on_crowd("ip", "link", "set", "lo", "up"), check=True)
    route = ("ip", "route", "add", "local", BLOCK, "dev", "lo")
    subprocess.run(on_crowd(*route), check=True)
    pairs = []
    for _ in range(RUNS):
        fast = bare(folder / "sweep")
        one = subprocess.run(
            [sys.executable, __file__, "once"], check=True, capture_output=True, text=True
        )
        pairs.append(float(one.stdout) / fast)
    shares = sorted(pairs)
    median = statistics.median(shares)
    print(
        f"sweep of a /16: {median:.2f} of the C loop's rate (min {shares[0]:.2f}, "
        f"max {shares[-1]:.2f}, {RUNS} pairs); stated: at least {SHARE}"
    )
    subprocess.run(on_crowd("ip", "route", "del", "local", BLOCK, "dev", "lo"), check=True)
    with subprocess.Popen(on_crowd(str(folder / "crowd"), "eth0", BLOCK_HEX)) as crowd:
        time.sleep(1.5)
        with open(folder / "list", "w") as out:
            line = [PORTCALL, "find", BLOCK, "--method", "arp", "--unpaced"]
            subprocess.run(line, stdout=out, stderr=subprocess.DEVNULL, check=False)
        crowd.kill()
    # The largest of all that ran: find, whose list it is, is larger than the C programs.
    megabytes = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 1024
    with open(folder / "list") as lines:
        listed = sum("02-FE-0A-3D" in line for line in lines)
    print(
        f"list of {listed:,} devices: {megabytes:.0f} MB at most; stated: {MOST_MEGABYTES} "
        f"for {ADDRESSES:,}"
    )
    good = median >= SHARE and megabytes <= MOST_MEGABYTES and listed == ADDRESSES
    return 0 if good else 1


def main() -> int:
    """Outside the plant: compile, and bring one up around this file."""
    if sys.argv[1:] == ["once"]:
        print(ours())
        return 0
    if sys.argv[1:2] == ["inside"]:
        return inside(Path(sys.argv[2]))
    with tempfile.TemporaryDirectory() as folder:
        for name in ("sweep", "crowd"):
            compiler = os.environ.get("CC", "cc")
            source = HERE / f"{name}.c"
            subprocess.run([compiler, "-O2", "-o", f"{folder}/{name}", source], check=True)
        plant = [PORTCALL, "plant", "run", "--scenario", str(HERE / "crowd.toml"), "--"]
        line = [*plant, sys.executable, __file__, "inside", folder]
        return subprocess.run(line, check=False).returncode


if __name__ == "__main__":
    sys.exit(main())
