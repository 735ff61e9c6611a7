"""A program that runs beside this one, in the same terminal."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(slots=True)
class Beside:
    """A program to run in the foreground of this terminal, with these variables besides ours.

    ``files`` are written into a folder for the time being, ``reads`` into a pipe: its own start-up
    file. ``is_shell`` says that it does not end by SIGTERM.
    """

    words: list[str]
    variables: dict[str, str]
    is_shell: bool = False
    reads: str = ""
