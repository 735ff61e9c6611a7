"""The workstation's end of a plant that tests type into: types what it is told, on real sockets.

A line of ours runs in a fork of this process, which has loaded the program already: the same
``main``, arguments, environment, streams and signals. The first line of each command in a test
run, and every line that is to get a signal, starts Python anew as a person does.

In the lane for Windows, a line of ours is typed into a Python for Windows instead (``laptop.py``).
"""

from __future__ import annotations

import atexit
import contextlib
import itertools
import json
import os
import random
import re
import runpy
import signal
import subprocess
import sys
import threading
import time
import traceback
from pathlib import Path
from tempfile import TemporaryFile
from typing import IO, Any, NoReturn

import laptop

THIS_RUN = "PORTCALL_TEST_RUN"
"""The environment variable with the folder of this test run, for all its processes."""

PORTCALL = [sys.executable, "-m", "portcall"]

_LATE = "\n(the test waited no longer)"


class _Started:
    """A command under way, which prints into two files that can be read meanwhile."""

    def __init__(self, words: list[str], anew: bool = False) -> None:
        # end() closes them.
        self._out = TemporaryFile()  # noqa: SIM115
        self._err = TemporaryFile()  # noqa: SIM115
        self._code: int | None = None
        variables, typed = _variables(words)
        out, err, own = self._out.fileno(), self._err.fileno(), typed[len(PORTCALL) :]
        if not anew and typed[: len(PORTCALL)] == PORTCALL and not is_first(own):
            self._pid = _fork(own, variables, out, err)
        else:
            # Held: it would be waited for by others when it is let go.
            self._process = subprocess.Popen(
                words, stdin=subprocess.DEVNULL, stdout=out, stderr=err
            )
            self._pid = self._process.pid

    def printed(self) -> tuple[str, str]:
        def read(file: IO[bytes]) -> str:
            return os.pread(file.fileno(), 1 << 30, 0).decode(errors="replace")

        return read(self._out), read(self._err)

    def code(self) -> int | None:
        """Its exit code, as ``subprocess`` has it; None while it runs."""
        if self._code is None:
            pid, status = os.waitpid(self._pid, os.WNOHANG)
            self._code = os.waitstatus_to_exitcode(status) if pid else None
        return self._code

    def send(self, number: int) -> None:
        """Send it a signal, where it has not ended."""
        if self.code() is None:
            os.kill(self._pid, number)

    def end(self, timeout: float) -> dict[str, Any]:
        late = _wait_or_kill(self, timeout)
        out, err = self.printed()
        self._out.close()
        self._err.close()
        return {"code": self.code(), "out": out, "err": err + late}

    def until(self, pattern: str, count: int, timeout: float) -> dict[str, Any]:
        deadline = time.monotonic() + timeout
        while True:
            over = self.code() is not None or time.monotonic() > deadline
            printed = "\n".join(self.printed())
            found = len(re.findall(pattern, printed)) >= count
            if found or over:
                return {"found": found, "printed": printed}
            time.sleep(0.02)


class _OnWindows(_Started):
    """The same for a line on Windows: it prints into pipes, as Wine wants them, and has a console
    where it is to be told to end.
    """

    def __init__(self, words: list[str], has_console: bool) -> None:
        self._said = [bytearray(), bytearray()]
        pipes = [os.pipe(), os.pipe()]
        self._console = laptop.Console() if has_console else None
        variables, typed = _variables(words)
        if self._console is not None:
            variables |= self._console.variables
        self._process = subprocess.Popen(
            laptop.words(typed[len(PORTCALL) :]),
            env={**os.environ, **laptop.VARIABLES, **variables},
            stdin=self._console.reads if self._console else subprocess.DEVNULL,
            stdout=pipes[0][1],
            stderr=pipes[1][1],
            preexec_fn=laptop.be_at_console if self._console else None,
        )
        self._pid, self._code = self._process.pid, None
        self._readers = [
            threading.Thread(target=_pour, args=(pipe[0], into), daemon=True)
            for pipe, into in zip(pipes, self._said, strict=True)
        ]
        for (_, write), reader in zip(pipes, self._readers, strict=True):
            os.close(write)
            reader.start()

    def printed(self) -> tuple[str, str]:
        # Lines end as on Windows where they are printed there; the tests' own do not.
        out, err = (bytes(each).decode(errors="replace") for each in self._said)
        return out.replace("\r\n", "\n"), err.replace("\r\n", "\n")

    def send(self, number: int) -> None:
        if self.code() is None and not (self._console and self._console.send(number)):
            super().send(number)

    def end(self, timeout: float) -> dict[str, Any]:
        late = _wait_or_kill(self, timeout)
        for reader in self._readers:
            # What it had started may hold the pipe still.
            reader.join(2)
        if self._console is not None:
            self._console.close()
        out, err = self.printed()
        return {"code": self.code(), "out": out, "err": err + late}


def _pour(pipe: int, into: bytearray) -> None:
    with os.fdopen(pipe, "rb", 0) as file:
        while octets := file.read(65536):
            into += octets


