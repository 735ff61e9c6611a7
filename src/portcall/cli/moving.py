"""A move in progress: which way it goes, where this computer has to be for it, what is told."""

from __future__ import annotations

import asyncio
import signal
from collections.abc import Mapping
from contextlib import ExitStack
from dataclasses import replace
from ipaddress import IPv4Address
from types import FrameType
from typing import Self

from portcall.cli.outcomes import noted, remembering
from portcall.cli.say import note
from portcall.cli.targets import Located, taken_by
from portcall.cli.visiting import put_back_forgotten, visit
from portcall.cli.workplace import maker_defaults
from portcall.core.adapters.adapter import Adapter
from portcall.core.find.sighting import Field, Method, Said
from portcall.core.setting.job import Job, Outcome
from portcall.host.jobs.interrogate import identity_in, interrogate, interrogate_again
from portcall.host.jobs.move import move_by_cip, move_by_dcp, wait_by_hand
from portcall.site.catalogs import read_catalogs
from portcall.site.folder import Site
from portcall.site.record import Record

_LABELS = {Field.PRODUCT: "", Field.SERIAL: "serial ", Field.FIRMWARE: "firmware "}
"""How a device is told from another, in the order in which that is said."""

_STARTING = 15.0
"""Seconds that a device's programs may take until they answer, once its address does."""


class Mover:
    """Moves devices, one after the other; this computer is put back when the block ends."""

    def __init__(
        self,
        adapter: Adapter,
        site: Site,
        log: Record,
        wait: float | None,
        force: bool,
    ) -> None:
        self.adapter = adapter
        self.site = site
        self.log = log
        self._wait = wait
        self._force = force
        self._stack = ExitStack()

    def __enter__(self) -> Self:
        """Put back first what a move that was killed left behind."""
        put_back_forgotten()
        for number in (signal.SIGTERM, signal.SIGHUP):
            signal.signal(number, _interrupt)
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
            note(f"{row.name}: nobody gave a mask, /{row.interface.network.prefixlen} is assumed")
        job = Job(
            which.meant.name,
            which.mac,
            row.interface,
            row.gateway,
            at or next(iter(device.addresses), None),
            called,
            called,
            maker_defaults(self.site),
            self._force,
            self._wait,
        )
        return noted(self.log, job, self._move(job, Method.DCP in device.methods))

    def _move(self, job: Job, by_dcp: bool) -> Outcome:
        remember = remembering(self.log, job)
        taken = taken_by(self.adapter, job)
        if taken:
            return Outcome(False, findings=(taken,))
        if by_dcp:
            outcome = asyncio.run(move_by_dcp(self.adapter, job, remember, note))
            if outcome is not None:
                return outcome
        if job.at is None:
            return Outcome(False, findings=("it has no address, and answers DCP no more",))
        self._be_in(job.at)
        self._be_in(job.interface.ip)
        outcome = asyncio.run(move_by_cip(self.adapter, job, remember, note))
        return outcome or asyncio.run(self._by_hand(job, job.at))

    def _be_in(self, address: IPv4Address) -> None:
        """Be in the subnet of an address until all is done."""
        self.adapter = self._stack.enter_context(visit(self.adapter, address, self.site))

    async def _by_hand(self, job: Job, at: IPv4Address) -> Outcome:
        """Say what there is to set it by, wait, and see that it is the same device."""
        name, ports = self.adapter.name, read_catalogs(self.site.folder).all_ports
        before = await interrogate(name, at, ports, self.site.pace)
        if at == job.interface.ip:
            return Outcome(True, findings=("it was there already",))
        for sentence in _guidance(job, at, before):
            note(sentence)
        outcome = await wait_by_hand(self.adapter, job, note)
        if not outcome.done:
            return outcome
        after = await interrogate_again(
            name, job.interface.ip, ports, self.site.pace, _STARTING if before else 0.0
        )
        return _compared(outcome, identity_in(before), identity_in(after))


def _guidance(job: Job, at: IPv4Address, said: tuple[Said, ...]) -> list[str]:
    ports = [each.value for each in said if each.field is Field.PORT]
    numbers = {port.split()[0] for port in ports}
    page = next((f"{s}://{at}/" for s, n in (("http", "80"), ("https", "443")) if n in numbers), "")
    where = f"on its page, {page}" if page else "at its panel, or with its maker's program"
    gateway = job.gateway or "none"
    listed = ", ".join(sorted(ports, key=lambda port: int(port.split()[0]))) or "none of the usual"
    wait = "until Ctrl-C" if job.wait is None else f"{job.wait:.0f} s, Ctrl-C ends it"
    return [
        f"{job.name} at {at} answers no DCP and cannot be set by CIP; open there: {listed}",
        f"set it {where}:",
        f"    address {job.interface.ip}   mask {job.interface.netmask}   gateway {gateway}",
        f"watching for {job.mac} at {job.interface.ip}, {wait} …",
    ]


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


def _interrupt(number: int, frame: FrameType | None) -> None:
    raise KeyboardInterrupt
