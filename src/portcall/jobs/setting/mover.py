"""A move in progress: by which protocol, from which subnet, and what is told meanwhile."""

from __future__ import annotations

import asyncio
from collections.abc import Mapping
from contextlib import ExitStack
from dataclasses import dataclass, replace
from ipaddress import IPv4Address, IPv4Interface
from typing import Self

from portcall.core.adapters.adapter import Adapter
from portcall.core.find.sighting import Field, Method, Said
from portcall.core.plan.rows import PlannedDevice
from portcall.core.setting.had import CIP, DCP, Had
from portcall.core.setting.job import NO_INTERFACE, Job, Outcome
from portcall.host.privilege import Privilege, require
from portcall.jobs.look.holders import taken_by
from portcall.jobs.look.interrogate import identity_in, interrogate, interrogate_again
from portcall.jobs.look.locate import Located
from portcall.jobs.setting.keep import keep_by_dcp, undo_by_cip
from portcall.jobs.setting.log import remembering, written
from portcall.jobs.setting.move import move_by_cip, move_by_dcp, wait_by_hand
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
        self.log = SettingsLog(site.folder)
        self._wait = wait
        self._force = force
        self.tell = tell
        self._stack = ExitStack()

    def __enter__(self) -> Self:
        """Put back first what a move that was killed left behind."""
        require(Privilege.NET_RAW)
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
        return written(self.log, job, self._move(job, Method.DCP in device.methods))

    def undo(self, which: Located) -> Outcome:
        """Bring a device back to how it was set before it was changed last, by the same protocol.

        Raises NotPossibleHere.
        """
        device = which.device
        assert device is not None
        had = self.log.had(which.mac)
        if had is None:
            return Outcome(False, findings=(f"{self.log.path} does not tell what it had",))
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
                return Outcome(False, findings=("it has no address at which it could be set",))
            self._be_in(job.at)
            there = replace(job, interface=IPv4Interface(job.at))
            outcome = asyncio.run(undo_by_cip(self.adapter.name, there, remember, had))
            return outcome or Outcome(False, findings=("it answers CIP no more",))
        if had.interface is None and had.by == DCP:
            outcome = asyncio.run(keep_by_dcp(self.adapter.name, job, remember))
            return outcome or Outcome(False, findings=("it answers DCP no more",))
        if had.interface is None:
            return Outcome(False, findings=("it had no address that could be set again",))
        return self._move(job, had.by == DCP)

    def _move(self, job: Job, by_dcp: bool) -> Outcome:
        remember = remembering(self.log, job)
        taken = taken_by(self.adapter, job)
        if taken:
            return Outcome(False, findings=(taken,))
        if by_dcp:
            outcome = asyncio.run(move_by_dcp(self.adapter, job, remember, self.tell))
            if outcome is not None:
                return outcome
        if job.at is None:
            return Outcome(False, findings=("it has no address, and answers DCP no more",))
        self._be_in(job.at)
        self._be_in(job.interface.ip)
        outcome = asyncio.run(move_by_cip(self.adapter, job, remember, self.tell))
        return outcome or asyncio.run(self._by_hand(job, job.at))

    def _be_in(self, address: IPv4Address) -> None:
        """Be in the subnet of an address until all is done."""
        self.adapter = self._stack.enter_context(visit(self.adapter, address, self.site, self.tell))

    async def _by_hand(self, job: Job, at: IPv4Address) -> Outcome:
        """Tell how the device can be set by hand, wait for that, and check that it is the same
        device.
        """
        name, ports = self.adapter.name, read_catalogs(self.site.folder).all_ports
        before = await interrogate(name, at, ports, self.site.pace)
        if at == job.interface.ip:
            return Outcome(True, findings=("it was there already",))
        self.tell(ByHand(job, at, before))
        outcome = await wait_by_hand(self.adapter, job, self.tell)
        if not outcome.done:
            return outcome
        after = await interrogate_again(
            name, job.interface.ip, ports, self.site.pace, _STARTING if before else 0.0
        )
        return _compared(outcome, identity_in(before), identity_in(after))


@dataclass(frozen=True, slots=True)
class ByHand:
    """A device that a person has to set: where it is, and what it said of itself."""

    job: Job
    at: IPv4Address
    said: tuple[Said, ...]

    def __str__(self) -> str:
        job, at = self.job, self.at
        ports = [each.value for each in self.said if each.field is Field.PORT]
        numbers = {port.split()[0] for port in ports}
        schemes = (("http", "80"), ("https", "443"))
        page = next((f"{scheme}://{at}/" for scheme, n in schemes if n in numbers), "")
        where = f"on its page, {page}" if page else "at its panel, or with its maker's program"
        gateway = job.gateway or "none"
        by_number = sorted(ports, key=lambda port: int(port.split()[0]))
        listed = ", ".join(by_number) or "none of the usual"
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


def _compared(outcome: Outcome, before: Mapping[Field, str], after: Mapping[Field, str]) -> Outcome:
    """Is it the same device by what it says, as it is by its MAC?"""
    differs = [
        f"{field} was {before[field]}, is {after[field]}"
        for field in before
        if field in after and after[field] != before[field]
    ]
    if differs:
        sentence = f"the same MAC, but NOT the same device: {'; '.join(differs)}"
        return replace(outcome, done=False).with_findings(sentence)
    if not after:
        if not before:
            return outcome.with_findings("the same MAC; it says nothing of itself to compare")
        sentence = "the same MAC; its programs do not answer yet: portcall verify"
        return replace(outcome, done=False).with_findings(sentence)
    shown = ", ".join(_LABELS[field] + after[field] for field in _LABELS if field in after)
    return outcome.with_findings(f"the same device: {shown}")
