"""The man pages in docs/man, made of the commands themselves and of the topics: ``make man``.

``man.py --check`` ends with 1 when they are not what the commands and topics say now. A page says
no date, so that the same program makes the same octets.
"""

from __future__ import annotations

import re
import sys
from collections.abc import Iterator
from inspect import cleandoc
from pathlib import Path

import click
from markdown_it import MarkdownIt
from markdown_it.token import Token

from portcall import __version__
from portcall.cli.main import COMMANDS
from portcall.cli.main import portcall as program
from portcall.cli.topics import TOPICS, page

FOLDER = Path(__file__).parent / "man"


_GLYPHS = str.maketrans(
    {"\\": "\\e", "-": "\\-", "^": "\\(ha", "~": "\\(ti", "`": "\\(ga", "|": "|\\:"}
)
"""What roff would show otherwise; a line may be broken after each of several choices."""


def escaped(text: str) -> str:
    """Text that roff shows as it is (groff_char(7)): a hyphen on a line to type is one."""
    return re.sub(r"^(?=[.'])", r"\\&", text.translate(_GLYPHS), flags=re.MULTILINE)


def bold(text: str) -> str:
    """Text that is typed."""
    return f"\\fB{escaped(text)}\\fR"


def heading(name: str, section: int, about: str) -> Iterator[str]:
    """The beginning of a page (man(7))."""
    yield ".nr HY 0"  # No word is broken: it may be one to type.
    yield f'.TH {name.upper()} {section} "" "portcall {__version__}" "Port Call"'
    yield from (".nh", ".ad l")
    yield from (".SH NAME", f"{escaped(name)} \\- {escaped(about.rstrip('.'))}")


def description(command: click.Command) -> Iterator[str]:
    """A command's own words: paragraphs, and lines to type."""
    for paragraph in cleandoc(command.help or "").split("\n\n"):
        yield ".PP"
        if paragraph.startswith("\b"):
            yield from verbatim(paragraph.split("\n")[1:])
        else:
            yield escaped(" ".join(paragraph.split()))


def verbatim(lines: list[str]) -> Iterator[str]:
    """Lines as they are."""
    yield from (".RS 4", ".EX", *map(escaped, lines), ".EE", ".RE")


def top() -> click.Context:
    """What every command stands in."""
    return click.Context(program, info_name="portcall", **program.context_settings)


def usage(context: click.Context) -> str:
    """How a command is typed."""
    pieces = " ".join(context.command.collect_usage_pieces(context))
    return f"{bold(context.command_path)} {escaped(pieces)}"


def options(context: click.Context) -> Iterator[str]:
    """Each option, and what it does."""
    for parameter in context.command.get_params(context):
        record = parameter.get_help_record(context)
        if isinstance(parameter, click.Option) and record is not None:
            yield from (".TP", bold(record[0]), escaped(" ".join(record[1].split())))


def command_page(name: str) -> Iterator[str]:
    """The page of one command, and of the commands it has itself."""
    whole = top()
    command = program.get_command(whole, name)
    assert command is not None
    context = click.Context(command, info_name=name, parent=whole)
    yield from heading(f"portcall-{name}", 1, COMMANDS[name])
    yield from (".SH SYNOPSIS", usage(context))
    yield from (".SH DESCRIPTION", *description(command))
    yield from (".SH OPTIONS", *options(context))
    if isinstance(command, click.Group):
        yield ".SH COMMANDS"
        for each in command.list_commands(context):
            inner = command.get_command(context, each)
            assert inner is not None
            within = click.Context(inner, info_name=each, parent=context)
            yield from (f".SS portcall {name} {each}", usage(within))
            yield from (*description(inner), *options(within))
    yield from (
        ".SH EXIT STATUS",
        "0: the answer is yes. 1: the answer is no. 2: what was typed or",
    )
    yield "written is wrong. 3: this computer cannot do it. 130: interrupted."
    yield from see_also()


def see_also() -> Iterator[str]:
    """Where there is more."""
    names = ["portcall(1)", *(f"portcall-{topic}(7)" for topic in TOPICS)]
    yield from (".SH SEE ALSO", ", ".join(f"\\fB{escaped(n[:-3])}\\fR{n[-3:]}" for n in names))


