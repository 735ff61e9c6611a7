"""A page in Markdown, as a person reads it in a terminal."""

from __future__ import annotations

import sys

import click
from rich.console import Console, ConsoleOptions, RenderResult
from rich.markdown import CodeBlock, Markdown
from rich.padding import Padding
from rich.text import Text
from rich.theme import Theme

from portcall.cli.table import console

_WIDTH = 100
"""A page is no wider than one reads well."""

_STYLES = {
    # Colours mean something here; what is typed is bold.
    "markdown.code": "bold",
    "markdown.h2": "bold",
    "markdown.link": "none",
    "markdown.link_url": "none",
    "markdown.table.header": "bold",
    "markdown.table.border": "bright_black",
}


class _Lines(CodeBlock):
    """Lines of a file or to type, as they are."""

    def __rich_console__(self, console: Console, options: ConsoleOptions) -> RenderResult:
        yield Padding(Text(str(self.text).rstrip()), (0, 0, 0, 4))


class _Page(Markdown):
    elements = {**Markdown.elements, "fence": _Lines, "code_block": _Lines}  # noqa: RUF012


def print_page(text: str) -> None:
    """Draw a page on a terminal; elsewhere print it as it is."""
    if not sys.stdout.isatty():
        click.echo(text.rstrip())
        return
    out = console()
    out.push_theme(Theme(_STYLES))
    out.print(_Page(text), width=min(out.width, _WIDTH))
