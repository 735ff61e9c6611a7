"""A practice plant that a test can type into: lines of JSON in, lines of JSON out.

Run as a program, this is the other end, on the plant's workstation.
"""

from __future__ import annotations

import atexit
import contextlib
import json
import os
import pty
import random
import re
import runpy
import select
import shlex
import signal
import subprocess
import sys
import time
import traceback
from dataclasses import dataclass
from pathlib import Path
from tempfile import TemporaryFile
from typing import IO, Any, NoReturn

import click


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

SERVES = "grep -q :0043 /proc/net/udp"
"""A line of shell: whether some program holds UDP port 67."""


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


def _words(line: str) -> list[str]:
    words = shlex.split(line)
    return [*PORTCALL, *words[1:]] if words[0] == "portcall" else words


_LATE = "\n(the test waited no longer)"


class _Started:
    """A command under way, which prints into two files that can be read meanwhile."""

    def __init__(self, words: list[str]) -> None:
        # end() closes them.
        self._out = TemporaryFile()  # noqa: SIM115
        self._err = TemporaryFile()  # noqa: SIM115
        self.process = subprocess.Popen(
            words, stdin=subprocess.DEVNULL, stdout=self._out, stderr=self._err
        )

    def printed(self) -> tuple[str, str]:
        def read(file: IO[bytes]) -> str:
            return os.pread(file.fileno(), 1 << 30, 0).decode(errors="replace")

        return read(self._out), read(self._err)

    def end(self, timeout: float) -> dict[str, Any]:
        late = ""
        try:
            self.process.wait(timeout)
        except subprocess.TimeoutExpired:
            self.process.kill()
            self.process.wait()
            late = _LATE
        out, err = self.printed()
        self._out.close()
        self._err.close()
        return {"code": self.process.returncode, "out": out, "err": err + late}

    def until(self, pattern: str, count: int, timeout: float) -> dict[str, Any]:
        deadline = time.monotonic() + timeout
        while True:
            over = self.process.poll() is not None or time.monotonic() > deadline
            printed = "\n".join(self.printed())
            found = len(re.findall(pattern, printed)) >= count
            if found or over:
                return {"found": found, "printed": printed}
            time.sleep(0.02)


def _run(words: list[str], timeout: float) -> dict[str, Any]:
    """To its end, through pipes, as most programs that call it would."""
    if words[: len(PORTCALL)] == PORTCALL and not _is_first(words[len(PORTCALL) :]):
        return _run_forked(words[len(PORTCALL) :], timeout)
    try:
        ended = subprocess.run(
            words, stdin=subprocess.DEVNULL, capture_output=True, text=True, timeout=timeout
        )
    except subprocess.TimeoutExpired as late:
        out, err = ((each or b"").decode(errors="replace") for each in (late.stdout, late.stderr))
        return {"code": -signal.SIGKILL, "out": out, "err": err + _LATE}
    return {"code": ended.returncode, "out": ended.stdout, "err": ended.stderr}


def _is_first(words: list[str]) -> bool:
    """Whether no test of this run has typed this command yet: the first starts the program."""
    of_this_run = os.environ.get("PYTEST_XDIST_TESTRUNUID", str(os.getppid()))
    command = "-".join(word for word in words[:2] if word.isalpha())
    marker = Path("/tmp") / f"portcall-typed-{of_this_run}-{command}"
    try:
        os.close(os.open(marker, os.O_CREAT | os.O_EXCL))
    except FileExistsError:
        return False
    except OSError:
        return True
    return True


def _run_forked(words: list[str], timeout: float) -> dict[str, Any]:
    """Run a line of ours in a fork of this process, which has imported what it needs already.

    The same ``main``, arguments, environment, streams and signals; only Python does not start anew.
    """
    from portcall.cli.main import portcall as group

    if words and words[0] in group.list_commands(click.Context(group)):
        inner = group.get_command(click.Context(group), words[0])
        if isinstance(inner, click.Group) and len(words) > 1:
            inner.get_command(click.Context(inner), words[1])
    with TemporaryFile() as out, TemporaryFile() as err:
        child = os.fork()
        if child == 0:
            _become(words, out.fileno(), err.fileno())
        deadline = time.monotonic() + timeout
        late = ""
        pid = status = 0
        while not pid:
            pid, status = os.waitpid(child, os.WNOHANG)
            if not pid and time.monotonic() > deadline and not late:
                os.kill(child, signal.SIGKILL)
                late = _LATE
            if not pid:
                time.sleep(0.005)
        said = [os.pread(each.fileno(), 1 << 30, 0).decode(errors="replace") for each in (out, err)]
    return {"code": os.waitstatus_to_exitcode(status), "out": said[0], "err": said[1] + late}


def _become(words: list[str], out: int, err: int) -> NoReturn:
    """Be the program that was typed, in a process of its own, and end."""
    code = 1
    try:
        os.dup2(os.open(os.devnull, os.O_RDONLY), 0)
        os.dup2(out, 1)
        os.dup2(err, 2)
        os.closerange(3, 256)
        sys.argv = ["portcall", *words]
        sys.stdin = open(0, closefd=False)  # noqa: SIM115
        sys.stdout = open(1, "w", closefd=False)  # noqa: SIM115
        sys.stderr = open(2, "w", closefd=False, errors="backslashreplace")  # noqa: SIM115
        # A process of its own has random numbers of its own.
        random.seed()
        runpy.run_module("portcall", run_name="__main__", alter_sys=True)
    except SystemExit as ended:
        code = ended.code if isinstance(ended.code, int) else int(ended.code is not None)
    except BaseException:
        traceback.print_exc()
    finally:
        atexit._run_exitfuncs()
        for stream in (sys.stdout, sys.stderr):
            with contextlib.suppress(OSError, ValueError):
                stream.flush()
        os._exit(code)


def _serve() -> None:
    os.chdir(os.environ["PRACTICE_SITE"])
    started: list[_Started] = []
    for line in sys.stdin:
        request = json.loads(line)
        answer: dict[str, Any] = {"site": os.getcwd()}
        if "run" in request:
            answer = _run(request["run"], request["timeout"])
        elif "start" in request:
            started.append(_Started(request["start"]))
            answer = {"started": len(started) - 1}
        elif "until" in request:
            waits = (request[key] for key in ("pattern", "count", "timeout"))
            answer = started[request["until"]].until(*waits)
        elif "finish" in request:
            command = started[request["finish"]]
            if request["signal"] is not None:
                command.process.send_signal(request["signal"])
            answer = command.end(request["timeout"])
        elif "write" in request:
            Path(request["write"]).write_bytes(bytes.fromhex(request["data"]))
        print(json.dumps(answer), flush=True)


if __name__ == "__main__":
    _serve()
