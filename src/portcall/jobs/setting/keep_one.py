"""Having a device hold its address over a power cycle, by the protocol it speaks."""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Sequence
from ipaddress import IPv4Address, IPv4Interface
from typing import NamedTuple

from portcall.core.address import UNSPECIFIED, Mac
from portcall.core.cip.identity_object import controls
from portcall.core.cip.interface_object import CONTROL_MASK, CipSettings, OtherAddresses
from portcall.core.find.sighting import Field, Sighting
from portcall.core.finding import Finding, Line, Name
from portcall.core.setting import cip_settings
from portcall.core.setting import sentences as say
from portcall.core.setting.cip_settings import Answered, AttributeChange
from portcall.core.setting.had import CIP, DCP, Had, gateway_for, had_by_cip
from portcall.core.setting.job import NO_INTERFACE, Job, Outcome
from portcall.core.wire import cip, cip_message, dcp
from portcall.core.wire.cip_tcpip import Control, InterfaceConfiguration
from portcall.host.vantage import Vantage
from portcall.jobs.setting.exchanges import ask_by_cip, read_by_dcp, set_by_dcp

_UNREAD = "it does not tell how its address is set"

Remember = Callable[[Had], None]
"""Is told how a device is set before that is changed; an exception of it stops the change."""

READ_BACK = 3.0
"""Seconds in which a DCP station does what it said yes to.

For so long it belongs to who set it (IEC 61158-6-10, the client hold time).
"""

_READ_AGAIN = 0.25


async def keep_by_cip(adapter: str, job: Job, remember: Remember) -> Outcome | None:
    """Have the device take the address it has as its own; None when it speaks no CIP there."""
    return await _change(adapter, job, remember, _kept)


async def release_by_cip(
    adapter: str, job: Job, remember: Remember, before: Had | None
) -> Outcome | None:
    """Have the device ask for its address again, from its next start; None without CIP.

    ``before``: how it was set when it still asked, as it was remembered, or None.
    """

    def released(job: Job, now: CipSettings) -> _Decision:
        if not now.is_stored:
            return (), None
        changes = cip_settings.releasing(now, before)
        return changes, None if changes else say.ASKS_BY_NEITHER()

    return await _change(adapter, job, remember, released)


async def undo_by_cip(adapter: str, job: Job, remember: Remember, had: Had) -> Outcome | None:
    """Have the device ask for its address as it did; it has the one it has until it starts again.

    None without CIP.
    """
    return await _change(
        adapter, job, remember, lambda job, now: (cip_settings.undoing(now, had), None)
    )


_Decision = tuple[tuple[AttributeChange, ...], Finding | None]


def _kept(job: Job, now: CipSettings) -> _Decision:
    if now.interface != job.interface:
        line = Line("move", job.name)
        return (), say.SETTINGS_SAY(line, settings=str(now), wanted=job.interface)
    return cip_settings.keeping(now, job.host_name), None


async def _change(
    adapter: str,
    job: Job,
    remember: Remember,
    decide: Callable[[Job, CipSettings], _Decision],
) -> Outcome | None:
    told = await read_by_cip(Vantage(adapter), job.interface.ip)
    if told is None:
        return None
    before = told.settings
    if before is None:
        return Outcome(False, CIP, findings=(say.CANNOT_BE_SET(because=told.unread),))
    reason = in_use(job, told.identity)
    if reason is None and (cannot := before.cannot()) is not None:
        reason = say.CANNOT_BE_SET(because=cannot)
    if reason is not None:
        return Outcome(False, CIP, str(before), findings=(reason,))
    changes, obstacle = decide(job, before)
    if obstacle is not None:
        return Outcome(False, CIP, str(before), findings=(obstacle,))
    if not changes:
        return Outcome(True, CIP, str(before), str(before), identity=told.identity)
    remember(had_by_cip(before))
    answers = await write_by_cip(Vantage(adapter), job.interface.ip, changes)
    again = await read_by_cip(Vantage(adapter), job.interface.ip)
    after = again.settings if again else None
    findings = left_undone(changes, answers)
    if after is None:
        findings += (say.NOT_READ_BACK(Line("find")),)
        return Outcome(False, CIP, str(before), findings=findings)
    findings += named(answers)
    left, _ = decide(job, after)
    major = tuple(change for change in left if not change.minor)
    if major and not left_undone(changes, answers):
        findings = (say.SAID_YES(what=major[0].what),)
    who = told.identity
    settings = (str(before), str(after))
    asks = after.control & CONTROL_MASK != Control.STORED
    return Outcome(not major, CIP, *settings, findings=findings, identity=who, asks=asks)


