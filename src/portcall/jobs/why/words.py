"""Words behind open doors: the protocol's own first exchange, or whatever comes instead."""

from __future__ import annotations

import asyncio
from collections.abc import Mapping, Sequence
from contextlib import closing
from dataclasses import dataclass, field
from ipaddress import IPv4Address

from portcall.core.find import web_page
from portcall.core.find.sighting import Field, Said, mask_in
from portcall.core.talk.conversation import Endpoint
from portcall.core.talk.dialogue import Dialogue, Script
from portcall.core.why.evidence import Trial, WordSeen
from portcall.core.why.tasting import ask_for_page, is_spoken, taste
from portcall.host.runner import Runner
from portcall.host.streams import connect
from portcall.host.vantage import Vantage
from portcall.jobs.why.trial import MOST_TALKS

_CONNECT_WAIT = 2.0
_BUSY_WAIT = 2.5
"""Seconds that a small device may need to be free of a connection that was closed."""
_SHOWN = (Field.PRODUCT, Field.SERIAL, Field.FIRMWARE)


async def words_behind(
    runner: Runner,
    vantage: Vantage,
    address: IPv4Address,
    trial: Trial,
    names: Mapping[int, str],
) -> list[WordSeen]:
    """What was said behind the doors that were talked at when they opened; and where that was
    nothing, what else comes. Without any, what the first of the others say at once.
    """
    chosen = [port for port in trial.open_doors if port in trial.said]
    chosen = chosen or list(trial.open_doors[:MOST_TALKS])
    return [
        await _word(runner, vantage, Endpoint(address, port), trial.said.get(port), names)
        for port in chosen
    ]


async def _word(
    runner: Runner,
    vantage: Vantage,
    endpoint: Endpoint,
    said: Sequence[Said] | None,
    names: Mapping[int, str],
) -> WordSeen:
    """Taste one door; ``said`` are its protocol's words there, None when none is known."""
    port, known = endpoint.port, said is not None
    name = names.get(port, "") or f"port {port}"
    identity = _identity(said or ())
    if identity:
        return WordSeen(port, name, known, identity, mask=mask_in(said or ()))
    if port == web_page.SECURE_PORT:
        by_tls = await _by_tls(vantage, endpoint)
        if by_tls:
            return WordSeen(port, name, known, by_tls)
    seen = await _taste(runner, vantage, endpoint, taste(port))
    if known and not seen.heard:
        # A device that has one connection may still be busy with the one before.
        await asyncio.sleep(_BUSY_WAIT)
        seen = await _taste(runner, vantage, endpoint, taste(port))
    raw = b"".join(seen.heard)
    if known and is_spoken(port, raw):
        return WordSeen(port, name, known, f"answers {name}, and does not say who it is")
    if known and not raw and not seen.closed and port not in web_page.PAGES:
        # A server that waits for a request of its own protocol may be a web server.
        other = await _taste(runner, vantage, endpoint, ask_for_page())
        raw = b"".join(other.heard)
    return WordSeen(port, name, known, "", raw, seen.closed, seen.seconds)


def _identity(said: Sequence[Said]) -> str:
    told = {each.field: str(each.value) for each in said if each.field is not Field.MANNER}
    shown = [told[field] for field in _SHOWN if field in told]
    return ", ".join(shown) or told.get(Field.DESCRIPTION, "") or told.get(Field.NAME, "")


async def _by_tls(vantage: Vantage, door: Endpoint) -> str:
    """The result of a handshake; empty where the answer is not known to be TLS."""
    from portcall.host.secure import HandshakeFailed, SecureStream

    try:
        stream = await connect(vantage, door, _CONNECT_WAIT)
        with closing(await SecureStream.over(stream)):
            return "answers TLS, and shows no page to who has no certificate"
    except HandshakeFailed as trouble:
        return f"answers TLS: {trouble}" if trouble.by_tls else ""
    except (OSError, TimeoutError):
        return ""


@dataclass(slots=True)
class _Tasted:
    """The octets behind a door, and the seconds of waiting for them."""

    heard: list[bytes] = field(default_factory=list)
    closed: bool = False
    seconds: float = 0.0


async def _taste(
    runner: Runner, vantage: Vantage, door: Endpoint, script: Script[bytes]
) -> _Tasted:
    loop = asyncio.get_running_loop()
    began = loop.time()
    tasted = _Tasted()
    try:
        stream = await connect(vantage, door, _CONNECT_WAIT)
        with closing(stream):
            dialogue: Dialogue[bytes, bytes] = Dialogue(script, lambda raw, now: raw)
            try:
                await runner.run(dialogue, stream, tasted.heard.append)
            finally:
                runner.drop(stream)
                tasted.closed = stream.closed_by_peer
    except (OSError, TimeoutError):
        tasted.closed = True
    tasted.seconds = loop.time() - began
    return tasted
