"""A move in progress: by which protocol, from which subnet, and what is told meanwhile."""

from __future__ import annotations

import asyncio
from collections.abc import Mapping, Sequence
from contextlib import ExitStack, closing
from dataclasses import dataclass, replace
from ipaddress import IPv4Address, IPv4Interface
from typing import Self

from portcall.core.adapters.adapter import Adapter
from portcall.core.address import Mac
from portcall.core.find.borrowed import borrowable
from portcall.core.find.sighting import Door, Field, Method, Said
from portcall.core.find.web_page import PAGES, PORT, SECURE_PORT
from portcall.core.finding import Line
from portcall.core.plan.rows import Plan, PlannedDevice
from portcall.core.setting import sentences as say
from portcall.core.setting.had import CIP, DCP, Had
from portcall.core.setting.job import NO_INTERFACE, Job, Outcome, undone
from portcall.core.setting.series import Occupants
from portcall.core.talk.pacer import Pacer
from portcall.core.trouble import NotPossibleHere
from portcall.host.leg import Leg
from portcall.host.link import Link
from portcall.host.rights import require_asking
from portcall.host.runner import Runner
from portcall.host.vantage import Only, Vantage
from portcall.jobs.look.echoed import answers_by
from portcall.jobs.look.holders import free_to_borrow, taken_by
from portcall.jobs.look.interrogate import identity_in, interrogate, interrogate_again
from portcall.jobs.look.locate import Located
from portcall.jobs.look.near import leg_beside
from portcall.jobs.setting.follow import follow
from portcall.jobs.setting.keep_one import Remember, keep_by_dcp, undo_by_cip
from portcall.jobs.setting.log import remembering, written
from portcall.jobs.setting.move_one import move_by_cip, move_by_dcp, wait_by_hand
from portcall.jobs.telling import Tell
from portcall.jobs.workstation.visit import put_back_forgotten, visit
from portcall.site.catalogs import read_catalogs
from portcall.site.folder import Site
from portcall.site.logbook.settings import SettingsLog

_LABELS = {Field.PRODUCT: "", Field.SERIAL: "serial ", Field.FIRMWARE: "firmware "}
"""The fields that tell one device from another, in the order in which they are named."""

_STARTING = 15.0
"""Seconds until a device's programs answer, once its address does."""


@dataclass(frozen=True, slots=True)
class MaskAssumed:
    """Neither plan nor site has the mask that a device is to get."""

    row: PlannedDevice

    def __str__(self) -> str:
        prefix = self.row.interface.network.prefixlen
        return f"{self.row.name}: nobody gave a mask, /{prefix} is assumed"


