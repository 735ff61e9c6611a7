"""A process that has loaded the whole program, and forks for each plant and line of the tests.

Python takes some seconds to load what a plant and the commands in it are made of. One of these
belongs to a test run, and ends with it; it loads all that when the first plant is asked for.
"""

from __future__ import annotations

import atexit
import functools
import gc
import importlib
import json
import os
import pkgutil
import select
import shutil
import signal
import socket
import subprocess
import sys
import tempfile
from collections.abc import Mapping, Sequence
from pathlib import Path
from subprocess import CompletedProcess, TimeoutExpired
from tempfile import TemporaryFile
from typing import IO, Any, NoReturn

import other_end
from other_end import PORTCALL, THIS_RUN

import portcall
from portcall.host.linux import namespaces

DOOR = "nursery"
"""The socket in the folder of the test run."""


def open_for_this_run() -> None:
    """Let there be a nursery for as long as this process lives."""
    os.environ[THIS_RUN] = folder = tempfile.mkdtemp(prefix="portcall-tests-")
    atexit.register(shutil.rmtree, folder, ignore_errors=True)
    door = socket.socket(socket.AF_UNIX, socket.SOCK_SEQPACKET)
    with door:
        door.bind(os.path.join(folder, DOOR))
        door.listen(64)
        number = door.fileno()
        subprocess.Popen([sys.executable, __file__, str(number)], pass_fds=[number])


@functools.cache
def _line() -> socket.socket:
    line = socket.socket(socket.AF_UNIX, socket.SOCK_SEQPACKET)
    line.connect(os.path.join(os.environ[THIS_RUN], DOOR))
    return line


def start(command: list[str]) -> tuple[int, IO[str], IO[str]]:
    """Bring a plant up by a fork; its process, what it reads, what it prints."""
    its_input, our_output = os.pipe()
    our_input, its_output = os.pipe()
    process = _fork(command[len(PORTCALL) :], {}, its_input, its_output, os.dup(2))
    return process, os.fdopen(our_output, "w"), os.fdopen(our_input)


def run(
    words: list[str], cwd: Path | None = None, env: Mapping[str, str] | None = None
) -> CompletedProcess[str]:
    """Run a line of ours to its end, outside of any plant, on this process's own network."""
    is_other = env is not None and env.get("PYTHONPATH") != os.environ.get("PYTHONPATH")
    if other_end.is_first(words) or is_other:
        return subprocess.run(
            [*PORTCALL, *words], cwd=cwd, env=env, capture_output=True, text=True, timeout=120
        )
    wanted = {"folder": str(cwd or os.getcwd()), "environment": dict(env or os.environ)}
    ended, tells = os.pipe()
    with TemporaryFile() as out, TemporaryFile() as err, os.fdopen(ended, "rb") as pipe:
        nothing = os.open(os.devnull, os.O_RDONLY)
        theirs = nothing, os.dup(out.fileno()), os.dup(err.fileno())
        network = os.open("/proc/self/ns/net", os.O_RDONLY)
        process = _fork(words, wanted, *theirs, tells, network)
        if not select.select([pipe], [], [], 120)[0]:
            os.kill(process, signal.SIGKILL)
            raise TimeoutExpired(words, 120)
        code = int(pipe.read())
        said = [os.pread(each.fileno(), 1 << 30, 0).decode() for each in (out, err)]
    return CompletedProcess(words, code, *said)


def _fork(words: list[str], wanted: dict[str, Any], *descriptors: int) -> int:
    """Have the program forked; its process. The descriptors are its own from then on."""
    environment = {"folder": os.getcwd(), "environment": dict(os.environ)}
    asked = json.dumps({"words": words, **environment, **wanted})
    socket.send_fds(_line(), [asked.encode()], list(descriptors))
    for descriptor in descriptors:
        os.close(descriptor)
    return int(_line().recv(64))


class _Forked:
    """Stands in for ``subprocess.Popen`` where a plant starts its guest, which is our other end."""

    def __init__(self, command: Sequence[str], cwd: Path | None, env: Mapping[str, str]) -> None:
        assert command[-1] == other_end.__file__, command
        self.returncode: int | None = None
        self.pid = os.fork()
        if self.pid == 0:
            other_end.be_fresh()
            os.environ.clear()
            os.environ.update(env)
            try:
                other_end.serve()
            finally:
                os._exit(0)


def _serve(door: socket.socket) -> None:
    namespaces.die_with_parent()
    signal.signal(signal.SIGCHLD, signal.SIG_IGN)
    lines = [door.accept()[0]]
    _load()
    while True:
        for ready in select.select([door, *lines], [], [])[0]:
            if ready is door:
                lines.append(door.accept()[0])
            elif not _bring_up(ready):
                lines.remove(ready)


def _load() -> None:
    for module in pkgutil.walk_packages(portcall.__path__, "portcall."):
        if not module.name.endswith("__main__") and "windows" not in module.name:
            importlib.import_module(module.name)
    portcall.plant.run.subprocess = _Popen  # type: ignore[attr-defined]
    # What is here now is here for good: no fork looks through it again, and copies it.
    gc.freeze()


def _bring_up(line: socket.socket) -> bool:
    """One program, where one is asked for; whether the line is still held."""
    asked, descriptors, _, _ = socket.recv_fds(line, 1 << 20, 5)
    if not asked:
        return False
    process = os.fork()
    if process == 0:
        wanted = json.loads(asked)
        os.chdir(wanted["folder"])
        os.environ.clear()
        os.environ.update(wanted["environment"])
        streams, rest = descriptors[:3], descriptors[3:]
        if rest:
            _run_one(wanted["words"], streams, *rest)
        other_end.become(wanted["words"], *streams)
    for descriptor in descriptors:
        os.close(descriptor)
    line.sendall(str(process).encode())
    return True


def _run_one(words: list[str], streams: list[int], tells: int, network: int) -> NoReturn:
    """Run a line on a network, and tell its exit code."""
    if os.readlink(f"/proc/self/fd/{network}") != os.readlink("/proc/self/ns/net"):
        namespaces.enter(network)
    signal.signal(signal.SIGCHLD, signal.SIG_DFL)
    child = os.fork()
    if child == 0:
        namespaces.die_with_parent()
        other_end.become(words, *streams)
    _, status = os.waitpid(child, 0)
    os.write(tells, str(os.waitstatus_to_exitcode(status)).encode())
    os._exit(0)


class _Popen:
    """The part of ``subprocess`` that brings up a guest."""

    Popen = _Forked


if __name__ == "__main__":
    _serve(socket.socket(fileno=int(sys.argv[1])))
