"""Bringing a device to its address, and proving that it is there: the same MAC, the same device."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from dataclasses import dataclass, replace
from ipaddress import IPv4Address

from portcall.core.adapters.adapter import Adapter
from portcall.core.address import UNSPECIFIED
from portcall.core.cip.interface_object import CipSettings
from portcall.core.finding import Finding, Line
from portcall.core.setting import cip_settings, sentences
from portcall.core.setting.had import CIP, gateway_for, had_by_cip
from portcall.core.setting.job import Job, Outcome, not_there
from portcall.core.setting.whereabouts import At, Left, Other, Whereabout, Whereabouts
from portcall.core.wire import cip
from portcall.core.wire.cip_tcpip import Attribute, ConfigurationCapability
from portcall.host.vantage import Vantage
from portcall.jobs.setting.exchanges import read_by_dcp
from portcall.jobs.setting.follow import follow
from portcall.jobs.setting.keep_one import (
    Remember,
    in_use,
    keep_by_cip,
    left_undone,
    named,
    read_by_cip,
    refused,
    set_for_good,
    write_by_cip,
)

Say = Callable[[Finding], None]

_ATTEMPTS, _BETWEEN = 10, 1.0
_PATIENCE = 8.0
"""Seconds after which a device that is still at its old address is asked whether it took the new
one.
"""


async def move_by_dcp(adapter: Adapter, job: Job, remember: Remember, say: Say) -> Outcome | None:
    """Move by DCP, whatever address the device has; None when it speaks no DCP."""
    before = await read_by_dcp(adapter.name, job.mac)
    if before is None:
        return None
    began = asyncio.get_running_loop().time()
    outcome = await set_for_good(adapter.name, job, before, remember)
    if not outcome.done:
        return outcome
    arrival = await _arrival(adapter, job, began, say)
    return replace(outcome, done=arrival.done, seconds=arrival.seconds).with_findings(
        *arrival.findings
    )


async def move_by_cip(
    adapter: Adapter, job: Job, remember: Remember, say: Say, near: Vantage | None = None
) -> Outcome | None:
    """Move by CIP, by the address the device has, which this computer can speak to; None without
    CIP.

    ``near`` is where to speak to it from at the address that it has, when another device has that
    too. It is safe to repeat: what is done already is not done again.
    """
    at = job.at or job.interface.ip
    near = near or Vantage(adapter.name)
    told = await read_by_cip(near, at)
    if told is None:
        return None
    identity, before = told.identity, told.settings
    fixed = before.cannot() if before else told.unread
    if before is None or fixed:
        say(sentences.CIP_CANNOT(because=fixed))
        return None
    busy = in_use(job, identity)
    if busy:
        return Outcome(False, CIP, str(before), findings=(busy,))
    if job.back_to is not None:
        changes = cip_settings.undoing(before, job.back_to)
    else:
        changes = cip_settings.moving(before, job.interface, job.gateway, job.host_name)
    if not changes:
        return Outcome(True, CIP, str(before), str(before), identity=identity)
    remember(had_by_cip(before))
    began = asyncio.get_running_loop().time()
    moves = any(change.attribute is Attribute.CONFIGURATION for change in changes)
    restart = moves and bool(before.capability & ConfigurationCapability.NEEDS_RESTART)
    if restart:
        say(sentences.RESTARTS())
    answers = await write_by_cip(near, at, changes, restart)
    # A device that did not answer to the last change may have gone to its new address with it.
    no = tuple(refused(each) for each in answers if each.status and not each.change.minor)
    if no:
        return await _still_there(near, at, before, no)
    arrival = await _arrival(adapter, replace(job, wait=_shorter(job.wait)), began, say)
    if not arrival.done and arrival.device.is_at(at) and at != job.interface.ip:
        undone = left_undone(changes, answers)
        if undone:
            return await _still_there(near, at, before, undone)
        again = await read_by_cip(near, at)
        now = again.settings if again else None
        if now is not None and now.configuration == before.configuration:
            not_taken = sentences.SAID_YES_TO_ADDRESS(interface=job.interface)
            return Outcome(False, CIP, str(before), str(now), findings=(not_taken,))
    if not arrival.done and (job.wait is None or job.wait > _PATIENCE):
        arrival = await _arrival(adapter, job, began, say)
    if not arrival.done:
        return Outcome(False, CIP, str(before), None, findings=arrival.findings)
    arrival = replace(
        arrival, findings=(*arrival.findings, *named(answers), *_without_gateway(job, before))
    )
    return await _proven(adapter, job, identity, before, arrival)


async def wait_by_hand(adapter: Adapter, job: Job, say: Say) -> Outcome:
    """Wait until somebody has set it, at its panel or page."""
    began = asyncio.get_running_loop().time()
    arrival = await _arrival(adapter, job, began, say)
    return Outcome(arrival.done, None, seconds=arrival.seconds, findings=arrival.findings)


@dataclass(frozen=True, slots=True)
class _Arrival:
    """How the wait for a device ended."""

    done: bool
    device: Whereabouts
    seconds: float | None = None
    findings: tuple[Finding, ...] = ()


async def _arrival(adapter: Adapter, job: Job, began: float, say: Say) -> _Arrival:
    assert adapter.mac is not None
    wanted = job.interface.ip
    asked = (wanted,) if job.at is None else (wanted, job.at)
    device = Whereabouts(adapter.mac, job.mac, asked, job.elsewhere)
    others: list[Other] = []

    def tell(fact: Whereabout) -> None:
        if isinstance(fact, Left):
            say(sentences.NO_ANSWER_ANY_MORE(address=fact.address))
        elif isinstance(fact, At) and fact.address not in asked:
            say(sentences.ANSWERS_AT(address=fact.address))
        elif isinstance(fact, Other) and fact.address == wanted:
            others.append(fact)

    done = await follow(
        adapter.name, device, lambda now: device.settled_at(wanted, now) is not None, job.wait, tell
    )
    now = asyncio.get_running_loop().time()
    findings: tuple[Finding, ...] = ()
    if others:
        findings = (sentences.ALSO_ANSWERED(address=wanted, mac=others[0].mac),)
    if not done:
        return _Arrival(False, device, None, (*findings, not_there(job, device, now)))
    since = device.settled_at(wanted, now) or now
    return _Arrival(not others, device, max(since - began, 0.0), findings)


async def _still_there(
    near: Vantage, at: IPv4Address, before: CipSettings, findings: tuple[Finding, ...]
) -> Outcome:
    """A change was refused, or the connection was cut:

    say how the device is set now, as it tells itself.
    """
    again = await read_by_cip(near, at)
    now = again.settings if again else None
    if now is not None and now.configuration == before.configuration:
        findings = (*findings, sentences.AS_BEFORE(address=at))
    return Outcome(False, CIP, str(before), str(now) if now else None, findings=findings)


async def _proven(
    adapter: Adapter,
    job: Job,
    identity: cip.Identity | None,
    before: CipSettings,
    arrival: _Arrival,
) -> Outcome:
    """The device at its new address: is it the same, and does it hold the address?"""
    told = None
    for _ in range(_ATTEMPTS):
        # It may answer by ARP before its programs have started, and its interfaces may say what
        # they had for a moment longer.
        told = await read_by_cip(Vantage(adapter.name), job.interface.ip)
        is_whole = told is not None and told.settings is not None
        if told is not None and is_whole and (told.identity or identity is None):
            break
        await asyncio.sleep(_BETWEEN)
    outcome = await keep_by_cip(adapter.name, job, lambda had: None)
    findings = arrival.findings
    if outcome is None or told is None:
        findings += (sentences.ARP_BUT_NO_CIP(Line("verify")),)
        return Outcome(False, CIP, str(before), None, arrival.seconds, findings)
    now = told.identity
    findings += outcome.findings
    same = compared(identity, now)
    findings += (same,) if same else ()
    done = outcome.done and (same is None or same.kind is not sentences.NOT_THE_SAME)
    return Outcome(done, CIP, str(before), outcome.after, arrival.seconds, findings, now)


def compared(before: cip.Identity | None, now: cip.Identity | None) -> Finding | None:
    """Whether the device at the new address is the one that was moved; None: nothing to compare."""
    if before is None:
        return None
    if now is None:
        return sentences.SAME_MAC_MUTE()
    if now.serial != before.serial:
        return sentences.NOT_THE_SAME(before=before.serial_text, serial=now.serial_text)
    return sentences.SAME_DEVICE(identity=f"serial {now.serial_text}")


def _without_gateway(job: Job, before: CipSettings) -> tuple[Finding, ...]:
    had = before.configuration.gateway
    now = gateway_for(had, job.interface, job.gateway)
    if job.back_to is not None or now != UNSPECIFIED or had == UNSPECIFIED:
        return ()
    return (sentences.GATEWAY_LOST(gateway=had, network=job.interface.network),)


def _shorter(wait: float | None) -> float:
    return _PATIENCE if wait is None else min(wait, _PATIENCE)
