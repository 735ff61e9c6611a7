"""Bringing a practice plant up around a command, and taking it down whatever happens.

Three processes: the one that was called, which only waits; the plant, first process of a new
process namespace, which holds all devices; the command, on the plant's workstation. When the first
dies, however, the kernel kills the second, and with it everything in its namespaces.
"""

from __future__ import annotations

import asyncio
import contextlib
import os
import select
import shutil
import signal
import subprocess
import sys
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import partial
from pathlib import Path

from portcall.core.trouble import BadInput, NotPossibleHere, Trouble
from portcall.host.linux import namespaces
from portcall.plant.answering import ControlServer
from portcall.plant.join import place_to_write, written_down
from portcall.plant.scenario import Scenario
from portcall.plant.wiring import Wiring
from portcall.site.catalogs import DATA_VARIABLE, FOLDER, catalog_folder

PRIVATE = Path("/dev/shm")
"""Mounted afresh inside: whatever is written there vanishes with the plant."""

_OWN_DATA = PRIVATE / "portcall-data"

_CTRL_C = (signal.SIGINT,)
_INTERRUPTED = 130
_BAD_SCENARIO = 2

SITE_VARIABLE = "PRACTICE_SITE"


@dataclass(frozen=True, slots=True)
class Guest:
    """The command to run on the workstation, and what it finds there.

    ``state_variable`` is the environment variable that tells commands where to keep their state;
    inside the plant that is a private place.
    """

    command: Sequence[str]
    state_variable: str
    in_site: bool = False


def run_in_plant(scenario: Scenario, guest: Guest) -> int:
    """Bring the plant up, run the command, take the plant down; gives the command's exit code.

    Raises NotPossibleHere when namespaces are not to be had or the plant cannot be built, BadInput
    for a fault in the scenario that cannot be made.
    """
    alive, held = os.pipe()
    trouble_out, trouble_in = os.pipe()
    folder = place_to_write()
    namespaces.leave_the_computer()
    # Ctrl-C is held back while one process becomes two: it would be lost on the way.
    signal.pthread_sigmask(signal.SIG_BLOCK, _CTRL_C)
    child = os.fork()
    if child == 0:
        os.close(held)
        os.close(trouble_out)
        os._exit(_plant_process(scenario, guest, alive, trouble_in))
    os.close(alive)
    os.close(trouble_in)
    signal.signal(signal.SIGINT, lambda number, frame: _pass_on(child))
    signal.pthread_sigmask(signal.SIG_UNBLOCK, _CTRL_C)
    with written_down(folder, child, scenario.name):
        _, status = os.waitpid(child, 0)
    with open(trouble_out, encoding="utf-8") as pipe:
        trouble = pipe.read()
    os.close(held)
    code = os.waitstatus_to_exitcode(status)
    if trouble:
        raise BadInput(trouble) if code == _BAD_SCENARIO else NotPossibleHere(trouble)
    return code


def _pass_on(process: int) -> None:
    with contextlib.suppress(ProcessLookupError):
        os.kill(process, signal.SIGINT)


class _CtrlC:
    """Whether Ctrl-C was typed. It ends the building of the plant; after that it is for the
    command.

    It is a flag and not an exception: Python drops an exception that is raised in one of its own
    callbacks.
    """

    def __init__(self) -> None:
        self.typed = False
        # A handler, not "ignore": that would be inherited.
        signal.signal(signal.SIGINT, self._note)
        signal.pthread_sigmask(signal.SIG_UNBLOCK, _CTRL_C)

    def _note(self, number: int, frame: object) -> None:
        self.typed = True


def _plant_process(scenario: Scenario, guest: Guest, alive: int, trouble_in: int) -> int:
    """Be the first process in the namespaces; nothing may be raised out of it."""
    try:
        ctrl_c = _CtrlC()
        namespaces.die_with_parent()
        if select.select([alive], [], [], 0)[0]:
            return 1  # The caller ended before the line above took effect.
        site = _make_private(scenario)
        return asyncio.run(_run(scenario, guest, site, ctrl_c))
    except BadInput as trouble:
        os.write(trouble_in, str(trouble).encode())
        return _BAD_SCENARIO
    except Trouble as trouble:
        os.write(trouble_in, str(trouble).encode())
    except OSError as error:
        os.write(trouble_in, f"the practice plant could not be built: {error}".encode())
    finally:
        sys.stdout.flush()
        sys.stderr.flush()
    return 3


