"""The demo's story, told on the practice plant's workstation: run as a program of its own.

Every step is a command line that is really run. Each has the exit codes that belong to the story;
another one ends the demo with 1, so that the demo is a test as well.
"""

from __future__ import annotations

import shlex
import subprocess
import sys
import time
from dataclasses import dataclass

from rich.text import Text

from portcall.cli.main import NO, YES
from portcall.cli.show import console

_PROMPT = "tern-point$ "


@dataclass(frozen=True, slots=True)
class Step:
    """What is told, the line that is typed, and the exit code it ends with."""

    told: str
    line: str
    ends_with: int = YES


STORY = (
    Step(
        "A laptop with two adapters, one cable in the dryer line's panel. Which adapter is it?",
        "portcall adapters",
    ),
    Step(
        "usb0 has the cable, and no address. What is on the wire? Looking changes nothing.",
        "portcall find",
    ),
    Step(
        "Eight devices have addresses, most of them not ours; four ask. Into the plant's subnet.",
        "portcall match dryer-plc",
    ),
    Step(
        "The plan says who gets which address. Serve it, and have each device keep what it got.",
        "portcall assign fan-drive-1 fan-drive-2 belt-drive --keep --for 5",
        NO,
    ),
    Step(
        "fan-drive-2's MAC was copied wrong: its label says 58, the plan 53. Correct the plan …",
        "sed -i s/4C-0E-53/4C-0E-58/ plan.csv",
    ),
    Step(
        "… and serve that one again, in a hurry: nobody tells it to keep its address.",
        "portcall assign fan-drive-2 --until-done --for 15",
    ),
    Step(
        "The island has no address and does not ask. Over DCP it needs none to be set and named.",
        "portcall move io-island-1",
    ),
    Step(
        "Somebody switches the panel off and on.",
        "portcall plant power-cycle fan-drive-1 fan-drive-2 io-island-1",
    ),
    Step(
        "Is the right one everywhere? What was not kept is lost; what is left says how to do it.",
        "portcall verify",
        NO,
    ),
    Step("Done for today: the laptop goes back to what it was.", "portcall restore"),
)


def tell(story: tuple[Step, ...] = STORY) -> int:
    """Tell the story; gives 0 when every step ended as it should."""
    out = console()
    began = time.monotonic()
    for number, step in enumerate(story, start=1):
        out.print(Text(f"\n{number}. {step.told}", style="bold cyan"))
        out.print(Text.assemble((_PROMPT, "dim"), (step.line, "bold")))
        sys.stdout.flush()
        words = shlex.split(step.line)
        if words[0] == "portcall":
            words[:1] = [sys.executable, "-m", "portcall"]
        code = subprocess.run(words, check=False).returncode
        if code != step.ends_with:
            out.print(Text(f"this ended with {code}, it should with {step.ends_with}", "bold red"))
            return NO
        if code == NO:
            out.print(Text("(exit code 1: the answer is no)", style="dim"))
    out.print(
        Text(
            f"\nThat was the job, in {time.monotonic() - began:.0f} seconds. "
            "By hand, on the same plant:\n",
            style="bold cyan",
        ),
        Text.assemble(("    portcall plant shell", "bold"), "      then any line from above"),
    )
    return YES


if __name__ == "__main__":
    sys.exit(tell())
