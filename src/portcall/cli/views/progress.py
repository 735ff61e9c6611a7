"""A bar on stderr with what a look is doing and how long it takes."""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager

from portcall.core.find.outlook import Outlook


@contextmanager
def progress_bar() -> Iterator[Callable[[Outlook], None]]:
    """A function that draws the bar when it is told the progress; nothing without a terminal."""
    if not sys.stderr.isatty():
        yield lambda outlook: None
        return
    from rich.console import Console
    from rich.progress import BarColumn, Progress, TextColumn

    columns = (
        BarColumn(24, complete_style="bold"),
        TextColumn("{task.fields[left]:>5}"),
        TextColumn("{task.description}", markup=False),
    )
    console = Console(stderr=True, markup=False, highlight=False)
    with Progress(*columns, console=console, transient=True) as progress:
        bar = progress.add_task("", total=1.0, left="")

        def draw(outlook: Outlook) -> None:
            left = f"{outlook.seconds_left:.0f} s"
            words = "; ".join(filter(None, (outlook.note, ", ".join(outlook.stages))))
            progress.update(bar, completed=outlook.share, description=words, left=left)

        yield draw