class Mover:
    """Moves devices, one after the other; this computer is put back when the block ends."""

    def __init__(
        self,
        adapter: Adapter,
        site: Site,
        wait: float | None,
        force: bool,
        tell: Tell,
    ) -> None:
        self.adapter = adapter
        self.site = site
        self.log = SettingsLog(site.folder, adapter.name)
        self._wait = wait
        self._force = force
        self.tell = tell
        self._stack = ExitStack()

    def __enter__(self) -> Self:
        """Put back first what a move that was killed left behind."""
        require_asking()
        put_back_forgotten(self.tell)
        return self

    def __exit__(self, *_: object) -> None:
        """Put this computer back."""
        self._stack.close()

    def move(self, which: Located, called: str | None) -> Outcome:
        """Bring a device to its row's address, and say how that went. Raises NotPossibleHere."""
        device, row = which.device, which.meant.row
        assert device is not None
        assert row is not None
        at = row.address if row.address in device.addresses else None
        own = device.mask
        if row.mask_assumed and own is not None:
            # What nobody named stays as the device has it.
            kept = IPv4Interface(f"{row.address}/{own}")
            if any(address in kept.network for address in device.addresses):
                row = replace(row, interface=kept, mask_assumed=False)
        if row.mask_assumed:
            self.tell(MaskAssumed(row))
        job = Job(
            which.meant.name,
            which.mac,
            row.interface,
            row.gateway,
            at or next(iter(device.addresses), None),
            called,
            called,
            self.site.default_addresses(),
            self._force,
            wait=self._wait,
        )
        by_dcp = Method.DCP in device.methods
        return written(self.log, job, self._move(job, by_dcp, device.rivals))

    def undo(self, which: Located) -> Outcome:
        """Bring a device back to how it was set before it was changed last, by the same protocol.

        Raises NotPossibleHere.
        """
        device = which.device
        assert device is not None
        had = self.log.had(which.mac)
        if had is None:
            return undone(say.NOT_RECORDED(path=str(self.log.path)))
        at = next(iter(device.addresses), None)
        job = Job(
            which.meant.name,
            which.mac,
            had.interface or NO_INTERFACE,
            had.configuration.gateway,
            at,
            had.name,
            had.name,
            self.site.default_addresses(),
            self._force,
            had,
            self._wait,
        )
        return written(self.log, job, self._undo(job, had))

    def _undo(self, job: Job, had: Had) -> Outcome:
        remember = remembering(self.log, job)
        if had.by == CIP and had.asks:
            if job.at is None:
                return undone(say.NO_ADDRESS_TO_SET_AT())
            self._be_in(job.at)
            there = replace(job, interface=IPv4Interface(job.at))
            outcome = asyncio.run(undo_by_cip(self.adapter.name, there, remember, had))
            return outcome or undone(say.NO_CIP_ANY_MORE())
        if had.interface is None and had.by == DCP:
            outcome = asyncio.run(keep_by_dcp(self.adapter.name, job, remember))
            return outcome or undone(say.NO_DCP_ANY_MORE())
        if had.interface is None:
            return undone(say.HAD_NO_ADDRESS())
        return self._move(job, had.by == DCP)

    def _move(self, job: Job, by_dcp: bool, rivals: Sequence[Mac] = ()) -> Outcome:
        remember = remembering(self.log, job)
        taken = taken_by(self.adapter, job)
        if taken:
            return undone(taken)
        if by_dcp:
            outcome = asyncio.run(move_by_dcp(self.adapter, job, remember, self.tell))
            if outcome is not None:
                return outcome
        if job.at is None:
            return undone(say.UNREACHABLE_NOW())
        self._be_in(job.at)
        self._be_in(job.interface.ip)
        if rivals:
            outcome = asyncio.run(self._move_apart(job, job.at, remember))
        else:
            outcome = asyncio.run(move_by_cip(self.adapter, job, remember, self.tell))
            outcome = outcome or asyncio.run(self._move_beside(job, job.at, remember))
        return outcome or asyncio.run(self._by_hand(job, job.at, rivals))

    async def _move_apart(self, job: Job, at: IPv4Address, remember: Remember) -> Outcome | None:
        """Move one of several devices at an address, by frames that go to its MAC alone.

        None when it speaks no CIP, or this computer cannot do that.
        """
        there = self.adapter.on_subnet_of(at)
        assert there is not None
        own = {each.ip for each in self.adapter.interfaces}
        avoid = own | self.site.reserved(self.site.plan()) | {job.interface.ip}
        choices = borrowable(there.network, None, avoid, self.site.starting)
        runner = Runner(Pacer())
        with runner.using(Link(self.adapter.name)) as link:
            free = await free_to_borrow(runner, link, choices)
            if free is None:
                return None
            interface = IPv4Interface((free, there.network.prefixlen))
            try:
                leg = Leg(runner, self.adapter.name, interface, Only(at, job.mac))
            except NotPossibleHere as trouble:
                self.tell(say.NO_FRAMES_APART(because=str(trouble)))
                return None
            with closing(leg):
                return await move_by_cip(self.adapter, job, remember, self.tell, leg.vantage)

    async def _move_beside(self, job: Job, at: IPv4Address, remember: Remember) -> Outcome | None:
        """Move a device that does not answer from here, because its mask leaves this computer out.

        None when it answers, or speaks no CIP beside it either.
        """
        runner = Runner(Pacer())
        if await answers_by(runner, self.adapter.name, at):
            return None
        avoid = self.site.reserved(self.site.plan())
        try:
            leg = await leg_beside(runner, self.adapter, at, avoid)
        except NotPossibleHere:
            return None
        if leg is None:
            return None
        with closing(leg):
            self.tell(AskedBeside(job, leg.vantage))
            return await move_by_cip(self.adapter, job, remember, self.tell, leg.vantage)

    def _be_in(self, address: IPv4Address) -> None:
        """Be in the subnet of an address until all is done."""
        self.adapter = self._stack.enter_context(visit(self.adapter, address, self.site, self.tell))

    async def _alone(self, job: Job, at: IPv4Address, rivals: Sequence[Mac]) -> bool:
        """Tell which cable to pull, and wait until the device alone answers at its address."""
        assert self.adapter.mac is not None
        self.tell(PullTheOther(job, at, tuple(rivals), self.site.plan()))
        there: frozenset[Mac] = frozenset()

        def told(now: frozenset[Mac]) -> None:
            nonlocal there
            there = now

        occupants = Occupants(self.adapter.mac, at)
        return await follow(
            self.adapter.name, occupants, lambda _: there == {job.mac}, job.wait, told
        )

    async def _by_hand(self, job: Job, at: IPv4Address, rivals: Sequence[Mac]) -> Outcome:
        """Tell how the device can be set by hand, wait for that, and check that it is the same
        device.
        """
        if rivals and at != job.interface.ip and not await self._alone(job, at, rivals):
            return undone(say.SHARED_ALL_THE_SAME(address=at, macs=rivals))
        name, doors = self.adapter.name, read_catalogs(self.site.folder).all_doors
        before = await interrogate(name, at, doors, self.site.pace)
        if at == job.interface.ip:
            return Outcome(True, findings=(say.ALREADY_THERE(address=at),))
        self.tell(ByHand(job, at, before))
        outcome = await wait_by_hand(self.adapter, job, self.tell)
        if not outcome.done:
            return outcome
        after = await interrogate_again(
            name, job.interface.ip, doors, self.site.pace, _STARTING if before else 0.0
        )
        return _compared(outcome, identity_in(before), identity_in(after))


