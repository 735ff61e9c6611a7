"""What asking inside a gateway costs the plant that polls it, and what parts cost the record.

Stated limits: whoever polls the serial line behind a gateway without a pause gets at most 5 % fewer
answers during a ``find`` of that gateway, and at most 20 % fewer while the units behind it are
asked; a look, a comparison, a sketch and a report of 1,000 devices with ten parts each take at most
six times what they take without any (eleven times as much is in them). Each against a baseline in
the same run. Ends with 1 when a limit is not kept.
"""

from __future__ import annotations

import os
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from ipaddress import IPv4Address
from pathlib import Path
from time import perf_counter

from portcall.core.address import Mac
from portcall.core.find.device import Device
from portcall.core.find.devices import merge
from portcall.core.find.sighting import FoundPart, Method, PartState, Sighting
from portcall.core.part_path import TOP, PartKind
from portcall.core.record.compare import compare
from portcall.core.record.entry import Kind
from portcall.core.record.look import device_document, read_look
from portcall.site.logbook.store import Logbook
from portcall.site.logbook.writing import new_entry, write_entries

PORTCALL = str(Path(sys.executable).with_name("portcall"))
BOILER_HOUSE = Path(__file__).parents[1] / "docs" / "plants" / "boiler-house.toml"
GATEWAY = "10.61.40.20"
FIND, INSIDE, PARTS = 0.05, 0.20, 6.0
BASELINE, MOST_INSIDE = 20.0, 90.0
DEVICES, TEN = 1000, 10
FIRST = IPv4Address("10.61.0.1")
RUNS = 3

POLLER = """
import socket, sys, time
gateway = socket.create_connection((sys.argv[1], 502))
answers = open(sys.argv[2], "w", buffering=1)
number = 0
while True:
    for unit in (1, 2, 5, 9, 17):
        number = number % 65000 + 1
        gateway.sendall(number.to_bytes(2, "big") + b"\\0\\0\\0\\6" + bytes((unit, 3, 0, 0, 0, 1)))
        gateway.recv(260)
        print(time.monotonic(), file=answers)
"""


def poll_rate(log: Path, began: float, ended: float) -> float:
    """Answers a second that the poller got between two moments."""
    at = [float(line) for line in log.read_text().split("\n")[:-1]]
    return sum(began <= each <= ended for each in at) / (ended - began)


def in_the_plant() -> int:
    """Measure in a running boiler house whose gateway gets a poller."""
    os.chdir(os.environ["PRACTICE_SITE"])
    poller, log = Path("poller.py"), Path("polls")
    poller.write_text(POLLER)
    line = [PORTCALL, "plant", "on", "yard-radio", "--", sys.executable, "poller.py", GATEWAY, log]
    polling = subprocess.Popen(list(map(str, line)))
    try:
        while not log.exists() or log.stat().st_size < 1000:
            time.sleep(0.1)

        def during(*words: str, most: float | None = None) -> float:
            began = time.monotonic()
            command = subprocess.Popen([PORTCALL, *words], stdout=-3, stderr=-3)
            try:
                command.wait(most)
            except subprocess.TimeoutExpired:
                command.terminate()
                command.wait()
            return poll_rate(log, began, time.monotonic())

        def alone() -> float:
            began = time.monotonic()
            time.sleep(BASELINE)
            return poll_rate(log, began, time.monotonic())

        finds, insides = [], []
        for _ in range(RUNS):
            quiet = alone()
            finds.append(1 - during("find", GATEWAY) / quiet)
            asking = during("find", GATEWAY, "--unit", "1-30", most=MOST_INSIDE)
            insides.append(1 - asking / statistics.mean((quiet, alone())))
    finally:
        polling.kill()
    kept = True
    for what, shares, limit in (("find", finds, FIND), ("find --inside", insides, INSIDE)):
        share = statistics.median(shares)
        kept = kept and share <= limit
        print(
            f"during {what} a plant's poll of the same serial line gets {share:.1%} fewer answers "
            f"(stated: {limit:.0%}; {min(shares):.1%} to {max(shares):.1%} in {RUNS} runs)"
        )
    return 0 if kept else 1


