"""Run a line in a terminal of its own, and press Enter once it asks: typed.py WORDS LINE."""

from __future__ import annotations

import fcntl
import os
import pty
import sys
import termios


def main(words: str, line: str) -> int:
    """Pass on what is printed; press Enter when these words have come."""
    child, master = pty.fork()
    if child == 0:
        os.execvp("sh", ["sh", "-c", line])
    size = fcntl.ioctl(sys.stdout, termios.TIOCGWINSZ, bytes(8))
    fcntl.ioctl(master, termios.TIOCSWINSZ, size)
    printed = b""
    while True:
        try:
            data = os.read(master, 65536)
        except OSError:
            break
        os.write(1, data)
        printed += data
        if words.encode() in printed:
            os.write(master, b"\n")
            printed = b""
    return os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])


if __name__ == "__main__":
    sys.exit(main(*sys.argv[1:]))
