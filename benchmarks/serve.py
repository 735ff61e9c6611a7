"""Requests answered a second by ``portcall assign``, against a bare Python loop; and its memory.

Stated limits: on one core at least 0.06 of what a bare loop does that receives the same frames and
sends them back unchanged, measured in the same run; the 99th percentile of the time until an answer
under 5 ms at half that load; memory flat within 10 % over a million requests.

The server is the whole command: its record on disk, its board, its lines. 500 planned devices ask
by DHCP, discover and request in turn, from the other end of a practice plant's wire; during the
million, every fifth request is from a MAC that nobody has seen before.
"""

from __future__ import annotations

import os
import socket
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from ipaddress import IPv4Address
from pathlib import Path

from portcall.core.address import BROADCAST, UNSPECIFIED, Mac
from portcall.core.wire import bootp, dhcp, udp
from portcall.core.wire.dhcp import Code, MessageType, Options

HERE = Path(__file__).resolve().parent
DEVICES = 500
WINDOW = 64
RUNS = 3
SHARE, MOST_MILLISECONDS, MOST_GROWTH = 0.06, 5.0, 1.10
REQUESTS = 1_000_000
OWN = IPv4Address("10.61.0.1")
PORTCALL = str(Path(sys.executable).with_name("portcall"))
SERVER_CORE, ASKER_CORE = 0, 1


def mac(number: int) -> Mac:
    return Mac(b"\x02\x77" + number.to_bytes(4, "big"))


def address(number: int) -> IPv4Address:
    return IPv4Address(0x0A3D0100 + number)


def plan() -> str:
    rows = (f"drive-{n},{mac(n)},{address(n)},16" for n in range(DEVICES))
    return "\n".join(("name,mac,address,mask", *rows, ""))


def frames() -> bytes:
    """Every device's discover, then every device's request, each with its length before it."""
    return b"".join(
        length_and_frame(number, kind)
        for kind in (MessageType.DISCOVER, MessageType.REQUEST)
        for number in range(DEVICES)
    )


def length_and_frame(number: int, kind: MessageType) -> bytes:
    entries = [
        (Code.MESSAGE_TYPE, bytes((kind,))),
        (Code.PARAMETER_REQUEST, bytes((1, 3, 6, 12, 15, 28, 42))),
    ]
    if kind is MessageType.REQUEST:
        entries.append((Code.REQUESTED_ADDRESS, address(number).packed))
        entries.append((Code.SERVER_IDENTIFIER, OWN.packed))
    vendor = dhcp.encode(Options(entries))
    message = bootp.BootpMessage(bootp.Op.REQUEST, mac(number), 1, vendor=vendor)
    datagram = udp.UdpDatagram(68, 67, bootp.padded(bootp.encode(message)))
    everybody = IPv4Address("255.255.255.255")
    whole = udp.UdpFrame(mac(number), BROADCAST, UNSPECIFIED, everybody, datagram)
    frame = bytearray(udp.encode_frame(whole))
    # No checksum (RFC 768): who asks numbers its requests as it sends them.
    frame[40:42] = b"\0\0"
    return len(frame).to_bytes(2, "big") + frame


def loop() -> None:
    """The bare loop: what comes goes back."""
    sock = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, 0)
    sock.setsockopt(263, 23, 1)  # PACKET_IGNORE_OUTGOING
    sock.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 4 * 1024 * 1024)
    sock.bind(("usb0", 3))
    while True:
        sock.send(sock.recv(2048))


@contextmanager
def running(*words: str, folder: Path) -> Iterator[subprocess.Popen[bytes]]:
    """A program on the server's core."""
    line = ["taskset", "-c", str(SERVER_CORE), *words]
    with subprocess.Popen(
        line, cwd=folder, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
    ) as process:
        try:
            yield process
        finally:
            process.kill()


def ask(folder: Path, *words: object) -> list[float]:
    """What the asker prints."""
    line = [PORTCALL, "plant", "on", "crowd", "--", "taskset", "-c", str(ASKER_CORE)]
    line += [str(folder / "asker"), "eth0", str(folder / "frames"), *map(str, words)]
    out = subprocess.run(line, check=True, capture_output=True, text=True).stdout
    return [float(word) for word in out.split()]


def until_serving() -> None:
    while ":0043" not in Path("/proc/net/udp").read_text():
        time.sleep(0.05)


def megabytes(process: subprocess.Popen[bytes]) -> float:
    status = Path(f"/proc/{process.pid}/status").read_text()
    return int(status.split("VmRSS:")[1].split()[0]) / 1024


def pair(folder: Path) -> tuple[float, float, float, float]:
    """Server's and loop's answers a second; at half the server's: share answered, milliseconds."""
    with running(sys.executable, __file__, "loop", folder=folder):
        time.sleep(0.5)
        (bare,) = ask(folder, "flood", WINDOW, 5)
    with running(PORTCALL, "assign", "--adapter", "usb0", folder=folder):
        until_serving()
        ask(folder, "flood", WINDOW, 4)  # Every address is cleared once.
        (rate,) = ask(folder, "flood", WINDOW, 8)
        answered, _, late = ask(folder, "steady", int(rate / 2), 8)
    return rate, bare, answered, late


def inside(folder: Path) -> int:
    """On the plant's workstation."""
    subprocess.run(["ip", "addr", "add", f"{OWN}/16", "dev", "usb0"], check=True)
    pairs = [pair(folder) for _ in range(RUNS)]
    share = statistics.median(rate / bare for rate, bare, _, _ in pairs)
    late = statistics.median(each[3] for each in pairs)
    answered = min(each[2] for each in pairs)
    rate = statistics.median(each[0] for each in pairs)
    print(
        f"answers a second: {share:.3f} of a bare loop's, median of {RUNS} pairs (stated: at least "
        f"{SHARE}); here that is {rate:,.0f}"
    )
    print(
        f"at half that load {answered:.2%} answered, 99th percentile {late:.1f} ms "
        f"(stated: under {MOST_MILLISECONDS:.0f})"
    )
    with running(PORTCALL, "assign", "--adapter", "usb0", folder=folder) as server:
        until_serving()
        ask(folder, "count", WINDOW, REQUESTS // 10)
        before = megabytes(server)
        ask(folder, "count", WINDOW, REQUESTS - REQUESTS // 10)
        growth = megabytes(server) / before
    print(
        f"memory after a million answers: {growth:.3f} of what it was after a tenth of them, "
        f"{before:.0f} MB (stated: at most {MOST_GROWTH})"
    )
    good = share >= SHARE and late < MOST_MILLISECONDS and growth <= MOST_GROWTH
    return 0 if good and answered == 1.0 else 1


def main() -> int:
    """Outside the plant: compile, write the plan, and bring a plant up around this file."""
    if sys.argv[1:] == ["loop"]:
        loop()
    if sys.argv[1:2] == ["inside"]:
        return inside(Path(sys.argv[2]))
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        compiler = os.environ.get("CC", "cc")
        subprocess.run([compiler, "-O2", "-o", folder / "asker", HERE / "asker.c"], check=True)
        (folder / "plan.csv").write_text(plan())
        (folder / "frames").write_bytes(frames())
        plant = [PORTCALL, "plant", "run", "--scenario", str(HERE / "crowd.toml"), "--"]
        return subprocess.run(
            [*plant, sys.executable, __file__, "inside", name], check=False
        ).returncode


if __name__ == "__main__":
    sys.exit(main())
