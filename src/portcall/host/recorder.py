"""Recording what is sent and heard on an adapter, while other work goes on."""

import sys

if sys.platform == "win32":
    from portcall.host.windows.recorder import Recorder
else:
    from portcall.host.linux.recorder import Recorder

__all__ = ["Recorder"]
