"""Every sentence that is made of values: that each call gives the values it wants, and no other."""

from __future__ import annotations

import ast
import importlib
from collections.abc import Iterator
from pathlib import Path

import pytest

import portcall
from portcall.core.finding import Sentence

SOURCE = Path(portcall.__file__).parent


def modules() -> Iterator[tuple[str, Path]]:
    for path in sorted(SOURCE.rglob("*.py")):
        name = ".".join(path.relative_to(SOURCE.parent).with_suffix("").parts)
        if "Sentence" in path.read_text() or "sentences" in path.read_text():
            yield name.removesuffix(".__init__"), path


def sentence_of(node: ast.expr, names: dict[str, object]) -> Sentence | None:
    """The sentence that is called, where what is called is one."""
    if isinstance(node, ast.Attribute) and isinstance(node.value, ast.Name):
        found = getattr(names.get(node.value.id), node.attr, None)
    else:
        found = names.get(node.id) if isinstance(node, ast.Name) else None
    return found if isinstance(found, Sentence) else None


@pytest.mark.parametrize(("name", "path"), list(modules()))
def test_each_sentence_gets_its_values(name: str, path: Path) -> None:
    names = vars(importlib.import_module(name))
    for node in ast.walk(ast.parse(path.read_text())):
        if not isinstance(node, ast.Call):
            continue
        sentence = sentence_of(node.func, names)
        if sentence is None:
            continue
        given = {each.arg for each in node.keywords}
        where = f"{path}:{node.lineno}: {sentence.code or sentence.template}"
        assert given - {None} <= sentence.names, where
        assert None in given or given == sentence.names, where
