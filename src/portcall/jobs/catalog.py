"""Taking over the description that a device carries of itself."""

from __future__ import annotations

import asyncio
from collections.abc import Sequence
from dataclasses import dataclass
from ipaddress import IPv4Address
from typing import TypeAlias

from portcall.core.adapters.adapter import Adapter
from portcall.core.catalog.carried import eds_text
from portcall.core.catalog.catalog import Catalog, Codes, Numbering
from portcall.core.catalog.eds import parse_eds
from portcall.core.cip.file_object import MOST_EXCHANGES, Carried, NotCarried, fetch_description
from portcall.core.plan.rows import Plan
from portcall.core.plan.targets import Meant
from portcall.core.setting import sentences as say
from portcall.core.talk.conversation import Endpoint
from portcall.core.talk.dialogue import Dialogue
from portcall.core.talk.pacer import Pace, sustained
from portcall.core.trouble import BadInput
from portcall.core.wire import cip
from portcall.core.wire.cip_file import Upload
from portcall.host.pace import paced
from portcall.host.rights import require_asking
from portcall.host.streams import connect
from portcall.host.vantage import Vantage
from portcall.jobs.look.locate import Located, locate
from portcall.jobs.telling import Tell
from portcall.site.folder import Site

_Learnt: TypeAlias = cip.Identity | Upload | Carried | NotCarried

_CONNECT_WAIT = 3.0

LONGEST = 600.0
"""Seconds; a description of the largest size takes eight minutes at the usual pace."""

_PACKETS_A_PIECE = 2
"""A question, and the kernel's acknowledgement of the answer."""


@dataclass(frozen=True, slots=True)
class Fetching:
    """A device begins to send its description; ``seconds`` is how long that takes at this pace."""

    name: str
    size: int
    seconds: float

    def __str__(self) -> str:
        return (
            f"{self.name}: sends {self.size:,} octets, about {self.seconds:.0f} s; Ctrl-C ends it"
        )


@dataclass(frozen=True, slots=True)
class Described:
    """A device's own description, and the codes that it is kept by.

    ``is_proven`` is whether the device told a checksum, which is right then.
    """

    name: str
    codes: Codes
    catalog: Catalog
    is_proven: bool


def describe(adapter: Adapter, site: Site, plan: Plan, meant: Meant, tell: Tell) -> Described | str:
    """Find a device and read the description it carries; or why there is none, in a sentence.

    Nothing is written. Raises NotPossibleHere.
    """
    require_asking()
    (found,) = locate(adapter, site, plan, [meant], tell)
    reason = _obstacle(adapter, found)
    if reason is not None:
        return f"{meant.name}: {reason}"
    address = _address(found)
    assert address is not None
    try:
        return asyncio.run(_fetch(adapter.name, site.pace, meant.name, address, tell))
    except TimeoutError:
        return f"{meant.name}: had not sent its description after {LONGEST / 60:.0f} minutes"


def _address(found: Located) -> IPv4Address | None:
    """Where the device is asked: where it was meant to be, of several addresses; None without."""
    there = found.device.addresses if found.device else ()
    row = found.meant.row
    meant = (found.meant.address, row.address if row else None)
    return next((each for each in meant if each in there), there[0] if there else None)


def _obstacle(adapter: Adapter, found: Located) -> str | None:
    device = found.device
    if device is None:
        return str(found.why_not)
    address = _address(found)
    if address is None:
        return "has no address yet, and its description is asked for at one"
    if found.rivals:
        return str(say.SHARED_WITH(address=address, macs=found.rivals))
    if adapter.on_subnet_of(address) is None:
        return f"{adapter.name} is not in its subnet: portcall match {address}"
    return None


async def _fetch(
    adapter: str, pace: Pace, name: str, address: IPv4Address, tell: Tell
) -> Described | str:
    """Raises TimeoutError."""
    door = Endpoint(address, cip.PORT)
    try:
        stream = await connect(Vantage(adapter), door, _CONNECT_WAIT)
    except (OSError, TimeoutError):
        return f"{name}: takes no connection at its CIP port: portcall why {name} {door.port}"
    learnt: list[_Learnt] = []

    def take(fact: _Learnt) -> None:
        learnt.append(fact)
        if isinstance(fact, Upload):
            pieces = -(-fact.size // fact.piece)
            seconds = pieces * _PACKETS_A_PIECE / sustained(pace.to_one)
            tell(Fetching(name, fact.size, max(seconds, 1.0)))

    with paced(adapter, pace) as runner, runner.using(stream):
        async with asyncio.timeout(LONGEST):
            dialogue: Dialogue[_Learnt, _Learnt] = Dialogue(
                fetch_description(), lambda fact, now: fact, most=MOST_EXCHANGES
            )
            await runner.run(dialogue, stream, take)
    return _described(name, learnt)


def _described(name: str, learnt: Sequence[_Learnt]) -> Described | str:
    """The description that the device sent, if it is one of itself."""
    last = learnt[-1] if learnt else None
    if isinstance(last, NotCarried):
        return f"{name}: {last.reason}"
    if not isinstance(last, Carried):
        return f"{name}: its connection ended before its description was here"
    identity = next((fact for fact in learnt if isinstance(fact, cip.Identity)), None)
    if identity is None:
        return f"{name}: does not say who it is, so what its description describes is not certain"
    try:
        catalog = parse_eds(eds_text(last.data, f"{name}'s description"), f"{name}'s description")
    except BadInput as odd:
        return str(odd)
    own = Codes(Numbering.CIP, identity.vendor, identity.product_code)
    product = catalog.product(own)
    if product is None:
        others = " and ".join(str(codes) for codes in list(catalog.products)[:3])
        return f"{name}: says that it is {own}, and carries the description of {others}"
    # Of several devices in the file, this one matches the device that was asked.
    maker = Codes(Numbering.CIP, identity.vendor)
    catalog = Catalog(makers={maker: catalog.makers[maker]}, products={own: product})
    return Described(name, own, catalog, last.is_proven)
