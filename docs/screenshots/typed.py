"""Run a line in a terminal of its own, and type what it asks for: typed.py LINE [WORDS ANSWER]…

Each answer is typed once its words have come, in their order; the last pair is used again and
again.
"""

from __future__ import annotations

import fcntl
import os
import pty
import sys
import termios


def main(line: str, *asked: str) -> int:
    """Pass on what is printed; type an answer when its words have come."""
    child, master = pty.fork()
    if child == 0:
        os.execvp("sh", ["sh", "-c", line])
    size = fcntl.ioctl(sys.stdout, termios.TIOCGWINSZ, bytes(8))
    fcntl.ioctl(master, termios.TIOCSWINSZ, size)
    waiting = list(zip(asked[::2], asked[1::2], strict=True))
    printed = b""
    while True:
        try:
            data = os.read(master, 65536)
        except OSError:
            break
        os.write(1, data)
        printed += data
        words, answer = waiting[0]
        if words.encode() in printed:
            os.write(master, answer.encode() + b"\r")
            printed = b""
            if len(waiting) > 1:
                del waiting[0]
    return os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])


if __name__ == "__main__":
    sys.exit(main(*sys.argv[1:]))