def first_page() -> Iterator[str]:
    """The page of the program: its commands and topics."""
    context = top()
    summary = "find the devices on a plant network, give them their addresses, prove them reachable"
    yield from heading("portcall", 1, summary)
    yield from (".SH SYNOPSIS", usage(context), ".SH DESCRIPTION", *description(program))
    yield ".SH COMMANDS"
    for name, about in COMMANDS.items():
        yield from (".TP", f"{bold(f'portcall-{name}')}(1)", escaped(about))
    yield ".SH TOPICS"
    for name, about in TOPICS.items():
        yield from (".TP", f"{bold(f'portcall-{name}')}(7)", escaped(about))
    yield from (".SH OPTIONS", *options(context))


def topic_page(topic: str) -> Iterator[str]:
    """The page of a topic, out of its Markdown."""
    yield from heading(f"portcall-{topic}", 7, TOPICS[topic])
    yield ".SH DESCRIPTION"
    yield from blocks(MarkdownIt().enable("table").parse(page(topic)))
    yield from see_also()


def blocks(tokens: list[Token]) -> Iterator[str]:
    """Markdown's blocks; the title stands in the page's name."""
    waiting = iter(tokens)
    row: list[str] = []
    header: list[str] = []
    number = 0
    for token in waiting:
        inline = ""
        if token.type in ("heading_open", "paragraph_open", "th_open", "td_open"):
            inline = words(next(waiting))
        if token.type == "heading_open" and token.tag != "h1":
            yield f".SH {inline.upper()}"
        elif token.type == "paragraph_open":
            if not token.hidden:
                yield ".PP"
            yield inline
        elif token.type == "fence":
            yield from verbatim(token.content.rstrip("\n").split("\n"))
        elif token.type in ("bullet_list_open", "ordered_list_open"):
            number = 0
        elif token.type == "list_item_open":
            number += 1
            mark = "\\(bu" if token.markup in "*-+" else f"{number}."
            yield f'.IP "{mark}" 4'
        elif token.type in ("th_open", "td_open"):
            row.append(inline)
        elif token.type == "tr_close":
            if header:
                yield from table_row(header, row)
            else:
                header = row
            row = []
        elif token.type == "table_close":
            header = []


def table_row(header: list[str], row: list[str]) -> Iterator[str]:
    """A row of a table: its first cell is what is explained. A terminal is too narrow for more."""
    first, *rest = row
    yield from (".TP", first or "\\(en")
    told = [cell for cell in rest if cell]
    if len(header) == 2 or len(told) < 2:
        yield " ".join(told)
        return
    pairs = list(zip(header[1:], rest, strict=True))
    yield from (f"\\fI{name}:\\fR {cell}\n.br" for name, cell in pairs[:-1] if cell)
    yield f"\\fI{pairs[-1][0]}:\\fR {pairs[-1][1]}" if pairs[-1][1] else ""


def words(token: Token) -> str:
    """The text of a paragraph, a heading or a cell."""
    text = ""
    for part in token.children or ():
        if part.type == "code_inline":
            text += bold(part.content)
        elif part.type == "softbreak":
            text += " "
        else:
            text += escaped(part.content)
    return re.sub(r"^(?=[.'])", r"\\&", text)


def pages() -> dict[str, str]:
    """Every page by the name of its file."""
    made = {"portcall.1": first_page()}
    made |= {f"portcall-{name}.1": command_page(name) for name in COMMANDS}
    made |= {f"portcall-{topic}.7": topic_page(topic) for topic in TOPICS}
    return {name: "\n".join(line for line in lines if line) + "\n" for name, lines in made.items()}


def main() -> None:
    """Write them, or hold what is there against them."""
    now = pages()
    there = {path.name: path.read_text(encoding="utf-8") for path in FOLDER.glob("*.[17]")}
    if sys.argv[1:] == ["--check"]:
        other = sorted(name for name in now.keys() | there if now.get(name) != there.get(name))
        sys.exit(f"not as the commands say now: {', '.join(other)}: make man" if other else 0)
    FOLDER.mkdir(exist_ok=True)
    for name in there.keys() - now:
        (FOLDER / name).unlink()
    for name, text in now.items():
        (FOLDER / name).write_text(text, encoding="utf-8")
    print(f"{FOLDER}: {len(now)} pages")


if __name__ == "__main__":
    main()
