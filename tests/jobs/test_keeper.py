"""``assign --keep``: devices that answer all at once are set at the pace, and none is left half."""

import asyncio
from ipaddress import IPv4Address, IPv4Interface

from portcall.core.adapters.adapter import Adapter, AdapterKind
from portcall.core.address import Mac
from portcall.core.assign.board import Board
from portcall.core.assign.event import Event, EventKind
from portcall.core.finding import Name
from portcall.core.plan.rows import Plan, PlannedDevice
from portcall.core.setting.had import Had
from portcall.core.setting.job import Outcome
from portcall.core.talk.pacer import sustained
from portcall.core.wire.cip_tcpip import InterfaceConfiguration
from portcall.jobs.assign import keeper as keeping
from portcall.jobs.assign.keeper import Keeper
from portcall.site.logbook.settings import SettingsLog

NOBODY = IPv4Address(0)
HAD = Had("CIP", "by BOOTP", InterfaceConfiguration(NOBODY, NOBODY, NOBODY, NOBODY, NOBODY))
USB0 = Adapter("usb0", 2, AdapterKind.WIRED, Mac(b"\x02\x1a\x40\x7c\x00\x06"), True, True, 1500)
ROWS = [
    PlannedDevice(
        Name(f"drive-{n}"), IPv4Interface(f"10.61.20.{n}/24"), Mac(bytes((2, 0, 0, 0, 0, n)))
    )
    for n in range(1, 7)
]


def test_devices_are_begun_at_the_pace_and_at_the_end_no_other_is_begun(tmp_path, monkeypatch):
    begun, told = [], []

    async def keep_by_cip(adapter, job, remember):
        begun.append(asyncio.get_running_loop().time())
        await asyncio.sleep(0.3)
        return Outcome(True, "CIP", "before", "after")

    monkeypatch.setattr(keeping, "keep_by_cip", keep_by_cip)
    pace = 400.0

    async def go():
        board = Board(Plan(tuple(ROWS)))
        async with asyncio.TaskGroup() as tasks:
            keeper = Keeper(USB0, pace, SettingsLog(tmp_path), told.append, tasks)
            began = asyncio.get_running_loop().time()
            for row in ROWS:
                event = Event(EventKind.ANSWERING, row.mac, None, row.address, row.name)
                keeper.answered(event, board)
            while len(begun) < 4:
                await asyncio.sleep(0.01)
            await keeper.finish()
        return [at - began for at in begun]

    after = asyncio.run(go())
    assert 4 <= len(after) < len(ROWS)
    gap = keeping._PACKETS / sustained(pace)
    assert all(at >= number * gap for number, at in enumerate(after))
    assert [event.name for event in told] == [row.name for row in ROWS[: len(after)]]


def test_the_device_that_is_being_set_is_finished_when_the_assignment_is_interrupted(
    tmp_path, monkeypatch
):
    begun, ended, told = [], [], []

    async def keep_by_cip(adapter, job, remember):
        begun.append(job.name)
        if job.name == "drive-1":
            remember(HAD)
        await asyncio.sleep(0.5)
        ended.append(job.name)
        return Outcome(True, "CIP", "before", "after")

    monkeypatch.setattr(keeping, "keep_by_cip", keep_by_cip)

    async def go():
        board = Board(Plan(tuple(ROWS)))
        async with asyncio.TaskGroup() as tasks:
            keeper = Keeper(USB0, 400.0, SettingsLog(tmp_path), told.append, tasks)
            for row in ROWS:
                event = Event(EventKind.ANSWERING, row.mac, None, row.address, row.name)
                keeper.answered(event, board)
            while len(begun) < 2:
                await asyncio.sleep(0.01)
            await keeper.finish(at_once=True)

    asyncio.run(go())
    assert (begun, ended) == (["drive-1", "drive-2"], ["drive-1"])
    assert [each.detail for each in told] == [
        "ending when it is done: drive-1 is being set",
        "CIP: after",
    ]
