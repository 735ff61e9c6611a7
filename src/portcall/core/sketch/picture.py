"""The contents of a drawing of a site, before they are placed on paper."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from enum import StrEnum
from ipaddress import IPv4Network
from typing import Any

from portcall.core.plain import plain


class Mark(StrEnum):
    """A mark of a device, in words; most need none."""

    NONE = ""
    NOT_THERE = "not there"
    NOT_ASKED = "not looked for"
    UNPLANNED = "not in the plan"
    TWICE = "address twice"
    ELSEWHERE = "planned elsewhere"


@dataclass(frozen=True, slots=True)
class Inner:
    """A part of a device: its path, and what is to be said of it in a few words."""

    part: str
    words: str
    mark: Mark = Mark.NONE


@dataclass(frozen=True, slots=True)
class Figure:
    """A device: ``key`` is what it goes by, ``port`` where it is plugged in at its switch.

    ``details`` are its kind and place, ``words`` what its mark says in full; ``inside`` its parts.
    """

    key: str
    name: str
    address: str
    details: str = ""
    port: str = ""
    mark: Mark = Mark.NONE
    words: str = ""
    is_gateway: bool = False
    inside: tuple[Inner, ...] = ()


@dataclass(frozen=True, slots=True)
class Band:
    """The devices of one subnet at one switch; ``network`` is None for those without an address."""

    network: IPv4Network | None
    label: str
    figures: tuple[Figure, ...]


@dataclass(frozen=True, slots=True)
class Branch:
    """A switch with what hangs on it, or what hangs where nobody knows.

    ``switch`` is None for the latter. ``plugged`` says by which ports it hangs on what is above.
    """

    title: str
    switch: Figure | None
    plugged: str
    bands: tuple[Band, ...]
    branches: tuple[Branch, ...] = ()

    def figures(self) -> Iterator[Figure]:
        """Every device of it and below."""
        if self.switch is not None:
            yield self.switch
        for band in self.bands:
            yield from band.figures
        for branch in self.branches:
            yield from branch.figures()


@dataclass(frozen=True, slots=True)
class Picture:
    """A whole drawing: ``about`` says what it rests on, ``remarks`` what it cannot show."""

    title: str
    about: str
    workstation: tuple[str, ...]
    branches: tuple[Branch, ...]
    remarks: tuple[str, ...] = ()

    def figures(self) -> Iterator[Figure]:
        """Every device."""
        for branch in self.branches:
            yield from branch.figures()


def picture_document(picture: Picture) -> dict[str, Any]:
    """As JSON has it."""
    found: dict[str, Any] = plain(picture)
    return found


def read_picture(document: Any) -> Picture:
    """A picture from JSON. Raises ValueError for what is none."""
    try:
        return Picture(
            str(document["title"]),
            str(document["about"]),
            tuple(map(str, document["workstation"])),
            tuple(_branch(each) for each in document["branches"]),
            tuple(map(str, document["remarks"])),
        )
    except (KeyError, TypeError, AttributeError, RecursionError) as error:
        raise ValueError(f"no picture: {error}") from None


def _branch(document: Any) -> Branch:
    return Branch(
        str(document["title"]),
        _figure(document["switch"]) if document["switch"] else None,
        str(document["plugged"]),
        tuple(_band(each) for each in document["bands"]),
        tuple(_branch(each) for each in document["branches"]),
    )


def _band(document: Any) -> Band:
    network = document["network"]
    figures = tuple(_figure(each) for each in document["figures"])
    return Band(IPv4Network(network) if network else None, str(document["label"]), figures)


def _figure(document: Any) -> Figure:
    return Figure(
        str(document["key"]),
        str(document["name"]),
        str(document["address"]),
        str(document["details"]),
        str(document["port"]),
        Mark(document["mark"]),
        str(document["words"]),
        document["is_gateway"] is True,
        tuple(_inner(each) for each in document.get("inside", ())),
    )


def _inner(document: Any) -> Inner:
    return Inner(str(document["part"]), str(document["words"]), Mark(document["mark"]))
