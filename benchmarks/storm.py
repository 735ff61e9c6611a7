"""A plant powers up: 500 planned devices and 2,000 others ask within one second, and one frame in
five is lost, in both directions.

Stated: every planned device ends with its own address, none with another's, and whoever is not
planned gets no reply, counted where the frames arrive. In a practice plant of two: the server is
the whole command; the crowd at the other end is the simulated devices' own clients, half of the
planned ones by BOOTP.
"""

from __future__ import annotations

import asyncio
import json
import random
import subprocess
import sys
import tempfile
import time
from contextlib import closing
from heapq import heappop, heappush
from ipaddress import IPv4Address, IPv4Interface
from pathlib import Path
from typing import Any

from portcall.core.address import Mac
from portcall.core.assign.client import BootpClient, DhcpClient, Obtained
from portcall.core.talk.conversation import Actions, Conversation, Frame, Report, Send
from portcall.core.wire import arp, bootp, ethernet
from portcall.host.link import Link
from portcall.host.runner import Runner

HERE = Path(__file__).resolve().parent
PLANNED, OTHERS = 500, 2000
LOSS = 0.2
LONGEST_RETRY = 16.0
"""Seconds between two tries of a DHCP client that is not heard."""
SEED = 20
MOST_SECONDS = 240
OWN = IPv4Interface("10.61.0.1/16")
PORTCALL = str(Path(sys.executable).with_name("portcall"))
SERVER_PORT = bootp.SERVER_PORT.to_bytes(2, "big")
CHADDR = slice(70, 76)
"""Where a reply names its client, in a frame."""


def mac(number: int) -> Mac:
    return Mac((b"\x02\x77" if number < PLANNED else b"\x02\x99") + number.to_bytes(4, "big"))


def address(number: int) -> IPv4Address:
    return IPv4Address(0x0A3D0100 + number)


class Crowd(Conversation[Frame, Any]):
    """All clients at once; each hears what is for it, of what is not lost."""

    def __init__(self) -> None:
        self._chance = random.Random(SEED)
        self._clients: dict[bytes, Conversation[Frame, Any]] = {}
        for n in range(PLANNED + OTHERS):
            by_bootp = n < PLANNED and n % 2 == 0
            self._clients[mac(n)] = (
                BootpClient(mac(n), n + 1, 2.0)
                if by_bootp
                else DhcpClient(mac(n), n + 1, longest_retry=LONGEST_RETRY)
            )
        self._due: list[tuple[float, int, bytes]] = []
        self.addresses: dict[bytes, IPv4Address] = {}
        self._holders: dict[bytes, Mac] = {}
        self.replies_to_others = 0
        self.replies = 0

    def begin(self, now: float) -> Actions[Frame, Any]:
        for number, who in enumerate(self._clients):
            heappush(self._due, (now + self._chance.random(), number, who))
        self.wake_at = now
        yield from ()

    def woke(self, now: float) -> Actions[Frame, Any]:
        while self._due and self._due[0][0] <= now:
            at, number, who = heappop(self._due)
            client = self._clients[who]
            if client.wake_at is None and not client.over and who not in self.addresses:
                yield from self._pass_on(number, who, client.begin(now))
            elif client.wake_at == at:
                yield from self._pass_on(number, who, client.woke(now))
        self.wake_at = self._due[0][0] if self._due else None

    def heard(self, packet: Frame, now: float) -> Actions[Frame, Any]:
        data = packet.data
        if data[34:36] == SERVER_PORT and data[12:14] == b"\x08\x00":
            self.replies += 1
            self.replies_to_others += data[CHADDR][:2] == b"\x02\x99"
        if self._chance.random() < LOSS:
            return
        if data[12:14] == b"\x08\x06":
            yield from self._answer_arp(arp.parse_frame(data))
            return
        client = self._clients.get(data[CHADDR])
        if client is not None:
            number = int.from_bytes(data[CHADDR][2:], "big")
            yield from self._pass_on(number, data[CHADDR], client.heard(packet, now))

    def _answer_arp(self, asked: arp.Arp) -> Actions[Frame, Any]:
        mine = self._holders.get(asked.target_address.packed)
        if mine is not None and self._chance.random() >= LOSS:
            reply = arp.Arp(
                arp.Operation.REPLY,
                mine,
                asked.target_address,
                asked.sender_mac,
                asked.sender_address,
            )
            payload = arp.encode(reply)
            frame = ethernet.EthernetFrame(asked.sender_mac, mine, 0x0806, payload)
            yield Send(Frame(ethernet.encode(frame)))

    def _pass_on(
        self, number: int, who: bytes, actions: Actions[Frame, Any]
    ) -> Actions[Frame, Any]:
        for action in actions:
            if isinstance(action, Report):
                if isinstance(action.fact, Obtained):
                    self.addresses[who] = action.fact.interface.ip
                    self._holders[action.fact.interface.ip.packed] = Mac(who)
            elif self._chance.random() >= LOSS:
                yield action
        wake_at = self._clients[who].wake_at
        if wake_at is not None:
            heappush(self._due, (wake_at, number, who))
            self.wake_at = self._due[0][0]


