"""A shell of the person's own, or one program, beside which this one goes on running."""

from portcall.host.linux.shell import Beside, finds, own_shell, run_beside

__all__ = ["Beside", "finds", "own_shell", "run_beside"]