def devices(with_parts: bool, changed: int = 0) -> list[Device]:
    """A thousand gateways, with ten units each or none, some of which are missing."""

    def sightings() -> Iterator[Sighting]:
        for n in range(DEVICES):
            mac = Mac(b"\2\xc0\xe7" + n.to_bytes(3, "big"))
            yield Sighting(0.0, Method.ARP, mac, FIRST + n)
            for unit in range(1, TEN + 1) if with_parts else ():
                gone = n < changed and unit == 1
                state = PartState.NOT_THERE if gone else PartState.THERE
                path = TOP.below(PartKind.UNIT, unit)
                yield Sighting(0.0, Method.MODBUS, mac, part=FoundPart(path, state, Method.MODBUS))

    return list(merge(sightings()))


def seconds(work: Callable[[], object], runs: int) -> float:
    """The median of some runs."""
    taken = []
    for _ in range(runs):
        began = perf_counter()
        work()
        taken.append(perf_counter() - began)
    return statistics.median(taken)


def site(folder: Path, with_parts: bool) -> Path:
    """A site with a plan of all of them, and a look at them in its logbook."""
    folder.mkdir()
    rows = ["name,mac,address,mask,of,part"]
    for n in range(DEVICES):
        mac = Mac(b"\2\xc0\xe7" + n.to_bytes(3, "big"))
        rows.append(f"gateway-{n},{mac},{FIRST + n},16,,")
        rows += [f"g{n}-{u},,,,gateway-{n},unit {u}" for u in range(1, TEN + 1) if with_parts]
    (folder / "plan.csv").write_text("\n".join(rows) + "\n")
    (folder / "site.toml").write_text('name = "much"\n')
    found = [device_document(each) for each in devices(with_parts)]
    body = {"asked": ["10.61.0.0/16"], "methods": ["arp", "modbus"], "not_run": []}
    entry = new_entry(Kind.LOOK, "1,000 devices", {**body, "devices": found})
    write_entries(folder, entry)
    Logbook(folder).entries()
    return folder


def typed(folder: Path, line: str) -> Callable[[], object]:
    """A command line in a site."""
    words = [PORTCALL, *line.split(), "--overwrite"]
    return lambda: subprocess.run(words, cwd=folder, check=False, capture_output=True)


def main() -> int:
    """Measure the record here, and the poll in a boiler house around this file."""
    if sys.argv[1:] == ["inside"]:
        return in_the_plant()
    kept = True
    with tempfile.TemporaryDirectory() as base:
        folders = {way: site(Path(base, f"parts-{way}"), way) for way in (False, True)}
        looks = {way: devices(way) for way in (False, True)}
        later = {way: devices(way, changed=20) for way in (False, True)}

        def written(way: bool) -> object:
            body = {"devices": [device_document(each) for each in looks[way]]}
            return write_entries(folders[way], new_entry(Kind.LOOK, "", body))

        def compared(way: bool) -> object:
            pair = (
                read_look({"devices": [device_document(each) for each in some[way]]})
                for some in (looks, later)
            )
            return compare(*pair)

        works: dict[str, Callable[[bool], Callable[[], object]]] = {
            "a look written down": lambda way: lambda: written(way),
            "two looks compared": lambda way: lambda: compared(way),
            "sketch": lambda way: typed(folders[way], "sketch line.svg"),
            "report": lambda way: typed(folders[way], "report record.html"),
        }
        for what, work in works.items():
            # What is drawn takes a minute, and is measured once.
            runs = RUNS if what.endswith(("down", "compared")) else 1
            without, with_parts = seconds(work(False), runs), seconds(work(True), runs)
            ratio = with_parts / without
            kept = kept and ratio <= PARTS
            print(
                f"{what}: {DEVICES:,} devices with {TEN} parts each take {with_parts:.2f} s, "
                f"{ratio:.1f} times {without:.2f} s without (stated: {PARTS:.0f})"
            )
    inside = [sys.executable, str(Path(__file__).resolve()), "inside"]
    plant = [PORTCALL, "plant", "run", "--scenario", str(BOILER_HOUSE), "--"]
    ended = subprocess.run([*plant, *inside], check=False).returncode
    return 0 if kept and ended == 0 else 1


if __name__ == "__main__":
    sys.exit(main())