def _wait_or_kill(started: _Started, timeout: float) -> str:
    """Wait for its end, or kill it when that does not come; what there is to say about it."""
    deadline = time.monotonic() + timeout
    late = ""
    while started.code() is None:
        if time.monotonic() > deadline and not late:
            started.send(signal.SIGKILL)
            late = _LATE
        time.sleep(0.005)
    return late


def _is_ours(words: list[str]) -> bool:
    _, typed = _variables(words)
    return typed[: len(PORTCALL)] == PORTCALL


def _start(words: list[str], anew: bool = False) -> _Started:
    """Start a line; one of ours on the system that the tests are run for."""
    if laptop.IS_WANTED and _is_ours(words) and not laptop.is_of_linux(_variables(words)[1]):
        return _OnWindows(words, anew)
    return _Started(words, anew)


def _run(words: list[str], timeout: float) -> dict[str, Any]:
    """To its end; a program of others through pipes, as most programs that call it would."""
    if _is_ours(words):
        return _start(words).end(timeout)
    try:
        ended = subprocess.run(
            words, stdin=subprocess.DEVNULL, capture_output=True, text=True, timeout=timeout
        )
    except subprocess.TimeoutExpired as late:
        out, err = ((each or b"").decode(errors="replace") for each in (late.stdout, late.stderr))
        return {"code": -signal.SIGKILL, "out": out, "err": err + _LATE}
    return {"code": ended.returncode, "out": ended.stdout, "err": ended.stderr}


def _variables(words: list[str]) -> tuple[dict[str, str], list[str]]:
    """The variables that ``env`` sets before a line, and the line; not those for Python's start."""
    if words[0] != "env":
        return {}, words
    pairs = itertools.takewhile(lambda pair: pair[0].isidentifier(), map(_pair, words[1:]))
    variables = dict(pairs)
    has_to_start = any(name.startswith("PYTHON") for name in variables)
    return ({}, words) if has_to_start else (variables, words[1 + len(variables) :])


def _pair(word: str) -> tuple[str, str]:
    name, is_set, value = word.partition("=")
    return (name, value) if is_set else ("", "")


def is_first(words: list[str]) -> bool:
    """Whether no test of this run has typed this command yet: the first starts the program."""
    command = "-".join(word for word in words[:2] if word.isalpha())
    marker = Path(os.environ[THIS_RUN], f"typed-{command}")
    try:
        os.close(os.open(marker, os.O_CREAT | os.O_EXCL))
    except FileExistsError:
        return False
    except OSError:
        pass  # An ordinary user may not write there.
    return True


def _fork(words: list[str], variables: dict[str, str], out: int, err: int) -> int:
    child = os.fork()
    if child == 0:
        os.environ.update(variables)
        nothing = os.open(os.devnull, os.O_RDONLY)
        become(words, nothing, out, err)
    return child


def become(words: list[str], reads: int, out: int, err: int) -> NoReturn:
    """Be the program that was typed, in a fork, as if it had just been started; and end."""
    code = 1
    try:
        for number, descriptor in enumerate((reads, out, err)):
            os.dup2(descriptor, number)
        be_fresh()
        sys.argv = ["portcall", *words]
        sys.stdin = open(0, closefd=False)  # noqa: SIM115
        sys.stdout = open(1, "w", closefd=False)  # noqa: SIM115
        sys.stderr = open(2, "w", closefd=False, errors="backslashreplace")  # noqa: SIM115
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


def be_fresh() -> None:
    """Give up what a program that is started anew would not have of its parent."""
    signal.set_wakeup_fd(-1)
    for number in (signal.SIGTERM, signal.SIGHUP, signal.SIGCHLD, signal.SIGUSR1):
        signal.signal(number, signal.SIG_DFL)
    signal.signal(signal.SIGINT, signal.default_int_handler)
    signal.signal(signal.SIGPIPE, signal.SIG_IGN)
    os.closerange(3, 1024)
    # A process of its own has random numbers and a time zone of its own.
    random.seed()
    time.tzset()


def serve() -> None:
    """Do what the test asks for, line by line, until it asks for nothing more."""
    os.chdir(os.environ["PRACTICE_SITE"])
    if laptop.IS_WANTED:
        laptop.boot()
    try:
        _answer()
    finally:
        if laptop.IS_WANTED:
            laptop.switch_off()


def _answer() -> None:
    started: list[_Started] = []
    for line in sys.stdin:
        request = json.loads(line)
        answer: dict[str, Any] = {"site": os.getcwd()}
        if "run" in request:
            answer = _run(request["run"], request["timeout"])
        elif "start" in request:
            started.append(_start(request["start"], request["anew"]))
            answer = {"started": len(started) - 1}
        elif "until" in request:
            waits = (request[key] for key in ("pattern", "count", "timeout"))
            answer = started[request["until"]].until(*waits)
        elif "finish" in request:
            command = started[request["finish"]]
            if request["signal"] is not None:
                command.send(request["signal"])
            answer = command.end(request["timeout"])
        elif "write" in request:
            Path(request["write"]).write_bytes(bytes.fromhex(request["data"]))
        print(json.dumps(answer), flush=True)


if __name__ == "__main__":
    serve()
