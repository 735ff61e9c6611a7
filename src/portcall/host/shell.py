"""A shell of the person's own, or one program, beside which this one goes on running."""

import sys

from portcall.host.beside import Beside

if sys.platform == "win32":
    from portcall.host.windows.shell import finds, own_shell, run_beside
else:
    from portcall.host.linux.shell import finds, own_shell, run_beside

__all__ = ["Beside", "finds", "own_shell", "run_beside"]
