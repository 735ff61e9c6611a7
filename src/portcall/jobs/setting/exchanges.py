"""Setting one device: a CIP script over a connection of its own, a DCP Set, a DCP read-back."""

from __future__ import annotations

import secrets
from collections.abc import Sequence
from ipaddress import IPv4Address
from typing import TypeVar

from portcall.core.address import Mac
from portcall.core.find.dcp_identify import DcpIdentify
from portcall.core.find.sighting import Sighting
from portcall.core.setting.dcp_set import DcpSet, SetAnswer
from portcall.core.talk.conversation import Endpoint
from portcall.core.talk.dialogue import Dialogue, Script
from portcall.core.talk.pacer import Pacer
from portcall.core.wire import cip, dcp
from portcall.host.link import Link
from portcall.host.runner import Runner
from portcall.host.streams import connect
from portcall.host.vantage import Vantage

F = TypeVar("F")

_CONNECT_WAIT = 3.0


async def ask_by_cip(vantage: Vantage, address: IPv4Address, script: Script[F]) -> list[F] | None:
    """The facts that a script learns of a device; None when nothing listens at its CIP port.

    A connection that breaks in the middle ends the script; what it had learnt by then is given.
    """
    facts: list[F] = []
    runner = Runner(Pacer())
    dialogue: Dialogue[F, F] = Dialogue(script, lambda fact, now: fact)
    try:
        stream = await connect(vantage, Endpoint(address, cip.PORT), _CONNECT_WAIT)
    except (OSError, TimeoutError):
        return None
    with runner.using(stream):
        await runner.run(dialogue, stream, facts.append)
    return facts


async def set_by_dcp(adapter: str, station: Mac, blocks: Sequence[dcp.Block]) -> SetAnswer:
    """Set something at one station. Raises NotPossibleHere."""
    answers: list[SetAnswer] = []
    runner = Runner(Pacer())
    with runner.using(Link(adapter)) as link:
        setting = DcpSet(link.mac, station, secrets.randbits(32), tuple(blocks))
        await runner.run(setting, link, answers.append)
    return answers[0]


async def read_by_dcp(adapter: str, station: Mac) -> Sighting | None:
    """A station's own words now; None when it does not answer. Raises NotPossibleHere."""
    found: list[Sighting] = []
    runner = Runner(Pacer())
    with runner.using(Link(adapter)) as link:
        asking = DcpIdentify(link.mac, secrets.randbits(32), only=station)
        await runner.run(asking, link, found.append)
    return next((seen for seen in found if seen.mac == station), None)
