"""A shell of the person's own, or one program, beside which this one goes on running."""

import sys

if sys.platform == "win32":
    from portcall.host.windows.lacking import Refused as Beside
    from portcall.host.windows.lacking import refuse as finds
    from portcall.host.windows.lacking import refuse as own_shell
    from portcall.host.windows.lacking import refuse as run_beside
else:
    from portcall.host.linux.shell import Beside, finds, own_shell, run_beside

__all__ = ["Beside", "finds", "own_shell", "run_beside"]