def in_use(job: Job, identity: cip.Identity | None) -> Finding | None:
    """Why a CIP device that is doing something is not to be changed, or None."""
    busy = "it does not say what it is doing"
    if identity is not None:
        busy = controls(identity) or ""
    if not busy or job.force:
        return None
    return say.IN_USE(because=busy)


class ToldByCip(NamedTuple):
    """The identity and the settings that a device tells by CIP; without settings, why not."""

    identity: cip.Identity | None
    settings: CipSettings | None
    unread: str = _UNREAD


async def read_by_cip(vantage: Vantage, address: IPv4Address) -> ToldByCip | None:
    """Read identity and settings of a device; None when nothing listens at its CIP port."""
    facts = await ask_by_cip(vantage, address, cip_settings.read(address))
    if facts is None:
        return None
    identity = next((fact for fact in facts if isinstance(fact, cip.Identity)), None)
    settings = next((fact for fact in facts if isinstance(fact, CipSettings)), None)
    other = next((str(fact) for fact in facts if isinstance(fact, OtherAddresses)), _UNREAD)
    return ToldByCip(identity, settings, other)


async def write_by_cip(
    vantage: Vantage,
    address: IPv4Address,
    changes: Sequence[AttributeChange],
    restart: bool = False,
) -> list[Answered]:
    """The answer to each change; none where the connection ended before."""
    return await ask_by_cip(vantage, address, cip_settings.write(changes, restart)) or []


def left_undone(
    changes: Sequence[AttributeChange], answers: Sequence[Answered]
) -> tuple[Finding, ...]:
    """Findings about the changes that were refused, or never answered."""
    told = [refused(each) for each in answers if each.status != cip_message.SUCCESS]
    answered = {answer.change for answer in answers}
    if not told:
        rest = [change for change in changes if change not in answered]
        told = [say.CUT(what=each.what) for each in rest]
    return tuple(told[:3])


def refused(answer: Answered) -> Finding:
    """A finding about a change that the device did not make."""
    return say.REFUSED(because=str(answer))


def named(answers: Sequence[Answered]) -> tuple[Finding, ...]:
    """Findings about the settings besides the address."""
    done = [each for each in answers if each.change.minor and each.status == cip_message.SUCCESS]
    return tuple(say.NAMED(because=str(answer)) for answer in done)


async def keep_by_dcp(adapter: str, job: Job, remember: Remember) -> Outcome | None:
    """Set address and station name for good; None when the device speaks no DCP."""
    before = await read_by_dcp(adapter, job.mac)
    if before is None:
        return None
    return await set_for_good(adapter, job, before, remember)