async def crowd(stop: Path) -> dict[str, Any]:
    """Ask until the server is done; what came of it."""
    asking = Crowd()
    with closing(Link("eth0")) as link:
        runner = Runner(pacer=None)
        runner.start(asking, link, print)
        while not stop.exists():
            await asyncio.sleep(0.2)
        runner.drop(link)
    right = sum(asking.addresses.get(mac(n)) == address(n) for n in range(PLANNED))
    return {
        "right": right,
        "wrong": len(asking.addresses) - right,
        "replies": asking.replies,
        "to_others": asking.replies_to_others,
    }


def inside(folder: Path) -> int:
    """On the plant's workstation."""
    subprocess.run(["ip", "addr", "add", str(OWN), "dev", "usb0"], check=True)
    line = [PORTCALL, "assign", "--adapter", "usb0", "--until-done", "--for", str(MOST_SECONDS)]
    with open(folder / "events", "w") as out:
        server = subprocess.Popen([*line, "--json"], cwd=folder, stdout=out)
    while ":0043" not in Path("/proc/net/udp").read_text():
        time.sleep(0.05)
    began = time.monotonic()
    there = [PORTCALL, "plant", "on", "crowd", "--", sys.executable, __file__, "crowd", str(folder)]
    with subprocess.Popen(there, stdout=subprocess.PIPE, text=True) as asking:
        code = server.wait()
        took = time.monotonic() - began
        (folder / "stop").touch()
        out, _ = asking.communicate()
    came = json.loads(out)
    print(
        f"{came['right']} of {PLANNED} planned devices have their own address, {came['wrong']} "
        f"devices have one that is not theirs; {came['replies']} replies, of which "
        f"{came['to_others']} to the {OTHERS:,} that are not planned; assign ended with {code} "
        f"after {took:.0f} s"
    )
    good = came["right"] == PLANNED and came["wrong"] == came["to_others"] == code == 0
    return 0 if good else 1


def main() -> int:
    """Outside the plant: write the plan, and bring a plant up around this file."""
    if sys.argv[1:2] == ["crowd"]:
        print(json.dumps(asyncio.run(crowd(Path(sys.argv[2], "stop")))))
        return 0
    if sys.argv[1:2] == ["inside"]:
        return inside(Path(sys.argv[2]))
    with tempfile.TemporaryDirectory() as name:
        rows = (f"drive-{n},{mac(n)},{address(n)},16" for n in range(PLANNED))
        Path(name, "plan.csv").write_text("\n".join(("name,mac,address,mask", *rows, "")))
        plant = [PORTCALL, "plant", "run", "--scenario", str(HERE / "crowd.toml"), "--"]
        return subprocess.run(
            [*plant, sys.executable, __file__, "inside", name], check=False
        ).returncode


if __name__ == "__main__":
    sys.exit(main())
