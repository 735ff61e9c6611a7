"""Saying things: sentences on stderr, JSON on stdout. Needs nothing heavy."""

from __future__ import annotations

import json
import os
import sys
from collections.abc import Iterable
from datetime import UTC, datetime
from pathlib import Path
from shutil import get_terminal_size
from textwrap import wrap
from typing import Any

import click

from portcall import __version__


def shown_path(path: Path) -> str:
    """A file as it is named from here: by its name alone where it is in this folder."""
    try:
        return os.path.relpath(path)
    except OSError:
        return str(path)


def note(fact: object) -> None:
    """Something to know that is not the answer: a sentence, or a fact whose ``str`` is one."""
    click.echo(wrapped(str(fact)), err=True)


def wrapped(sentence: str) -> str:
    """A sentence for stderr: on a terminal broken between words, and nowhere else."""
    if not sys.stderr.isatty():
        return sentence
    width = get_terminal_size().columns
    lines = (
        wrap(line, width, break_long_words=False, break_on_hyphens=False) or [""]
        for line in sentence.split("\n")
    )
    return "\n".join("\n".join(each) for each in lines)


ADAPTER, SITE = "portcall.adapter", "portcall.site"
"""Where a command notes, in Click's context, on which adapter and at which site it works."""

JSON = "portcall.json"
"""Where it is noted that the answer is for a program."""


def wants_json() -> bool:
    """Whether the answer is to be JSON, for a program, instead of words for a person."""
    context = click.get_current_context(silent=True)
    return context is not None and bool(context.meta.get(JSON))


def document_head() -> dict[str, Any]:
    """The keys with which every document begins."""
    context = click.get_current_context(silent=True)
    meta = context.meta if context is not None else {}
    return {
        "portcall": __version__,
        "at": datetime.now(UTC).isoformat(timespec="milliseconds"),
        "site": meta[SITE] if SITE in meta else _site(),
        "adapter": meta.get(ADAPTER),
    }


def _site() -> str | None:
    """The name of this folder's site, for a command that did not look for it."""
    from portcall.core.trouble import Trouble
    from portcall.site.folder import this_site

    try:
        return this_site().label
    except Trouble:
        return None


def print_json(document: dict[str, Any]) -> None:
    """Print one document."""
    click.echo(json.dumps({**document_head(), **document}, indent=2, ensure_ascii=False))


def print_json_list(head: dict[str, Any], key: str, entries: Iterable[Any], tail: Any) -> None:
    """Print one document whose list under ``key`` is made meanwhile: it may be long."""
    click.echo("{")
    for name, value in {**document_head(), **head}.items():
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
    """Print one line of a stream, at once."""
    click.echo(json.dumps(document, ensure_ascii=False))
    sys.stdout.flush()


def zone_words() -> str:
    """The zone of this computer's clock, in which times are shown."""
    now = datetime.now().astimezone()
    return "UTC" if now.tzname() == "UTC" else f"{now.tzname()}, UTC{now.isoformat()[-6:]}"


def moment_words(at: datetime) -> str:
    """A moment by this computer's clock, with its zone."""
    local = at.astimezone()
    offset = "" if local.tzname() == "UTC" else local.isoformat()[-6:]
    return f"{local:%Y-%m-%d %H:%M} UTC{offset}"


def ago(seconds: float) -> str:
    """How long ago something was."""
    return "now" if seconds < 1 else f"{duration(seconds)} ago"


def duration(seconds: float) -> str:
    """A length of time, in the unit that people would use."""
    if seconds < 120:
        return f"{seconds:.0f} s"
    if seconds < 7200:
        return f"{seconds / 60:.0f} min"
    days = seconds / 86400
    return f"{seconds / 3600:.0f} h" if days < 10 else f"{days:.0f} days"


def milliseconds(seconds: float | None) -> str | None:
    """A time as people read it."""
    return None if seconds is None else f"{seconds * 1000:.2f} ms"
