"""Showing things: tables and JSON on stdout, everything else on stderr."""

from __future__ import annotations

import json
import sys
from collections.abc import Callable, Sequence
from typing import Any, TypeVar

import click
from rich.console import Console
from rich.table import Table
from rich.text import Text

F = TypeVar("F", bound=Callable[..., Any])

_PIPE_WIDTH = 240
"""Columns when nobody's terminal sets them: a file or another program wants whole lines."""

json_option = click.option("--json", "as_json", is_flag=True, help="Print JSON instead.")


def console() -> Console:
    """A console on stdout that takes text as it is: no markup, no emoji codes, no guessing."""
    width = None if sys.stdout.isatty() else _PIPE_WIDTH
    return Console(width=width, markup=False, emoji=False, highlight=False)


def note(sentence: str) -> None:
    """Something to know that is not the answer."""
    click.echo(sentence, err=True)


def print_json(document: Any) -> None:
    """One document."""
    click.echo(json.dumps(document, indent=2, ensure_ascii=False))


def print_json_line(document: Any) -> None:
    """One line of a stream, out at once."""
    click.echo(json.dumps(document, ensure_ascii=False))
    sys.stdout.flush()


def table(*headers: str, wrap: Sequence[str] = ()) -> Table:
    """An empty table without lines; only the columns in ``wrap`` may break theirs."""
    made = Table(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style="bold")
    for header in headers:
        made.add_column(
            header.upper(),
            no_wrap=header not in wrap,
            overflow="fold" if header in wrap else "ellipsis",
            ratio=None,
        )
    return made


def cell(value: object | None, style: str = "") -> Text:
    """A cell; what is not known is a dash."""
    return Text("–", style="dim") if value in (None, "") else Text(str(value), style=style)


def milliseconds(seconds: float | None) -> str | None:
    """A time as people read it."""
    return None if seconds is None else f"{seconds * 1000:.2f} ms"
