"""A practice plant that a test can type into: lines of JSON in, lines of JSON out.

Run as a program, this is the other end, on the plant's workstation.
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
from typing import Any


@dataclass(frozen=True)
class Ended:
    """A command that has ended."""

    code: int
    out: str
    err: str

    @property
    def json(self) -> Any:
        return json.loads(self.out)

    @property
    def json_lines(self) -> list[Any]:
        return [json.loads(line) for line in self.out.splitlines()]


PORTCALL = [sys.executable, "-m", "portcall"]


class Plant:
    """A running practice plant; every ``portcall`` is the built program, on real sockets."""

    def __init__(self, scenario: Path | None = None, prefix: tuple[str, ...] = ()) -> None:
        options = ["--scenario", str(scenario)] if scenario else []
        command = [*prefix, *PORTCALL, "plant", "run", *options, "--", sys.executable, "-u"]
        self.process = subprocess.Popen(
            [*command, __file__], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True
        )
        self.site = Path(self._ask({})["site"])

    def __enter__(self) -> Plant:
        return self

    def __exit__(self, *_: object) -> None:
        self.process.stdin.close()
        self.process.wait(timeout=20)
        self.process.stdout.close()

    def _ask(self, request: dict[str, Any]) -> dict[str, Any]:
        self.process.stdin.write(json.dumps(request) + "\n")
        self.process.stdin.flush()
        return json.loads(self.process.stdout.readline())

    def run(self, line: str, timeout: float = 60) -> Ended:
        """Run a command line on the workstation, in the practice site, to its end."""
        return Ended(**self._ask({"run": _words(line), "timeout": timeout}))

    def on(self, device: str, line: str) -> Ended:
        """Run a program on a bare device."""
        return self.run(f"portcall plant on {device} -- {line}")

    def start(self, line: str) -> int:
        """Start a command line; ``finish`` ends it."""
        return int(self._ask({"start": _words(line)})["started"])

    def finish(self, started: int, by: signal.Signals | None = None, timeout: float = 60) -> Ended:
        """Wait for a started command, after a signal when one is given."""
        return Ended(**self._ask({"finish": started, "signal": by, "timeout": timeout}))

    def write(self, name: str, data: str | bytes) -> None:
        """Write a file in the practice site."""
        content = data.encode() if isinstance(data, str) else data
        self._ask({"write": name, "data": content.hex()})


class Terminal:
    """A person at a terminal in a practice plant: types, and reads what is drawn."""

    def __init__(self, line: str) -> None:
        self.pid, self.master = pty.fork()
        if self.pid == 0:
            os.environ.update(TERM="xterm-256color", COLUMNS="140", LINES="40")
            os.execv(PORTCALL[0], [*PORTCALL, "plant", "run", "--", "sh", "-c", line])
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


def _words(line: str) -> list[str]:
    words = shlex.split(line)
    return [*PORTCALL, *words[1:]] if words[0] == "portcall" else words


def _serve() -> None:
    os.chdir(os.environ["PRACTICE_SITE"])
    started: list[subprocess.Popen[str]] = []

    def begin(words: list[str]) -> subprocess.Popen[str]:
        return subprocess.Popen(
            words,
            stdin=subprocess.DEVNULL,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            text=True,
        )

    def end(process: subprocess.Popen[str], timeout: float) -> dict[str, Any]:
        try:
            out, err = process.communicate(timeout=timeout)
        except subprocess.TimeoutExpired:
            process.kill()
            out, err = process.communicate()
            err += "\n(the test's patience was over)"
        return {"code": process.returncode, "out": out, "err": err}

    for line in sys.stdin:
        request = json.loads(line)
        answer: dict[str, Any] = {"site": os.getcwd()}
        if "run" in request:
            answer = end(begin(request["run"]), request["timeout"])
        elif "start" in request:
            started.append(begin(request["start"]))
            answer = {"started": len(started) - 1}
        elif "finish" in request:
            process = started[request["finish"]]
            if request["signal"] is not None:
                process.send_signal(request["signal"])
            answer = end(process, request["timeout"])
        elif "write" in request:
            Path(request["write"]).write_bytes(bytes.fromhex(request["data"]))
        print(json.dumps(answer), flush=True)


if __name__ == "__main__":
    _serve()
