"""A practice plant that a test can type into: lines of JSON in, lines of JSON out.

The other end, on the plant's workstation, is ``other_end.py``.
"""

from __future__ import annotations

import contextlib
import json
import os
import pty
import re
import select
import shlex
import signal
import subprocess
import sys
import time
from dataclasses import dataclass
from pathlib import Path
from typing import IO, Any

import nursery
from other_end import PORTCALL, is_first


@dataclass(frozen=True)
class Ended:
    """A command that has ended."""

    code: int
    out: str
    err: str

    @property
    def json(self) -> Any:
        try:
            return json.loads(self.out)
        except ValueError:
            # What it said instead is told with the failure.
            raise AssertionError(f"printed no JSON: {self}") from None

    @property
    def json_lines(self) -> list[Any]:
        return [json.loads(line) for line in self.out.splitlines()]


OTHER_END = Path(__file__).with_name("other_end.py")

SERVES = "grep -q :0043 /proc/net/udp"
"""A line of shell: whether some program holds UDP port 67."""


class Plant:
    """A running practice plant; every ``portcall`` is the built program, on real sockets.

    The first plant of a test run is brought up as a person does it; the others are forks of a
    process that has loaded the program already, unless that is not wanted.
    """

    def __init__(
        self, scenario: Path | None = None, prefix: tuple[str, ...] = (), forked: bool = True
    ) -> None:
        options = ["--scenario", str(scenario)] if scenario else []
        words = ["plant", "run", *options, "--", sys.executable, "-u", str(OTHER_END)]
        start = nursery.start if forked and not prefix and not is_first(words) else _start
        self.process, self._to, self._from = start([*prefix, *PORTCALL, *words])
        self.site = Path(self._ask({})["site"])

    def __enter__(self) -> Plant:
        return self

    def __exit__(self, *_: object) -> None:
        self._to.close()
        # All that is in a plant ends with it, and lets go of the pipe.
        assert select.select([self._from], [], [], 20)[0], "the plant did not end"
        assert not self._from.read()
        self._from.close()

    def _ask(self, request: dict[str, Any]) -> dict[str, Any]:
        self._to.write(json.dumps(request) + "\n")
        self._to.flush()
        return json.loads(self._from.readline())

    def run(self, line: str, timeout: float = 60) -> Ended:
        """Run a command line on the workstation, in the practice site, to its end."""
        return Ended(**self._ask({"run": _words(line), "timeout": timeout}))

    def on(self, device: str, line: str) -> Ended:
        """Run a program on a bare device."""
        return self.run(f"portcall plant on {device} -- {line}")

    def start(self, line: str, signalled: bool = False) -> int:
        """Start a command line; ``finish`` ends it. One that gets a signal is no fork."""
        return int(self._ask({"start": _words(line), "anew": signalled})["started"])

    def until(self, started: int, pattern: str, count: int = 1, timeout: float = 60) -> str:
        """Wait until a started command has printed something ``count`` times; all it printed."""
        said = self._ask({"until": started, "pattern": pattern, "count": count, "timeout": timeout})
        assert said["found"], f"{pattern!r} did not come {count} times:\n{said['printed']}"
        return str(said["printed"])

    def until_true(self, condition: str, timeout: float = 60) -> None:
        """Wait until a line of shell, on the workstation, ends with 0."""
        line = f"timeout {timeout} sh -c {shlex.quote(f'until {condition}; do sleep 0.05; done')}"
        assert self.run(line, timeout + 10).code == 0, f"never came true: {condition}"

    def until_serving(self) -> None:
        """Wait until an assignment serves: it holds UDP port 67 (0x43) then."""
        self.until_true(SERVES)

    def until_sent(self, packets: int, adapter: str = "usb0") -> None:
        """Wait until an adapter has sent so many packets more: how far a look has come."""
        counter = f"/sys/class/net/{adapter}/statistics/tx_packets"
        before = int(self.run(f"cat {counter}").out)
        self.until_true(f"[ $(cat {counter}) -ge {before + packets} ]")

    def finish(self, started: int, by: signal.Signals | None = None, timeout: float = 60) -> Ended:
        """Wait for a started command, after a signal when one is given."""
        return Ended(**self._ask({"finish": started, "signal": by, "timeout": timeout}))

    def write(self, name: str, data: str | bytes) -> None:
        """Write a file in the practice site."""
        content = data.encode() if isinstance(data, str) else data
        self._ask({"write": name, "data": content.hex()})


class Terminal:
    """A person at a terminal in a practice plant: types, and reads what is drawn."""

    def __init__(self, line: str, scenario: Path | None = None) -> None:
        self.pid, self.master = pty.fork()
        if self.pid == 0:
            os.environ.update(TERM="xterm-256color", COLUMNS="140", LINES="40")
            options = ["--scenario", str(scenario)] if scenario else []
            os.execv(PORTCALL[0], [*PORTCALL, "plant", "run", *options, "--", "sh", "-c", line])
        self.text = ""

    def until(self, pattern: str, seconds: float = 40) -> None:
        """Read until something is drawn that was not there when the last wait ended."""
        deadline = time.monotonic() + seconds
        start = len(self.text)
        while not re.search(pattern, self.text[start:]):
            assert time.monotonic() < deadline, self.text
            if select.select([self.master], [], [], 1)[0]:
                self.text += os.read(self.master, 65536).decode(errors="replace")

    @property
    def plain(self) -> str:
        """All that was drawn, without colours."""
        return re.sub(r"\x1b\[[0-9;?]*[a-zA-Z]", "", self.text)

    def type(self, text: str) -> None:
        """Press these keys."""
        os.write(self.master, text.encode())

    def end(self) -> int:
        """Wait for the line to end; its exit code."""
        with contextlib.suppress(OSError):
            while select.select([self.master], [], [], 30)[0]:
                self.text += os.read(self.master, 65536).decode(errors="replace")
        return os.waitstatus_to_exitcode(os.waitpid(self.pid, 0)[1])


def _start(command: list[str]) -> tuple[int, IO[str], IO[str]]:
    """Start a program as a person does; its process, what it reads, what it prints."""
    started = subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True)
    return started.pid, started.stdin, started.stdout


def _words(line: str) -> list[str]:
    words = shlex.split(line)
    return [*PORTCALL, *words[1:]] if words[0] == "portcall" else words
