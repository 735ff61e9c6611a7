"""Every sentence that the program can say, with where it stands: ``make words``.

Read out of the source: each text with a space in it that is no docstring and no comment. A value
that is filled in stands as ``{…}``. ``words.py --help-pages`` prints every help page instead.
"""

from __future__ import annotations

import ast
import sys
from collections.abc import Iterator
from pathlib import Path

import click

import portcall
from portcall.cli.main import portcall as program

SOURCE = Path(portcall.__file__).parent


def sentences(path: Path) -> Iterator[tuple[int, str]]:
    """The texts of a file, and the lines where they begin."""
    tree = ast.parse(path.read_text(encoding="utf-8"))
    silent = set(_docstrings(tree)) | set(_within_texts(tree))
    for node in ast.walk(tree):
        text = _text(node)
        if text is not None and node not in silent and " " in text.strip() and _is_said(text):
            yield node.lineno, " ".join(text.split())  # type: ignore[attr-defined]


def _text(node: ast.AST) -> str | None:
    if isinstance(node, ast.Constant) and isinstance(node.value, str):
        return node.value
    if isinstance(node, ast.JoinedStr):
        return "".join(
            str(part.value) if isinstance(part, ast.Constant) else "{…}" for part in node.values
        )
    return None


def _docstrings(tree: ast.AST) -> Iterator[ast.AST]:
    """Texts that stand for themselves: they describe what is beside them."""
    for node in ast.walk(tree):
        if isinstance(node, ast.Expr):
            yield node.value


def _within_texts(tree: ast.AST) -> Iterator[ast.AST]:
    for node in ast.walk(tree):
        if isinstance(node, ast.JoinedStr):
            yield from (each for part in node.values for each in ast.walk(part))


def _is_said(text: str) -> bool:
    return any(character.isalpha() for character in text) and "\x1b" not in text


def help_pages(command: click.Command, words: str) -> Iterator[str]:
    """The help page of a command, and those of its own commands."""
    context = click.Context(command, info_name=words, max_content_width=100, terminal_width=100)
    yield command.get_help(context)
    if isinstance(command, click.Group):
        for name in command.list_commands(context):
            inner = command.get_command(context, name)
            if inner is not None:
                yield from help_pages(inner, f"{words} {name}")


def main() -> None:
    """Print them, a file after the other."""
    if sys.argv[1:] == ["--help-pages"]:
        print("\n\n".join(help_pages(program, "portcall")))
        return
    for path in sorted(SOURCE.rglob("*.py")):
        for line, text in sorted(set(sentences(path))):
            print(f"{path.relative_to(SOURCE)}:{line}: {text}")


if __name__ == "__main__":
    main()
