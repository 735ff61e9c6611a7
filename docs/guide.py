"""Make docs/guide.md: the day of an engineer in eleven steps, typed on the practice plant.

``make guide`` writes it anew. ``guide.py --check`` types everything again, and ends with 1 when the
page does not show these lines, how they ended, or the heads of their tables any more.
"""

from __future__ import annotations

import os
import re
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

HERE = Path(__file__).parent
PAGE = HERE / "guide.md"
PORTCALL = str(Path(sys.executable).with_name("portcall"))
COLUMNS = "100"


@dataclass(frozen=True)
class Step:
    """What is done and why, the lines that are typed for it, and lines that are typed unseen."""

    title: str
    why: str
    lines: tuple[str, ...]
    unseen: tuple[str, ...] = ()


STEPS = (
    Step(
        "One device, one visit",
        "Most of the work is one device: get in, see that it answers, set it, leave. Without a "
        "line behind `--` a shell opens, in which `reach`, `why`, `open`, `move` and `keep` mean "
        "this device, until `exit`.",
        ("portcall visit weigh-gateway -- portcall why web",),
    ),
    Step(
        "Which adapter has the cable?",
        "Link comes before any other question. What is likely to get in the way is said here too.",
        ("portcall adapters",),
    ),
    Step(
        "What is on the wire?",
        "Nothing has been set yet, and this computer has no address in the plant: it borrows one "
        "in each subnet for the time of asking. First comes what is wrong, then who is there, then "
        "what to do.",
        ("portcall find",),
    ),
    Step(
        "Is the plan sound?",
        "`plan.csv` comes from a spreadsheet. Every mistake is named with its line.",
        ("portcall plan check",),
    ),
    Step(
        "Into the plant's subnet",
        "`match` asks on the wire whether the address is free, and writes down what it changes.",
        ("portcall match dryer-plc",),
    ),
    Step(
        "Give the addresses",
        "`find` said that one MAC on the wire differs in a digit from the plan. The label is right:"
        " the plan is corrected, the devices are served, and told to keep their addresses.",
        (
            "sed -i s/02-77-B1-4C-0E-53/02-77-B1-4C-0E-58/ plan.csv",
            "portcall assign fan-drive-1 fan-drive-2 belt-drive --keep --until-done --for 40",
        ),
    ),
    Step(
        "Bring the others to their places",
        "A device that does not ask is moved: by CIP, by DCP, or by hand with its web page named.",
        ("portcall move io-island-1",),
    ),
    Step(
        "Prove it",
        "The plan against the wire: what is wrong stands first, and the last line adds up.",
        ("portcall verify",),
    ),
    Step(
        "One device does not answer: why?",
        "Somebody has pulled a cable. The ladder stops at the first broken rung.",
        ("portcall why fan-drive-2",),
        ("portcall plant unplug fan-drive-2",),
    ),
    Step(
        "Is the connection good?",
        "Loss and times; the answer is yes when at least 95 of 100 came back.",
        ("portcall reach dryer-plc fan-drive-1 fan-drive-2 --count 20 --interval 0.1",),
        ("portcall plant plug fan-drive-2",),
    ),
    Step(
        "Put the laptop back",
        "Everyone forgets; every command reminds of it.",
        ("portcall restore",),
    ),
)


def typed(line: str, site: str) -> tuple[str, int]:
    """What a line prints, as it comes, and how it ends."""
    shell = f"cd {site} && {line}"
    environment = os.environ | {"PORTCALL_COLUMNS": COLUMNS, "LC_ALL": "C.UTF-8"}
    ended = subprocess.run(
        ["sh", "-c", shell],
        stdout=subprocess.PIPE,
        stderr=subprocess.STDOUT,
        text=True,
        check=False,
        env=environment,
    )
    return ended.stdout.strip("\n"), ended.returncode


def inside(target: Path) -> None:
    """On the plant's workstation: type everything, and write the page."""
    site = os.environ["PRACTICE_SITE"]
    target.write_text("\n".join(page(site)) + "\n", encoding="utf-8")


def page(site: str) -> Iterator[str]:
    """The page, line by line."""
    yield "# A day in eleven steps\n"
    yield (
        "Typed on the practice plant (`portcall plant shell`), as `make guide` writes it; times,\n"
        "and the order in which devices come, differ from day to day.\n"
    )
    for number, step in enumerate(STEPS, 1):
        yield f"## {number}. {step.title}\n"
        yield f"{step.why}\n"
        for line in step.unseen:
            typed(line, site)
        for line in step.lines:
            shown, code = typed(line, site)
            yield f"```\n$ {line}"
            if shown:
                yield shown
            yield f"```\n\nIt ends with {code}.\n" if code else "```\n"


def lasting(text: str) -> list[str]:
    """What of a page does not differ from day to day: lines typed, how they end, table heads.

    Of a head the first two columns: whether there is room for others depends on what is in them.
    """
    kept = re.compile(r"\$ .*|It ends with .*|## .*|[A-Z]+  +[A-Z]+")
    found = (kept.match(line) for line in text.splitlines())
    return [" ".join(each[0].split()) for each in found if each]


def main() -> int:
    """Bring a plant up around this file."""
    if sys.argv[1:2] == ["inside"]:
        inside(Path(sys.argv[2]))
        return 0
    checks = sys.argv[1:] == ["--check"]
    with tempfile.TemporaryDirectory() as folder:
        target = Path(folder, "guide.md") if checks else PAGE
        line = [PORTCALL, "plant", "run", "--", sys.executable, __file__, "inside", str(target)]
        code = subprocess.run(line, check=False).returncode
        if code or not checks:
            return code
        now, before = lasting(target.read_text()), lasting(PAGE.read_text())
    for new in (line for line in now if line not in before):
        print(f"the page does not have: {new}")
    for old in (line for line in before if line not in now):
        print(f"is not so any more: {old}")
    return 0 if now == before else 1


if __name__ == "__main__":
    sys.exit(main())
