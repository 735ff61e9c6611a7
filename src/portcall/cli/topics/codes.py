"""The page of all codes that ``--json`` has, made of the sentences themselves."""

from __future__ import annotations

import re
from collections.abc import Iterator
from types import ModuleType

from portcall.core.assign import sentences as assign
from portcall.core.find import sentences as find
from portcall.core.finding import Sentence
from portcall.core.plan import near
from portcall.core.reach import sentences as reach
from portcall.core.record import sentences as record
from portcall.core.setting import sentences as setting
from portcall.core.verify import sentences as verify
from portcall.core.why import part_sentences as why_part
from portcall.core.why import sentences as why

SECTIONS: tuple[tuple[str, tuple[ModuleType, ...]], ...] = (
    ("find, listen, plan take", (find, near)),
    ("assign", (assign,)),
    ("keep, move, swap, blink, verify --power-cycle", (setting,)),
    ("why", (why, why_part)),
    ("reach", (reach,)),
    ("verify", (verify,)),
    ("status", (record,)),
)
"""Where each sentence is said, in the order in which a plant is worked on."""


def page() -> str:
    """The page, in Markdown."""
    return "\n".join(_lines())


def sentences_of(modules: tuple[ModuleType, ...]) -> list[Sentence]:
    """The sentences of some modules that have a code, in alphabetical order."""
    every = (each for module in modules for each in vars(module).values())
    coded = {id(each): each for each in every if isinstance(each, Sentence) and each.code}
    return sorted(coded.values(), key=lambda each: each.code)


def _lines() -> Iterator[str]:
    yield "# The codes in JSON"
    yield ""
    yield "What a command concludes has a code that stays, also when its sentence is worded"
    yield "otherwise, and values by name. A list of sentences (`findings`, `remarks`, `faults`) has"
    yield "`codes` beside it: for each sentence its `code`, its `values`, and the `line` to type as"
    yield "its words. `{name}` is a value, or a part whose own values stand in its place; what"
    yield "stands in brackets is said where it applies."
    for title, modules in SECTIONS:
        yield from ("", f"## {title}", "", "| code | sentence | values |", "| --- | --- | --- |")
        for each in sentences_of(modules):
            values = ", ".join(sorted(each.names))
            yield f"| {each.code} | {_shown(each.template)} | {values} |"
    yield ""


def _shown(template: str) -> str:
    """A template as people read it: without conditions, and without how a number is written."""
    counted = re.sub(r"\{(\w+):[a-z][^}|]* [^}|]*\|([^}]*)\}", r"{\1} \2", template)
    counted = re.sub(r"\{(\w+):(?!and|times)([a-z][^}|]*)\}", r"{\1} \2s", counted)
    plain = re.sub(r"\{(\w+):[^}]*\}", r"{\1}", counted)
    either = re.sub(r"\[(\w+)[?!]([^][]*)\]\[\1[?!]([^][]*)\]", r"[\2/\3]", plain)
    return re.sub(r"\[\w+[?!]", "[", either).replace("|", "/")
