"""Findings as values: a code that stays, typed values, and lines to type.

``Sentence`` is the one place where English is made of values, ``as_json`` the one where JSON is.
Whoever concludes something calls a sentence with its values and gets a ``Finding``; programs look
at its ``code``, ``values`` and ``lines``, and nothing ever reads the English back.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass
from enum import Enum
from ipaddress import IPv4Address, IPv4Interface, IPv4Network, IPv6Address
from typing import Any, Final, Literal, TypeAlias, cast, get_args

from portcall.core.address import AddressRange, Mac
from portcall.core.counted import counted, named
from portcall.core.plain import plain
from portcall.core.printable import DeviceText
from portcall.core.system_words import BySystem, typed


class Name(str):
    """A name of our own side: a row of the plan, an adapter of this computer, a column, a door.

    Others choose device texts (``DeviceText``); people who work here choose these.
    """

    __slots__ = ()


Option: TypeAlias = Literal[
    "--adapter",
    "--capture",
    "--check",
    "--dhcp",
    "--dry-run",
    "--firmware",
    "--from",
    "--inside",
    "--json",
    "--keep",
    "--mac",
    "--match",
    "--other-product",
    "--plot",
    "--power-cycle",
    "--read",
    "--replace",
    "--show",
    "--to",
    "--undo",
    "--wait",
    "--watch",
    "--with",
    "--yes",
    "ADDRESS",
    "ADDRESS/N",
    "COUNT",
    "FILE",
    "FIRMWARE",
    "GATEWAY",
    "MAC",
    "MAKER",
    "MASK",
    "NAME",
    "PORT",
    "PRODUCT",
    "RANGE",
    "SERIAL",
    "SUBNET",
    "last",
    "now",
]
"""What stands in a line besides verbs and values: options, and words that are to be replaced."""

Verb: TypeAlias = Literal[
    "adapters",
    "assign",
    "catalog add",
    "compare",
    "find",
    "free",
    "keep",
    "listen",
    "logbook export",
    "logbook show",
    "match",
    "visit",
    "move",
    "open",
    "plan add",
    "plan check",
    "plan import",
    "plan set",
    "plan show",
    "plan take",
    "plant mend",
    "plant shell",
    "reach",
    "report",
    "restore",
    "setup",
    "swap",
    "trace",
    "verify",
    "why",
]
"""Our own verbs that a line may begin with."""

Typed: TypeAlias = Mac | IPv4Address | IPv4Interface | IPv4Network | AddressRange | int | Name
"""What may be typed in a line. A device's text is none of these."""

_OPTIONS: Final[frozenset[str]] = frozenset(get_args(Option))
_VERBS: Final[tuple[Verb, ...]] = get_args(Verb)
_TYPED = (Mac, IPv4Address, IPv4Interface, IPv4Network, AddressRange, int, Name)


@dataclass(frozen=True, slots=True)
class Setting:
    """``column=value`` in a line, or ``MAC=ADDRESS``; a value may be a word to be replaced."""

    key: Name | Mac
    value: Typed | Option

    def __post_init__(self) -> None:
        """Refuse what is not of our own types."""
        if not isinstance(self.key, (Name, Mac)) or not _is_ours(self.value):
            raise TypeError(f"{self.key!r}={self.value!r} may not stand in a line to type")

    def __str__(self) -> str:
        return f"{self.key}={self.value}"


def _is_ours(word: object) -> bool:
    return isinstance(word, _TYPED) or (type(word) is str and word in _OPTIONS)


@dataclass(frozen=True, init=False, slots=True)
class Line:
    """A line of this tool to type: one of our verbs, and quoted words of our own types.

    A device's text cannot stand in it: whoever tries gets a TypeError.
    """

    verb: Verb
    words: tuple[Typed | Option | Setting, ...]
    as_root: bool

    def __init__(self, verb: Verb, *words: Typed | Option | Setting, as_root: bool = False) -> None:
        if verb not in _VERBS:
            raise TypeError(f"{verb!r} is no verb that a line to type may begin with")
        for word in words:
            if not isinstance(word, Setting) and not _is_ours(word):
                raise TypeError(f"{word!r} may not stand in a line to type")
        object.__setattr__(self, "verb", verb)
        object.__setattr__(self, "words", words)
        object.__setattr__(self, "as_root", as_root)

    @property
    def argv(self) -> list[str]:
        """Its words, as a program would be started with them."""
        return ["portcall", *self.verb.split(" "), *map(str, self.words)]

    def __str__(self) -> str:
        return typed(self.argv, self.as_root)


