"""Whether ``why`` names the right cause, and how long it takes, in the practice plant.

Every cause is made, each at two devices of different kind at least, in random order and beside a
harmless oddity, and ``why`` is asked. Then devices to which nothing is wrong are asked for, a
hundred times, beside the same oddities. Stated limits: every cause is named; nothing healthy is
called broken; the median time of what is settled below ARP is under 2 s, and of all others under
8 s. Ends with 1 when one of these is not kept.
"""

from __future__ import annotations

import random
import statistics
import subprocess
import sys
import tempfile
from pathlib import Path

HERE = Path(__file__).resolve().parent
sys.path.insert(0, str(HERE.parent / "tests" / "commands"))

from causes import (  # noqa: E402
    CASES,
    HARMLESS,
    HEALTHY,
    Told,
    ask,
    prepare,
    write_scenario,
)

QUICK = {
    "no-link",
    "flapping",
    "no-address",
    "other-subnet",
    "own-address-taken",
    "route-elsewhere",
    "no-router",
}
QUICK_SECONDS, SECONDS = 2.0, 8.0
HEALTHY_TRIES = 100


def report(told: Told, oddity: str) -> None:
    """One line a try."""
    mark = "right" if told.is_right else f"WRONG: {told.document.get('cause')}"
    wanted = told.case.cause or "nothing"
    print(
        f"{wanted:18} {told.case.target:18} {told.seconds:5.2f} s  {mark}  ({oddity})", flush=True
    )
    if not told.is_right:
        for rung in told.document.get("rungs", []):
            print(f"    {rung['rung']:12} {rung['verdict']:9} {rung['evidence']}")


def judge(cases: list[Told], healthy: list[Told]) -> bool:
    """Print the shares and the times against their limits."""
    right = sum(told.is_right for told in cases)
    wrong = sum(not told.is_right for told in healthy)
    print(f"causes named right: {right} of {len(cases)} (stated: all)")
    print(f"healthy devices called broken: {wrong} of {len(healthy)} (stated: none)")
    kept = right == len(cases) and not wrong
    for what, limit, chosen in (
        ("below ARP", QUICK_SECONDS, [t for t in cases if t.case.cause in QUICK]),
        ("all others", SECONDS, [t for t in cases if t.case.cause not in QUICK]),
    ):
        shares = sorted(told.seconds / limit for told in chosen)
        if shares:
            middle = statistics.median(shares)
            print(
                f"{what}: of the {limit:.0f} s allowed it takes median {middle:.2f}, "
                f"longest {shares[-1]:.2f} ({len(shares)} tries)"
            )
            kept = kept and middle <= 1
    return kept


def main() -> int:
    """Inside the plant: measure. Outside: bring one up around this file."""
    if sys.argv[1:2] != ["inside"]:
        portcall = str(Path(sys.executable).with_name("portcall"))
        inside = [sys.executable, str(Path(__file__).resolve()), "inside", *sys.argv[1:]]
        with tempfile.TemporaryDirectory() as folder:
            plant = ["plant", "run", "--scenario", str(write_scenario(Path(folder, "plant.toml")))]
            return subprocess.run([portcall, *plant, "--", *inside], check=False).returncode
    seed = int(sys.argv[2]) if len(sys.argv) > 2 else random.randrange(1000)
    tries = int(sys.argv[3]) if len(sys.argv) > 3 else HEALTHY_TRIES
    print(f"in the order of seed {seed}")
    chance = random.Random(seed)
    prepare()
    cases = []
    for case in chance.sample(CASES, len(CASES)):
        oddity = chance.choice([line for line in HARMLESS if line.split()[2] != case.target])
        cases.append(ask(case, oddity))
        report(cases[-1], oddity)
    healthy = []
    for _ in range(tries):
        oddity = chance.choice(HARMLESS)
        fitting = [c for c in HEALTHY if _unharmed(c.target, oddity)]
        healthy.append(ask(chance.choice(fitting), oddity))
        if not healthy[-1].is_right:
            report(healthy[-1], oddity)
    return 0 if judge(cases, healthy) else 1


def _unharmed(target: str, oddity: str) -> bool:
    """Whether an oddity is none of the target itself."""
    addresses = {"old-feeder": "10.61.20.15", "hood-vent": "10.61.20.60"}
    return not any(
        target.startswith(address) and (name in oddity or address in oddity)
        for name, address in addresses.items()
    )


if __name__ == "__main__":
    sys.exit(main())
