"""Saying things: sentences on stderr, JSON on stdout. Needs nothing heavy."""

from __future__ import annotations

import json
import sys
from collections.abc import Iterable
from typing import Any

import click


def note(fact: object) -> None:
    """Something to know that is not the answer: a sentence, or a fact whose ``str`` is one."""
    click.echo(str(fact), err=True)


def print_json(document: Any) -> None:
    """One document."""
    click.echo(json.dumps(document, indent=2, ensure_ascii=False))


def print_json_list(head: dict[str, Any], key: str, entries: Iterable[Any], tail: Any) -> None:
    """One document whose list under ``key`` is made while it is printed: it may be long."""
    click.echo("{")
    for name, value in head.items():
        click.echo(f"  {json.dumps(name)}: {json.dumps(value, ensure_ascii=False)},")
    click.echo(f"  {json.dumps(key)}: [", nl=False)
    first = True
    for entry in entries:
        text = json.dumps(entry, indent=2, ensure_ascii=False).replace("\n", "\n    ")
        click.echo(("" if first else ",") + f"\n    {text}", nl=False)
        first = False
    click.echo("]," if first else "\n  ],")
    lines = json.dumps(tail, indent=2, ensure_ascii=False).split("\n")
    click.echo("\n".join(lines[1:]))


def print_json_line(document: Any) -> None:
    """One line of a stream, out at once."""
    click.echo(json.dumps(document, ensure_ascii=False))
    sys.stdout.flush()


def milliseconds(seconds: float | None) -> str | None:
    """A time as people read it."""
    return None if seconds is None else f"{seconds * 1000:.2f} ms"
