"""Every sentence that is made of values: that each call gives the values it wants, and no other."""

from __future__ import annotations

import ast
import importlib
import re
from collections.abc import Iterator
from ipaddress import IPv4Address
from pathlib import Path

import pytest

import portcall
from portcall.core.finding import Line, Name, Sentence
from portcall.core.system_words import LINUX, WINDOWS, speak_of

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


OF_LINUX = re.compile(r"\b(sudo|sysctl|nft|CAP_\w+|export \w+=|ip (link|route|rule|neigh|addr))\b")


def test_no_line_of_linux_is_said_on_windows() -> None:
    said = {
        each
        for name, _ in modules()
        for each in vars(importlib.import_module(name)).values()
        if isinstance(each, Sentence)
    }
    assert any(OF_LINUX.search(each.template) for each in said)
    speak_of(WINDOWS)
    try:
        assert [each.template for each in said if OF_LINUX.search(each.template)] == []
        line = Line("match", IPv4Address("10.61.20.10"), "--adapter", Name("Ethernet 2 (B)"))
        assert str(line) == 'portcall match 10.61.20.10 --adapter "Ethernet 2 (B)"'
        assert "sudo" not in str(Line("why", Name("dryer-plc"), as_root=True))
    finally:
        speak_of(LINUX)
