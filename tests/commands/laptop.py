"""The plant's workstation as a Windows computer: a Python for Windows under Wine.

``tests/windows/interpreter.sh`` makes it, with a folder of Wine's to begin with. Each plant has a
copy of that and a server of its own, because it is the server that opens sockets: in the network
that it runs in.
"""

from __future__ import annotations

import fcntl
import os
import pty
import shlex
import shutil
import signal
import subprocess
import sys
import tempfile
import termios
from pathlib import Path
from typing import TypeVar

T = TypeVar("T")

WANTED = "PORTCALL_WINDOWS"
"""The environment variable with the folder that ``interpreter.sh`` made."""

IS_WANTED = WANTED in os.environ
"""Whether the lines of the tests are typed on Windows."""

THERE = Path(__file__).parents[1] / "windows"
SOURCE = THERE.parents[1] / "src"

PORT = 7007
"""Where ``helper.py`` listens on 127.0.0.1, for the calls that Wine lacks."""

VARIABLES = {
    "WINEDEBUG": "-all",
    "WINEDLLOVERRIDES": "mscoree,mshtml=",
    "PYTHONPATH": f"Z:{THERE};Z:{SOURCE}",
    "PYTHONUTF8": "1",
    "PORTCALL_WINDOWS_HELPER": str(PORT),
}
"""What a line has in its environment, besides the folder of Wine's; ``boot`` adds that."""


def is_of_linux(words: list[str]) -> bool:
    """Whether a line is one that works the plant, from outside of the laptop."""
    return "plant" in words[3:4]


def words(typed: list[str]) -> list[str]:
    """What is started for a line of ours, from the word after ``portcall`` on."""
    return ["wine", python(), "-m", "portcall", *typed]


def python() -> str:
    """The interpreter."""
    return str(Path(os.environ[WANTED]) / "python.exe")


def boot() -> None:
    """Switch it on, in the network that this process is in; it goes off with the plant."""
    original = Path(os.environ[WANTED]) / "prefix"
    folder = Path(tempfile.mkdtemp(dir=original.parent, prefix="booted-"))
    # Its libraries are the same files; its registry is its own.
    subprocess.run(["cp", "-al", f"{original}/.", str(folder)], check=True)
    for registry in folder.glob("*.reg"):
        registry.unlink()
        shutil.copy(original / registry.name, registry)
    VARIABLES["WINEPREFIX"] = str(folder)
    helper = [sys.executable, str(THERE / "helper.py"), str(PORT)]
    says = subprocess.Popen(helper, stdout=subprocess.PIPE, text=True).stdout
    assert says is not None
    assert says.readline() == "ready\n"
    # The services of a first program hold what it printed into.
    for line in (["wineserver", "-p"], ["wine", "cmd", "/c", "exit"]):
        _quietly(line)
    # Wine's desktop goes when nobody has used it for a while, and who comes then waits for ever.
    stays = [python(), "-c", "import ctypes, time; " + _USES_THE_DESKTOP + "; time.sleep(1e6)"]
    subprocess.Popen(["wine", *stays], env=_environment(), **_NOWHERE)


def switch_off() -> None:
    """Switch it off, and throw its folder away."""
    _quietly(["wineserver", "-k"])
    shutil.rmtree(VARIABLES["WINEPREFIX"], ignore_errors=True)


_USES_THE_DESKTOP = "ctypes.WinDLL('user32').GetDesktopWindow()"


def _quietly(line: list[str]) -> None:
    subprocess.run(line, env=_environment(), check=True, **_NOWHERE)


def _environment() -> dict[str, str]:
    return {**os.environ, **VARIABLES}


_NOWHERE = dict.fromkeys(("stdin", "stdout", "stderr"), subprocess.DEVNULL)


class Console:
    """A console of one line: keys are pressed, and what is drawn is thrown away.

    Wine takes a terminal for one. What Wine does not do to it is asked of ``sitecustomize.py``.
    """

    def __init__(self) -> None:
        self._keys, self.reads = pty.openpty()
        self._wanted = str(Path(VARIABLES["WINEPREFIX"], f"console-{self.reads}"))
        self.variables = {"PORTCALL_WINDOWS_CONSOLE": self._wanted}

    def send(self, number: int) -> bool:
        """Do what tells a program to end there instead of a signal; whether there is any."""
        if number == signal.SIGINT:
            os.write(self._keys, b"\x03")
        elif number in _INSTEAD:
            Path(self._wanted).write_text(_INSTEAD[number])
        return number in (signal.SIGINT, *_INSTEAD)

    def close(self) -> None:
        """It is not needed any more."""
        os.close(self._keys)
        Path(self._wanted).unlink(missing_ok=True)


_INSTEAD = {signal.SIGTERM: "break", signal.SIGHUP: "close"}
"""Ctrl-Break, and a window that is closed."""


def be_at_console() -> None:
    """In a process that is about to be a line: its input is the terminal that it is at."""
    os.setsid()
    fcntl.ioctl(0, termios.TIOCSCTTY, 0)


def otherwise(usual: T, on_windows: T) -> T:
    """What a line says where tests are run; it is told otherwise on Windows."""
    return on_windows if IS_WANTED else usual


KILLED = otherwise(-signal.SIGKILL, 9)
"""The exit code of a program that ``killed_at`` kills."""


def _for_a_shell() -> str:
    """Lines for a shell in a plant, in which ``portcall`` is typed on Windows from then on."""
    told = {name: value for name, value in VARIABLES.items() if name != WANTED}
    exports = [f"export {name}={shlex.quote(value)}" for name, value in told.items()]
    line = f'{shlex.join(words([]))} "$@" </dev/null 2>&1 | cat'
    return "\n".join((*exports, f"portcall() {{ {line}; }}"))


if __name__ == "__main__":
    os.environ[WANTED] = sys.argv[1]
    boot()
    print(_for_a_shell())
