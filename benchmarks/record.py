"""What the record costs: adding a look, comparing two large ones, and how large a year of it is;
and what a logbook of 100,000 entries costs whoever reads or shares it.

Each against a stated limit, medians of some runs. Ends with 1 when a median is over its limit. With
``--million``, only the state of a site of a million entries: making that takes some minutes.
"""

from __future__ import annotations

import json
import os
import shutil
import statistics
import subprocess
import sys
import tempfile
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from pathlib import Path
from time import perf_counter

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))

from portcall.core.record.entry import Kind
from portcall.site.logbook.chain_file import add_lines
from portcall.site.logbook.shared import sync
from portcall.site.logbook.shared_address import check_url
from portcall.site.logbook.store import Logbook
from portcall.site.logbook.writing import new_entry, write_entries
from postgres import PROGRAMS, Server

RUNS = 5
ADDING, COMPARING, MEMORY, YEAR = 0.1, 3.0, 300.0, 50.0
PAGE = 6.0
PAGES = (
    *("sketch line.svg", "sketch line.pdf", "sketch line.png"),
    *("report record.html", "report record.pdf", "report record.xlsx"),
)
"""Seconds for a look of 250 devices; seconds and MB for two looks of 65,534; MB for a year."""


def devices(count: int, changed: int = 0) -> list[dict[str, object]]:
    """So many devices, as a look has them; the first few of them with another firmware."""
    return [
        {
            "mac": f"02-77-B1-{n >> 16:02X}-{n >> 8 & 255:02X}-{n & 255:02X}",
            "addresses": [f"10.61.{n >> 8 & 255}.{n & 255}"],
            "product": "Gale 7 drive, 4 kW",
            "firmware": (firmware := "5.003" if n < changed else "5.002"),
            "serial": f"77B1{n:05X}",
            "ports": ["44818 CIP"],
            "said": [{"what": "firmware", "value": firmware, "by": "cip"}],
            "methods": ["arp", "cip", "ports"],
            "remarks": [],
        }
        for n in range(count)
    ]


def look(count: int, changed: int = 0) -> dict[str, object]:
    """The body of a look."""
    scope = {"asked": ["10.61.0.0/16"], "methods": ["arp", "cip", "ports"], "not_run": []}
    return {**scope, "devices": devices(count, changed)}


def adding(site: Path) -> float:
    """Seconds to write down a look of 250 devices, and to take it in."""
    entry = new_entry(Kind.LOOK, "250 devices", look(250))
    began = perf_counter()
    write_entries(site, entry)
    return perf_counter() - began


def make_planned(site: Path) -> None:
    """A site of 250 planned devices, all verified, behind ten switches."""
    known = devices(251)[1:]  # The first one's address is that of the subnet.
    rows = [f"drive-{n},{each['mac']},{each['addresses'][0]}" for n, each in enumerate(known)]
    (site / "plan.csv").write_text("\n".join(("name,mac,address", *rows, "")))
    judged = [
        {"name": f"drive-{n}", "mac": each["mac"], "address": each["addresses"][0]}
        for n, each in enumerate(known)
    ]
    switches = [
        {
            "address": known[at]["addresses"][0],
            "macs": [known[at]["mac"]],
            "whole": True,
            "ports": [
                {
                    "port": str(n),
                    "behind": [known[at + n]["mac"]],
                    "others": 0,
                    "neighbours": [],
                }
                for n in range(1, 25)
            ],
        }
        for at in range(0, 250, 25)
    ]
    verdicts = [{**each, "verdict": "right", "findings": []} for each in judged]
    body = {**look(250), "devices": known, "rows": verdicts, "switches": switches}
    write_entries(site, new_entry(Kind.VERIFICATION, "250 right", body))
    Logbook(site)


def running(site: Path, *what: str) -> tuple[float, float]:
    """Seconds and MB of a command that reads the logbook."""
    command = [sys.executable, "-m", "portcall", *what]
    began = perf_counter()
    null = subprocess.DEVNULL
    process = subprocess.Popen(command, cwd=site, stdout=null, stderr=null)
    _, status, usage = os.wait4(process.pid, 0)
    process.returncode = os.waitstatus_to_exitcode(status)
    seconds = perf_counter() - began
    if process.returncode not in (0, 1):
        sys.exit(f"{command} ended with {process.returncode}")
    return seconds, usage.ru_maxrss / 1024


