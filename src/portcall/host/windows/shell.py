"""A shell of the person's own, or one program, beside which this one goes on running."""

from __future__ import annotations

import asyncio
import ctypes
import os
import re
import shutil
import signal
import subprocess
import sys
from collections.abc import Callable, Coroutine, Mapping
from ctypes import wintypes
from pathlib import Path
from typing import Any

from portcall.host.beside import Beside

assert sys.platform == "win32"

_POWERSHELLS = ("powershell.exe", "pwsh.exe")
_MARKED = "$portcall = $function:prompt; function prompt {{ '{mark} ' + (& $portcall) }}"
_NOT_IN_A_PROMPT = re.compile(r'[&|<>^%"]')
_HEEDED = (signal.SIGINT, signal.SIGBREAK)
_PATIENCE = 3.0
"""Seconds for a program to end by itself once it was told to."""

_LOOK_EVERY = 0.1
_PROCESSES = 0x2
"""TH32CS_SNAPPROCESS."""


class _Process(ctypes.Structure):
    """PROCESSENTRY32W."""

    _fields_ = (
        ("size", wintypes.DWORD),
        ("usage", wintypes.DWORD),
        ("number", wintypes.DWORD),
        ("heap", ctypes.c_size_t),
        ("module", wintypes.DWORD),
        ("threads", wintypes.DWORD),
        ("parent", wintypes.DWORD),
        ("priority", ctypes.c_long),
        ("flags", wintypes.DWORD),
        ("name", ctypes.c_wchar * 260),
    )


def _ancestors() -> list[str]:
    """The names of the programs that this one was started from, the nearest first."""
    kernel = ctypes.WinDLL("kernel32")
    kernel.CreateToolhelp32Snapshot.restype = wintypes.HANDLE
    kernel.CreateToolhelp32Snapshot.argtypes = (wintypes.DWORD, wintypes.DWORD)
    for name in ("Process32FirstW", "Process32NextW"):
        getattr(kernel, name).argtypes = (wintypes.HANDLE, ctypes.POINTER(_Process))
    kernel.CloseHandle.argtypes = (wintypes.HANDLE,)
    all_ = kernel.CreateToolhelp32Snapshot(_PROCESSES, 0)
    row = _Process(size=ctypes.sizeof(_Process))
    known: dict[int, tuple[int, str]] = {}
    there = kernel.Process32FirstW(all_, ctypes.byref(row))
    while there:
        known[row.number] = row.parent, row.name
        there = kernel.Process32NextW(all_, ctypes.byref(row))
    kernel.CloseHandle(all_)
    found: list[str] = []
    number = os.getppid()
    while number in known and len(found) < len(known):
        number, name = known[number]
        found.append(name)
    return found


def own_shell(mark: str, folder: Path) -> Beside:
    """The shell that this program was started from, whose prompt begins with ``mark``."""
    shell = next((each for each in _ancestors() if each.lower() in _POWERSHELLS), None)
    if shell is not None:
        quoted = mark.replace("'", "''")
        words = [shell, "-NoLogo", "-NoExit", "-Command", _MARKED.format(mark=quoted)]
        return Beside(words, {}, True)
    usual = os.environ.get("PROMPT", "$P$G")
    # In the prompt of this shell a $ begins a word of its own; the others would end its line.
    marked = _NOT_IN_A_PROMPT.sub("", mark).replace("$", "$$")
    shell = os.environ.get("COMSPEC", "cmd.exe")
    return Beside([shell, "/K", f"prompt {marked}$S{usual}"], {}, True)


async def run_beside(
    program: Beside, work: Callable[[asyncio.Event], Coroutine[Any, Any, None]]
) -> int:
    """Run a program to its end, with ``work`` going on beside it; its exit code.

    Ctrl-C is the program's own affair. ``work`` ends when the event that it is given is set. Raises
    what ``work`` raised, after the program has ended, and OSError when the program cannot be
    started.
    """
    over, told = asyncio.Event(), False

    def tell(number: int, frame: object) -> None:
        nonlocal told
        told = told or number == signal.SIGBREAK

    before = {number: signal.signal(number, tell) for number in _HEEDED}
    try:
        found = shutil.which(program.words[0]) or program.words[0]
        words = [found, *program.words[1:]]
        child = subprocess.Popen(words, env={**os.environ, **program.variables})
        working = asyncio.ensure_future(work(over))
        try:
            # The event loop of sockets cannot wait for a process.
            while child.poll() is None and not told:
                await asyncio.sleep(_LOOK_EVERY)
            if child.poll() is None:
                child.terminate()
                await asyncio.to_thread(child.wait, _PATIENCE)
        finally:
            over.set()
            await working
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)
    return child.returncode or 0


def finds(word: str, environment: Mapping[str, str] = os.environ) -> bool:
    """Whether there is a program of this name here."""
    return shutil.which(word, path=environment.get("PATH")) is not None
