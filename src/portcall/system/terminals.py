"""What differs from one operating system to another about a terminal: how a person ends something,
and the keys that are pressed."""

import sys

if sys.platform == "win32":
    from portcall.system.windows_terminals import (
        begin,
        interrupts,
        key_presses,
        press_ctrl_c,
        watched_pipe,
    )
else:
    from portcall.system.posix_terminals import (
        begin,
        interrupts,
        key_presses,
        press_ctrl_c,
        watched_pipe,
    )

__all__ = ["begin", "interrupts", "key_presses", "press_ctrl_c", "watched_pipe"]