@dataclass(frozen=True, slots=True)
class AskedBeside:
    """A device that does not answer from here is asked from an address right beside its own."""

    job: Job
    vantage: Vantage

    def __str__(self) -> str:
        at = self.vantage.interface.ip if self.vantage.interface else ""
        return (
            f"{self.job.name} does not answer this computer's own address; it is asked from {at}, "
            "borrowed meanwhile, which no mask of it leaves out"
        )


@dataclass(frozen=True, slots=True)
class ByHand:
    """A device that a person has to set: where it is, and what it said of itself."""

    job: Job
    at: IPv4Address
    said: tuple[Said, ...]

    def __str__(self) -> str:
        job, at = self.job, self.at
        told = [each.value for each in self.said if each.field is Field.DOOR]
        doors = sorted(each for each in told if isinstance(each, Door))
        opens = {door.port for door in doors}
        page = next((f"{PAGES[port]}://{at}/" for port in (PORT, SECURE_PORT) if port in opens), "")
        where = f"on its page, {page}" if page else "at its panel, or with its maker's program"
        gateway = job.gateway or "none"
        listed = ", ".join(map(str, doors)) or "none of the usual"
        wait = "until Ctrl-C" if job.wait is None else f"{job.wait:.0f} s, Ctrl-C ends it"
        return "\n".join(
            (
                f"{job.name} at {at} answers no DCP and cannot be set by CIP; open there: {listed}",
                f"set it {where}:",
                f"    address {job.interface.ip}   mask {job.interface.netmask}   "
                f"gateway {gateway}",
                f"watching for {job.mac} at {job.interface.ip}, {wait} …",
            )
        )


@dataclass(frozen=True, slots=True)
class PullTheOther:
    """Several devices have an address, and no protocol reaches the one that is meant alone."""

    job: Job
    at: IPv4Address
    rivals: tuple[Mac, ...]
    plan: Plan

    def __str__(self) -> str:
        others = " and ".join(self.plan.named(mac) for mac in self.rivals)
        wait = "until Ctrl-C" if self.job.wait is None else f"{self.job.wait:.0f} s"
        return (
            f"{self.at} is shared: pull the cable of {others}, and leave that of {self.job.name}, "
            f"{self.job.mac}; waiting until it is alone there, {wait} …"
        )


def _compared(outcome: Outcome, before: Mapping[Field, str], after: Mapping[Field, str]) -> Outcome:
    """Is it the same device by what it says, as it is by its MAC?"""
    differs = [
        say.WAS_AND_IS(field=field, before=before[field], now=after[field])
        for field in before
        if field in after and after[field] != before[field]
    ]
    if differs:
        other = say.SAME_MAC_OTHER(differences=differs)
        return replace(outcome, done=False).with_findings(other)
    if not after:
        if not before:
            return outcome.with_findings(say.SAME_MAC_MUTE())
        starting = say.SAME_MAC_STARTING(Line("verify"))
        return replace(outcome, done=False).with_findings(starting)
    shown = ", ".join(_LABELS[field] + after[field] for field in _LABELS if field in after)
    return outcome.with_findings(say.SAME_DEVICE(identity=shown))
