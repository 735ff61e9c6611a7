"""Saying things: sentences on stderr, JSON on stdout. Needs nothing heavy."""

from __future__ import annotations

import json
import sys
from typing import Any

import click

json_option = click.option("--json", "as_json", is_flag=True, help="Print JSON instead.")


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


def milliseconds(seconds: float | None) -> str | None:
    """A time as people read it."""
    return None if seconds is None else f"{seconds * 1000:.2f} ms"
