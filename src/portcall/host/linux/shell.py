"""A shell of the person's own, or one program, beside which this one goes on running."""

from __future__ import annotations

import asyncio
import os
import shlex
import shutil
import signal
from collections.abc import Callable, Coroutine, Mapping
from contextlib import suppress
from pathlib import Path
from typing import Any

from portcall.host.beside import Beside

_HEEDED = (signal.SIGINT, signal.SIGTERM, signal.SIGHUP)

_PATIENCE = 3.0
"""Seconds for a program to end by itself once it was told to."""

_BASH = """
[ -f ~/.bashrc ] && . ~/.bashrc
_portcall_mark() {{ case $PS1 in {mark}*) ;; *) PS1={mark}$PS1 ;; esac; }}
PROMPT_COMMAND="${{PROMPT_COMMAND:+$PROMPT_COMMAND
}}_portcall_mark"
"""
_ZSH_ENVIRONMENT = """
ZDOTDIR=${PORTCALL_ZDOTDIR:-$HOME}
[ -f $ZDOTDIR/.zshenv ] && . $ZDOTDIR/.zshenv
ZDOTDIR=$PORTCALL_ZSH
"""
_ZSH = """
ZDOTDIR=${{PORTCALL_ZDOTDIR:-$HOME}}
[ -f $ZDOTDIR/.zshrc ] && . $ZDOTDIR/.zshrc
unset PORTCALL_ZSH PORTCALL_ZDOTDIR
_portcall_mark() {{ [[ $PROMPT == {mark}* ]] || PROMPT={mark}$PROMPT }}
precmd_functions+=(_portcall_mark)
"""
_FISH = """
functions -q fish_prompt; and functions -c fish_prompt _portcall_prompt
function fish_prompt
    printf %s {mark}
    functions -q _portcall_prompt; and _portcall_prompt; or printf '> '
end
"""


def own_shell(mark: str, folder: Path) -> Beside:
    """The person's own shell, whose prompt begins with ``mark``.

    ``folder`` is there for a shell that takes its start-up files out of one only.
    """
    shell = os.environ.get("SHELL") or "/bin/sh"
    if not shutil.which(shell):
        shell = "/bin/sh"
    marked = shlex.quote(f"{mark} ")
    match Path(shell).name:
        case "bash":
            return Beside([shell], {}, True, _BASH.format(mark=marked))
        case "zsh":
            folder.mkdir(mode=0o700, exist_ok=True)
            (folder / ".zshenv").write_text(_ZSH_ENVIRONMENT, encoding="utf-8")
            (folder / ".zshrc").write_text(_ZSH.format(mark=marked), encoding="utf-8")
            variables = {"ZDOTDIR": str(folder), "PORTCALL_ZSH": str(folder)}
            if "ZDOTDIR" in os.environ:
                variables["PORTCALL_ZDOTDIR"] = os.environ["ZDOTDIR"]
            return Beside([shell, "-i"], variables, True)
        case "fish":
            return Beside([shell, "-i", "-C", _FISH.format(mark=marked)], {}, True)
    usual = "# " if os.geteuid() == 0 else "$ "
    return Beside([shell, "-i"], {"PS1": f"{mark} {usual}"}, True)


async def run_beside(
    program: Beside, work: Callable[[asyncio.Event], Coroutine[Any, Any, None]]
) -> int:
    """Run a program to its end, with ``work`` going on beside it; its exit code.

    Ctrl-C is the program's own affair. When this process is told to end, or loses its terminal,
    the program is told so too. ``work`` ends when the event that it is given is set. Raises what
    ``work`` raised, after the program has ended, and OSError when the program cannot be started.
    """
    over = asyncio.Event()
    loop = asyncio.get_running_loop()
    told = asyncio.Event()
    handlers = {number: signal.getsignal(number) for number in _HEEDED}
    for number in _HEEDED[1:]:
        loop.add_signal_handler(number, told.set)
    loop.add_signal_handler(signal.SIGINT, lambda: None)
    child = await _start(program)
    # A shell has the terminal to itself; what is said meanwhile must not stop this process.
    before = signal.signal(signal.SIGTTOU, signal.SIG_IGN)
    working = asyncio.ensure_future(work(over))
    ending = asyncio.ensure_future(child.wait())
    asked = asyncio.ensure_future(told.wait())
    try:
        await asyncio.wait((ending, asked), return_when=asyncio.FIRST_COMPLETED)
        if not ending.done():
            await _end(child, ending, program.is_shell)
    finally:
        asked.cancel()
        over.set()
        _take_terminal()
        signal.signal(signal.SIGTTOU, before)
        await working
        for number, handler in handlers.items():
            loop.remove_signal_handler(number)
            # Who was told to end once is about to: being told again must not cut that short.
            signal.signal(number, signal.SIG_IGN if told.is_set() else handler)
    code = child.returncode or 0
    return 128 - code if code < 0 else code


async def _start(program: Beside) -> asyncio.subprocess.Process:
    environment = {**os.environ, **program.variables}
    if not program.reads:
        return await asyncio.create_subprocess_exec(*program.words, env=environment)
    reads, writes = os.pipe()
    try:
        os.write(writes, program.reads.encode())
        os.close(writes)
        words = [*program.words, "--rcfile", f"/dev/fd/{reads}", "-i"]
        return await asyncio.create_subprocess_exec(*words, env=environment, pass_fds=(reads,))
    finally:
        os.close(reads)


async def _end(
    child: asyncio.subprocess.Process, ending: asyncio.Future[int], is_shell: bool
) -> None:
    # A shell that a person types into ignores SIGTERM, and ends when its terminal is gone.
    for number in (signal.SIGHUP if is_shell else signal.SIGTERM, signal.SIGKILL):
        with suppress(ProcessLookupError):
            child.send_signal(number)
        done, _ = await asyncio.wait((ending,), timeout=_PATIENCE)
        if done:
            return


def _take_terminal() -> None:
    """Have the terminal again: a shell that was killed did not give it back."""
    with suppress(OSError):
        os.tcsetpgrp(0, os.getpgrp())


def finds(word: str, environment: Mapping[str, str] = os.environ) -> bool:
    """Whether there is a program of this name here."""
    return shutil.which(word, path=environment.get("PATH")) is not None