Value: TypeAlias = (
    "Typed | DeviceText | float | str | Enum | IPv6Address | Line | Finding "
    "| Sequence[Value] | None"
)
"""What a sentence may be made of. A plain ``str`` is a word of our own, such as a state."""

_TOKEN = re.compile(
    r"\{(?P<name>\w+)(?::(?P<how>[^}]*))?\}|\[(?:(?P<asked>\w+)(?P<sign>[?!]))?|(?P<end>\])"
)


@dataclass(frozen=True, slots=True)
class _Field:
    """A value in a sentence, and how it is written."""

    name: str
    how: str


@dataclass(frozen=True, slots=True)
class _Segment:
    """A part of a sentence that is said or not; by the value ``asked``, or by the values in it."""

    asked: str
    if_true: bool
    parts: tuple[str | _Field | _Segment, ...]

    @property
    def fields(self) -> Iterator[_Field]:
        """The values in it, those of segments in it left out."""
        return (part for part in self.parts if isinstance(part, _Field))

    def is_said(self, values: Mapping[str, Value]) -> bool:
        """Whether it belongs to the sentence."""
        if self.asked:
            return bool(values[self.asked]) is self.if_true
        return not any(_is_nothing(values[each.name]) for each in self.fields)

    def names(self) -> Iterator[str]:
        """The values that it needs."""
        yield from [self.asked] if self.asked else []
        for part in self.parts:
            if isinstance(part, _Field):
                yield part.name
            elif isinstance(part, _Segment):
                yield from part.names()

    def said(self, values: Mapping[str, Value]) -> Iterator[str]:
        """Its words."""
        for part in self.parts:
            if isinstance(part, _Field):
                yield _written(values[part.name], part.how)
            elif isinstance(part, str):
                yield part
            elif part.is_said(values):
                yield from part.said(values)


def _taken_apart(template: str) -> _Segment:
    """A template as one segment that is always said. Raises ValueError where brackets are odd."""
    open_segments: list[tuple[str, bool, list[str | _Field | _Segment]]] = [("", True, [])]
    last = 0
    for token in _TOKEN.finditer(template):
        parts = open_segments[-1][2]
        parts.append(template[last : token.start()])
        last = token.end()
        if token["name"]:
            parts.append(_Field(token["name"], token["how"] or ""))
        elif token["end"]:
            if len(open_segments) == 1:
                raise ValueError(f"{template!r}: ] without [")
            asked, if_true, inside = open_segments.pop()
            open_segments[-1][2].append(_Segment(asked, if_true, tuple(inside)))
        else:
            open_segments.append((token["asked"] or "", token["sign"] != "!", []))
    if len(open_segments) != 1:
        raise ValueError(f"{template!r}: [ without ]")
    return _Segment("", True, (*open_segments[0][2], template[last:]))


class Sentence:
    """One kind of finding: the code that stays, and the sentence that is made of its values.

    ``{name}`` stands for a value, ``{name:.1f}`` for a number as ``format`` writes it,
    ``{name:device}`` and ``{name:device asks|devices ask}`` for so many of something,
    ``{name:times}`` for once or so many times; a list is joined by commas, ``{name:and}`` by "and",
    ``{name:;}`` by semicolons, ``{name:and3}`` and ``{name:3}`` at most three of them. ``[…]`` is
    left out where a value in it is None or empty; ``[name?…]`` is there where the value is true,
    ``[name!…]`` where it is not. Such a part may hold others.

    ``also`` are values that programs get and the sentence does not say. A template may be another
    one on another operating system.
    """

    __slots__ = ("_templates", "_wholes", "code", "names")

    def __init__(self, code: str, template: str | BySystem, *also: str) -> None:
        by_system = template if isinstance(template, BySystem) else BySystem(template, template)
        self.code: Final = code
        self._templates: Final = by_system
        self._wholes: Final = {
            each: _taken_apart(each) for each in (by_system.on_linux, by_system.on_windows)
        }
        names = (name for whole in self._wholes.values() for name in whole.names())
        self.names: Final = frozenset((*names, *also))

    @property
    def template(self) -> str:
        """What the sentence is made by, on this computer."""
        return self._templates.here

    def __call__(self, line: Line | None = None, /, **values: Value) -> Finding:
        """The finding of these values; ``line`` is what to type about it."""
        if values.keys() != self.names:
            raise TypeError(f"{self.code or self.template}: wants {sorted(self.names)}")
        return Finding(self, values, line)

    def made_of(self, values: Mapping[str, Value]) -> str:
        """The English sentence, without a line to type."""
        return "".join(self._wholes[self.template].said(values))

    def __repr__(self) -> str:
        return f"Sentence({self.code!r}, {self.template!r})"


