"""The workstation's end of a plant that tests type into: types what it is told, on real sockets.

A line of ours runs in a fork of this process, which has loaded the program already: the same
``main``, arguments, environment, streams and signals. The first line of each command in a test
run, and every line that is to get a signal, starts Python anew as a person does.
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
import time
import traceback
from pathlib import Path
from tempfile import TemporaryFile
from typing import IO, Any, NoReturn

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
        deadline = time.monotonic() + timeout
        late = ""
        while self.code() is None:
            if time.monotonic() > deadline and not late:
                os.kill(self._pid, signal.SIGKILL)
                late = _LATE
            time.sleep(0.005)
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


def _run(words: list[str], timeout: float) -> dict[str, Any]:
    """To its end; a program of others through pipes, as most programs that call it would."""
    _, typed = _variables(words)
    if typed[: len(PORTCALL)] == PORTCALL:
        return _Started(words).end(timeout)
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
    started: list[_Started] = []
    for line in sys.stdin:
        request = json.loads(line)
        answer: dict[str, Any] = {"site": os.getcwd()}
        if "run" in request:
            answer = _run(request["run"], request["timeout"])
        elif "start" in request:
            started.append(_Started(request["start"], request["anew"]))
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