def _make_private(scenario: Scenario) -> Path | None:
    """Views of /proc and of name servers that fit the namespaces, and the practice site."""
    namespaces.keep_mounts_private()
    _mount_view("proc", "/proc")
    namespaces.mount("tmpfs", str(PRIVATE), "tmpfs")
    resolver = PRIVATE / "resolv.conf"
    resolver.write_text("# The practice plant has no name servers.\n")
    # So that a DHCP client run in here does not write the computer's own.
    with contextlib.suppress(OSError):
        namespaces.bind_mount(str(resolver), os.path.realpath("/etc/resolv.conf"))
    _copy_own_catalog()
    if scenario.site is None:
        return None
    site = PRIVATE / scenario.site.name
    shutil.copytree(scenario.site, site, copy_function=shutil.copyfile)
    return site


def _copy_own_catalog() -> None:
    """The person's own catalogue is there to be read; what practice writes stays in here."""
    with contextlib.suppress(OSError):
        shutil.copytree(catalog_folder(None), _OWN_DATA / FOLDER, copy_function=shutil.copyfile)


def _mount_view(kind: str, target: str) -> None:
    # Inside some containers this is forbidden; only what `ps` and `ls` show depends on it.
    with contextlib.suppress(OSError):
        namespaces.mount(kind, target, kind)


async def _run(scenario: Scenario, guest: Guest, site: Path | None, ctrl_c: _CtrlC) -> int:
    wiring = Wiring(scenario)
    await wiring.build()
    if ctrl_c.typed:
        return _INTERRUPTED
    # sysfs shows the network of the thread that mounts it.
    wiring.workstation.call(partial(_mount_view, "sysfs", "/sys"))
    server = ControlServer(wiring)
    for fault in scenario.faults:
        await server.faults.make(fault.on, fault.kind, fault.how)
    control = asyncio.ensure_future(server.serve())
    loop = asyncio.get_running_loop()
    ended: asyncio.Future[int] = loop.create_future()
    started: list[subprocess.Popen[bytes]] = []

    def reap() -> None:
        # The first process of a process namespace inherits all orphans in it.
        with contextlib.suppress(ChildProcessError):
            while True:
                pid, status = os.waitpid(-1, os.WNOHANG)
                if pid == 0:
                    return
                if started and pid == started[0].pid:
                    code = started[0].returncode = os.waitstatus_to_exitcode(status)
                    ended.set_result(128 - code if code < 0 else code)

    loop.add_signal_handler(signal.SIGCHLD, reap)
    folder = site if guest.in_site and site is not None else None
    try:
        # Started by the thread that lives on the workstation, and so on its network.
        started.append(
            wiring.workstation.call(
                lambda: subprocess.Popen(guest.command, cwd=folder, env=_environment(guest, site))
            )
        )
    except OSError as error:
        raise NotPossibleHere(
            f"{guest.command[0]}: cannot be run: {error.strerror or error}"
        ) from None
    if ctrl_c.typed:
        # The signal came while the command was being started, and it may have been too early to
        # receive it.
        _pass_on(started[0].pid)
    try:
        return await ended
    finally:
        control.cancel()


def _environment(guest: Guest, site: Path | None) -> Mapping[str, str]:
    environment = dict(os.environ)
    environment[guest.state_variable] = str(PRIVATE / "portcall")
    environment[DATA_VARIABLE] = str(_OWN_DATA)
    if site is not None:
        environment[SITE_VARIABLE] = str(site)
    # The same portcall that was called, also when its folder is not on the path; python -m portcall
    # is called by the interpreter beside it.
    called = Path(sys.argv[0]).absolute()
    program = called if called.name == "portcall" else Path(sys.executable)
    environment["PATH"] = f"{program.parent}{os.pathsep}{environment.get('PATH', os.defpath)}"
    return environment
