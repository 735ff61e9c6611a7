"""The demo's story as it is told at the terminal: run as a program of its own, inside the plant."""

from __future__ import annotations

import sys
from datetime import datetime

from rich.text import Text

from portcall.cli.main import NO, YES
from portcall.cli.table import console
from portcall.plant.story import Step, play

_PROMPT = "tern-point$ "


def tell() -> int:
    """Tell the story; gives 0 when every step ended as it should."""
    out = console()
    began = datetime.now()

    def begins(number: int, step: Step) -> None:
        out.print(Text(f"\n{number}. {step.told}", style="bold cyan"))
        out.print(Text.assemble((_PROMPT, "bright_black"), (step.line, "bold")))
        sys.stdout.flush()

    def ended(step: Step, code: int) -> None:
        if code != step.ends_with:
            out.print(
                Text(f"this ended with {code}; it should end with {step.ends_with}", "bold red")
            )
        elif code == NO:
            out.print(Text("(exit code 1: the answer is no)", style="bright_black"))

    if not play(begins, ended):
        return NO
    out.print(
        Text(
            f"\nThat was the job, in {(datetime.now() - began).total_seconds():.0f} seconds. "
            "By hand, on the same plant:\n",
            style="bold cyan",
        ),
        Text.assemble(("    portcall plant shell", "bold"), "      then any line from above"),
    )
    return YES


if __name__ == "__main__":
    sys.exit(tell())
