"""The demo's story: command lines that are really run, on the practice plant's workstation.

Each step has the exit code that belongs to the story; another one ends the demo, so that the demo
is a test as well.
"""

from __future__ import annotations

import shlex
import subprocess
import sys
from collections.abc import Callable
from dataclasses import dataclass

YES, NO = 0, 1
"""How a command ends whose answer is yes or no."""


@dataclass(frozen=True, slots=True)
class Step:
    """A step of the story: the words, the line that is typed, and its exit code."""

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
        "Lunch. A colleague takes the laptop to another machine, and sets its address by hand.",
        "portcall plant fault workstation other-subnet",
    ),
    Step("And now the controller is gone. Why?", "portcall why dryer-plc", NO),
    Step("The address is put back.", "portcall plant mend"),
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
    Step(
        "How far is the site? Its logbook knows, in its folder logbook/; nothing is sent.",
        "portcall status",
        NO,
    ),
    Step(
        "And the island: what was done to it, by whom, and what was there before?",
        "portcall logbook show --device io-island-1",
    ),
    Step(
        "And where does what hang? The switch in panel A1 told who is behind each of its ports.",
        "portcall sketch",
    ),
    Step(
        "The paper for the customer, of the same logbook: what is proved, and what is open.",
        "portcall report hand-over.xlsx",
        NO,
    ),
    Step("Done for today: the laptop goes back to what it was.", "portcall restore"),
)


def play(begins: Callable[[int, Step], None], ended: Callable[[Step, int], None]) -> bool:
    """Run every step, told of before and after; whether each ended as it should."""
    for number, step in enumerate(STORY, start=1):
        begins(number, step)
        words = shlex.split(step.line)
        if words[0] == "portcall":
            words[:1] = [sys.executable, "-m", "portcall"]
        code = subprocess.run(words, check=False).returncode
        ended(step, code)
        if code != step.ends_with:
            return False
    return True