async def set_for_good(adapter: str, job: Job, before: Sighting, remember: Remember) -> Outcome:
    """Set address and station name by DCP, and read them back."""
    had = had_by_dcp(before)
    remember(had)
    gateway = gateway_for(had.configuration.gateway, job.interface, job.gateway)
    blocks = [dcp.encode_ip_block(job.interface, gateway)]
    if job.station_name is not None:
        blocks.append(dcp.encode_name_block(job.station_name))
    answer = await set_by_dcp(adapter, job.mac, blocks)
    findings = tuple(
        say.DCP_ERROR(what=_WHAT[option], because=dcp.error_words(error))
        for option, error in (answer.errors or {}).items()
        if error and option in _WHAT
    )
    if answer.errors is None:
        findings = (say.NO_DCP_ANSWER(),)
    after = await _read_back(adapter, job, READ_BACK if not findings else 0.0)
    there, named = _is_set(job, after)
    if after is None:
        findings += (say.NO_DCP_NOW(),)
    elif not findings and not (there and named):
        what = _WHAT[dcp.STATION_NAME] if there else _WHAT[dcp.IP_PARAMETER]
        findings = (say.SAID_YES_BY_DCP(what=what, seconds=READ_BACK),)
    elif there and gateway != (job.gateway or had.configuration.gateway):
        lost = had.configuration.gateway
        findings += (say.GATEWAY_LOST(gateway=lost, network=job.interface.network),)
    return Outcome(there, DCP, had.settings, after.settings if after else None, findings=findings)


async def _read_back(adapter: str, job: Job, seconds: float) -> Had | None:
    """The station's own words once it is as it should be, or when that takes too long."""
    clock = asyncio.get_running_loop().time
    end = clock() + seconds
    while True:
        seen = await read_by_dcp(adapter, job.mac)
        after = had_by_dcp(seen) if seen else None
        if all(_is_set(job, after)) or clock() >= end:
            return after
        await asyncio.sleep(_READ_AGAIN)


def _is_set(job: Job, told: Had | None) -> tuple[bool, bool]:
    """Whether a station has the address of a job, and the name."""
    if told is None:
        return False, False
    wanted = None if job.interface == NO_INTERFACE else job.interface
    return told.interface == wanted, job.station_name in (None, told.name)


def had_by_dcp(seen: Sighting) -> Had:
    """The settings that a DCP station tells."""
    configuration = InterfaceConfiguration(
        seen.address or UNSPECIFIED,
        _address(seen, Field.MASK),
        _address(seen, Field.GATEWAY),
        UNSPECIFIED,
        UNSPECIFIED,
    )
    name = next((str(said.value) for said in seen.said if said.field is Field.NAME), "")
    had = Had(DCP, "", configuration, name)
    settings = f"{had.interface or 'no address'}, {name or 'no station name'}"
    return Had(DCP, settings, configuration, name)


def _address(seen: Sighting, field: Field) -> IPv4Address:
    told = next((said.value for said in seen.said if said.field is field), None)
    return told if isinstance(told, IPv4Address) else UNSPECIFIED


_WHAT = {dcp.IP_PARAMETER: "the address", dcp.STATION_NAME: "the station name"}


async def own_interface(adapter: str, mac: Mac, address: IPv4Address) -> IPv4Interface | None:
    """The address and mask that a device itself says it has, by CIP or DCP."""
    told = await read_by_cip(Vantage(adapter), address)
    if told is not None and told.settings is not None:
        return told.settings.interface
    seen = await read_by_dcp(adapter, mac)
    return had_by_dcp(seen).interface if seen else None


async def keep(adapter: str, job: Job, remember: Remember, by_dcp: bool = True) -> Outcome:
    """Keep by CIP when the device speaks that at its address, or else by DCP, or else not at all.

    Without ``by_dcp`` it is known that the device speaks no DCP.
    """
    outcome = await keep_by_cip(adapter, job, remember)
    if outcome is None and by_dcp:
        outcome = await keep_by_dcp(adapter, job, remember)
    return outcome or Outcome(False, findings=_no_way(job.name))


async def release(adapter: str, job: Job, remember: Remember, before: Had | None) -> Outcome:
    """Release by CIP; DCP has no way to have a device ask by BOOTP or DHCP."""
    outcome = await release_by_cip(adapter, job, remember, before)
    return outcome or Outcome(False, findings=(say.NO_WAY_BACK(),))


def _no_way(name: Name) -> tuple[Finding, ...]:
    return say.NO_WAY_TO_SET(), say.PROVE_IT(Line("verify", "--power-cycle", name))