def _is_nothing(value: Value) -> bool:
    return value is None or value == "" or (isinstance(value, Sequence) and not value)


_AT_MOST = re.compile(r"(and|;)?(\d+)?")
_BETWEEN = {"and": " and ", ";": "; ", None: ", "}


def _written(value: Value, how: str) -> str:
    """A value in a sentence."""
    if isinstance(value, (str, Enum, Mac)) or value is None:
        return str(value.value) if isinstance(value, Enum) else str(value or "")
    if isinstance(value, Sequence):
        manner = _AT_MOST.fullmatch(how)
        assert manner is not None, how
        written = [_written(each, "") for each in value]
        return named(written, int(manner[2] or len(written)), _BETWEEN[manner[1]])
    if isinstance(value, int) and how == "times":
        return "once" if value == 1 else f"{value} times"
    if isinstance(value, int) and how[:1].isalpha():
        one, _, several = how.partition("|")
        return counted(value, one, several)
    return format(value, how)


@dataclass(frozen=True, slots=True)
class Finding:
    """Something that was concluded. ``str`` of it is the sentence, with the line to type."""

    kind: Sentence
    values: Mapping[str, Value]
    line: Line | None = None

    @property
    def code(self) -> str:
        """The code that stays, whatever the sentence is."""
        return self.kind.code

    @property
    def sentence(self) -> str:
        """The sentence, without a line to type."""
        return self.kind.made_of(self.values)

    @property
    def lines(self) -> tuple[Line, ...]:
        """Every line to type, in the order in which the sentence has them."""
        return (*_lines_in(self.values.values()), *([self.line] if self.line else []))

    def __hash__(self) -> int:
        return hash((self.code, str(self)))

    def __str__(self) -> str:
        return f"{self.sentence}: {self.line}" if self.line is not None else self.sentence


def _lines_in(values: Iterator[Value] | Any) -> Iterator[Line]:
    for value in values:
        if isinstance(value, Line):
            yield value
        elif isinstance(value, Finding):
            yield from value.lines
        elif isinstance(value, Sequence) and not isinstance(value, (str, bytes)):
            yield from _lines_in(value)


def written_by_us(words: Sequence[str], own: Name, verbs: Collection[str] = _VERBS) -> Line | None:
    """A line out of a record, as its words; None for what may not be one about ``own``.

    Records come from other people's computers, too: it has one of these verbs, the name that it is
    about, and beside that only options and words that are to be replaced.
    """
    if len(words) > _MOST_WORDS or list(words[:1]) != ["portcall"]:
        return None
    said = list(words[1:])
    verb = next((each for each in _VERBS if each.split(" ") == said[: each.count(" ") + 1]), None)
    if verb is None or verb not in verbs:
        return None
    rest = [_word(word, own) for word in said[verb.count(" ") + 1 :]]
    if own not in rest or None in rest:
        return None
    return Line(verb, *(word for word in rest if word is not None))


_MOST_WORDS = 32


def _word(word: str, own: Name) -> Typed | Option | Setting | None:
    """A word of a line that may stand in it, or None."""
    if word == own:
        return own
    if word in _OPTIONS:
        return cast(Option, word)
    key, equals, value = word.partition("=")
    if equals and key.isascii() and key.isidentifier() and value in _OPTIONS:
        return Setting(Name(key), cast(Option, value))
    return int(word) if word.isascii() and word.isdecimal() and len(word) <= 9 else None


def as_json(finding: Finding) -> dict[str, object]:
    """A finding as programs get it: its code, its values, and the line to type as its words."""
    line = finding.line.argv if finding.line is not None else None
    return {
        "code": finding.code,
        "sentence": finding.sentence,
        "values": values_as_json(finding),
        "line": line,
    }


def values_as_json(finding: Finding) -> dict[str, object]:
    """The values of a finding, and those of the findings in it, by their names."""
    told: dict[str, object] = {}
    for name, value in finding.values.items():
        if isinstance(value, Finding):
            told |= values_as_json(value)
        else:
            told[name] = _plain(value)
    return told


def _plain(value: Value) -> object:
    if isinstance(value, float):
        return round(value, 6)
    if isinstance(value, Line):
        return value.argv
    if isinstance(value, Finding):
        return as_json(value) if value.code else values_as_json(value)
    if isinstance(value, Sequence) and not isinstance(value, str):
        return [_plain(each) for each in value]
    return plain(value)
