"""The description of a way of finding, which stands at the end of its own module.

``protocols`` gathers them; every list of methods is derived from there.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from ipaddress import IPv4Address
from typing import Any, TypeAlias

from portcall.core.address import Mac
from portcall.core.find.sighting import IdentityQuestion, Method, Sighting
from portcall.core.talk.conversation import Conversation, Datagram, Endpoint, Frame
from portcall.core.talk.dialogue import Script

Scripts: TypeAlias = Sequence[Callable[[], Script[Any]]]
"""What is said behind a door, one after the other."""


@dataclass(frozen=True, slots=True)
class OnTheLink:
    """A question to everybody by raw frames, and for how many seconds answers may come.

    ``make`` takes the adapter's MAC and an identifier.
    """

    make: Callable[[Mac, int], Conversation[Frame, Sighting]]
    seconds: float


@dataclass(frozen=True, slots=True)
class ToAll:
    """A question by UDP that all devices of a subnet hear, by its broadcast address.

    ``port``: where the answers come in, when that is not the port that was asked from.
    """

    make: Callable[[IPv4Address], Conversation[Datagram, Sighting]]
    port: int | None = None


@dataclass(frozen=True, slots=True)
class ToEach:
    """A question by UDP to each device; ``make`` takes the community of the site.

    ``if_unknown``: only to devices that have not said who they are by then.
    """

    make: Callable[[str], IdentityQuestion]
    if_unknown: bool = False


@dataclass(frozen=True, slots=True)
class Behind:
    """The exchange behind a TCP port.

    ``scripts`` ask who the device is, by the door and whether that is known already. ``first`` is
    what the protocol says first there; an answer that is not of this protocol makes ``is_spoken``
    False, or raises Malformed. ``secure``: within TLS.
    """

    scripts: Callable[[Endpoint, bool], Scripts]
    first: bytes
    is_spoken: Callable[[bytes], object]
    secure: bool = False


@dataclass(frozen=True, slots=True)
class Protocol:
    """One way of finding or identifying, or one list that is looked up.

    ``trust`` orders the methods that tell the same of a device: the least number is shown. What
    the plan says comes first; from 10 on what industrial protocols say in words, from 20 on the
    lists that turn numbers into words, from 30 on general protocols, whose texts people change,
    and from 50 on what was overheard.
    ``says_who``: devices answer by it with words of their own.
    """

    method: Method
    shown: str
    trust: int
    says_who: bool = True
    needs_link: bool = False
    on_the_link: OnTheLink | None = None
    to_all: ToAll | None = None
    to_each: ToEach | None = None
    doors: Mapping[int, Behind] = field(default_factory=dict)
