"""Recording what is sent and heard on an adapter, while other work goes on."""

from portcall.host.linux.recorder import Recorder

__all__ = ["Recorder"]