def year(site: Path) -> float:
    """MB of 1,000 looks of 250 devices, one in four of which found something else."""
    for n in range(1000):
        write_entries(site, new_entry(Kind.LOOK, "250 devices", look(250, n // 4)))
    Logbook(site)
    folder = site / "logbook"
    return sum(path.stat().st_size for path in folder.rglob("*") if path.is_file()) / 1e6


MANY, OF_MANY, MANY_MEMORY, NOTED, SHARED = 100_000, 2.0, 150.0, 1.0, 1.0
"""Entries; seconds and MB for the state of a site that has so many; seconds to write one more, and
to share them once more when all are there."""

MILLION, OF_MILLION = 1_000_000, 5.0


def make_many(site: Path, count: int) -> None:
    """A site of 60 devices and so many entries: eight in ten given, one set, one look or judged."""
    known = devices(61)[1:]
    rows = [f"d{n},{each['mac']},{each['addresses'][0]}" for n, each in enumerate(known)]
    (site / "plan.csv").write_text("\n".join(("name,mac,address", *rows, "")))
    begins = datetime.now(UTC) - timedelta(days=300)
    step = timedelta(days=299) / count

    def about(n: int) -> dict[str, object]:
        device = known[n % 60]
        at = (begins + step * n).isoformat(timespec="milliseconds")
        address = device["addresses"][0]
        return {"at": at, "name": f"d{n % 60}", "mac": device["mac"], "address": address}

    given = ({**about(n), "event": "assigned", "protocol": "DHCP"} for n in range(count // 10 * 8))
    stored = {"step": "done", "by": "CIP", "settings": "stored in the device"}
    was_set = ({**about(n * 8), **stored} for n in range(count // 10))
    for name, lines in (("assigned.jsonl", given), ("settings.jsonl", was_set)):
        add_lines(site / name, [json.dumps(each) for each in lines])
    looks = []
    for n in range(count // 10):
        device, at = known[n % 60], begins + step * n * 10
        judged = {**about(n), "verdict": "right", "echo_ms": n / 7}
        one = {"devices": [device], "rows": [judged], "whole_plan": False}
        seen = new_entry(Kind.LOOK, "60 devices", look(60, n // 20 % 60))
        found = seen if n % 2 else new_entry(Kind.VERIFICATION, "1 right", one)
        looks.append(replace(found, at=at, boot=""))
    for start in range(0, len(looks), 1000):
        write_entries(site, *looks[start : start + 1000])
        Logbook(site)


def shared_again(site: Path) -> list[float]:
    """Seconds to share a logbook that is there already; of none where there is no PostgreSQL."""
    if not PROGRAMS:
        return []
    server = Server()
    try:
        address = check_url(server.url, own=True)
        sync(site, site.name, address)

        def again() -> float:
            began = perf_counter()
            sync(site, site.name, address)
            return perf_counter() - began

        return [again() for _ in range(RUNS)]
    finally:
        server.stop()
        shutil.rmtree(server.folder)


def million() -> int:
    """Measure and judge the state of a site of a million entries."""
    with tempfile.TemporaryDirectory() as folder:
        site = Path(folder)
        subprocess.run([sys.executable, __file__, folder, str(MILLION)], check=True)
        runs = [running(site, "status", "--json") for _ in range(RUNS)]
    seconds, memory = statistics.median(s for s, _ in runs), max(m for _, m in runs)
    return judged(
        [
            (f"status of {MILLION:,} entries", seconds, OF_MILLION, "s"),
            ("memory for that", memory, MANY_MEMORY, "MB"),
        ]
    )


def make_large(site: Path) -> None:
    """Write down two looks of 65,534 devices."""
    for changed in (0, 300):
        write_entries(site, new_entry(Kind.LOOK, "all", look(65_534, changed)))
    Logbook(site)


def main() -> int:
    """Measure and judge."""
    with tempfile.TemporaryDirectory() as folder:
        names = ("adding", "comparing", "year", "drawing", "many")
        sites = [Path(folder) / name for name in names]
        for site in sites:
            site.mkdir()
            (site / "plan.csv").write_text("name,address\nx,10.61.0.1\n")
        added = statistics.median(adding(sites[0]) for _ in range(RUNS))
        # In a process of its own: what this one had in memory would count for those it starts.
        subprocess.run([sys.executable, __file__, str(sites[1])], check=True)
        runs = [running(sites[1], "compare", "--json") for _ in range(RUNS)]
        compared = statistics.median(seconds for seconds, _ in runs)
        size = year(sites[2])
        state = statistics.median(running(sites[2], "status", "--json")[0] for _ in range(RUNS))
        quick = statistics.median(running(sites[2], "compare", "--json")[0] for _ in range(RUNS))
        make_planned(sites[3])
        pages = {
            what: statistics.median(
                running(sites[3], *what.split(), "--overwrite")[0] for _ in range(RUNS)
            )
            for what in PAGES
        }
        subprocess.run([sys.executable, __file__, str(sites[4]), str(MANY)], check=True)
        many = [running(sites[4], "status", "--json") for _ in range(RUNS)]
        noted = statistics.median(running(sites[4], "note", "d1", "x")[0] for _ in range(RUNS))
        after = running(sites[4], "status", "--json")[0]
        shared = shared_again(sites[4])
    results = [
        ("adding a look of 250 devices", added, ADDING, "s"),
        ("comparing two looks of 65,534 devices", compared, COMPARING, "s"),
        ("memory for that", max(memory for _, memory in runs), MEMORY, "MB"),
        ("1,000 looks of 250 devices on the disk", size, YEAR, "MB"),
        ("comparing the last two of these", quick, 1.0, "s"),
        ("status after these", state, 1.5, "s"),
        (f"status of {MANY:,} entries", statistics.median(s for s, _ in many), OF_MANY, "s"),
        ("memory for that", max(memory for _, memory in many), MANY_MEMORY, "MB"),
        ("writing one more", noted, NOTED, "s"),
        ("status when some were written", after, OF_MANY, "s"),
        *(("sharing them again", statistics.median(shared), SHARED, "s") for _ in shared[:1]),
        *((f"{what} of 250 devices", seconds, PAGE, "s") for what, seconds in pages.items()),
    ]
    if not shared:
        print("sharing them again: not measured, PostgreSQL is not installed")
    return judged(results)


def judged(results: list[tuple[str, float, float, str]]) -> int:
    """Print each result with its limit; gives 1 where one is over it."""
    for what, value, limit, unit in results:
        print(f"{what}: {value:.3g} {unit}, {value / limit:.2f} of {limit:g} {unit}")
    return int(any(value > limit for _, value, limit, _ in results))


if __name__ == "__main__":
    if sys.argv[1:] == ["--million"]:
        sys.exit(million())
    if len(sys.argv) == 2:
        make_large(Path(sys.argv[1]))
    elif len(sys.argv) == 3:
        make_many(Path(sys.argv[1]), int(sys.argv[2]))
    else:
        sys.exit(main())
