"""Recording what is sent and heard on an adapter, while other work goes on."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable

from portcall.core.trouble import NotPossibleHere
from portcall.host.windows.capture import Capture

_SOURCE = slice(6, 12)
_LAST = 0.2
"""Seconds in which frames that have left are given by the driver."""


class Recorder:
    """Passes every frame of an adapter to ``write`` until it is closed; it runs in a thread of its
    own.

    ``write`` takes the frame, its time in nanoseconds since 1970, and whether it went out.
    """

    def __init__(self, adapter: str, write: Callable[[bytes, int, bool], None]) -> None:
        self._capture = Capture(adapter)
        self._write = write
        self._until = float("inf")
        self._failure: OSError | None = None
        self._thread = threading.Thread(target=self._run, name="recorder", daemon=True)
        self._thread.start()

    def close(self) -> None:
        """Write what has arrived, and stop. Raises NotPossibleHere when writing failed."""
        self._until = time.monotonic() + _LAST
        self._thread.join()
        self._capture.close()
        if self._failure is not None:
            raise NotPossibleHere(f"the capture is incomplete: {self._failure.strerror}")

    def _run(self) -> None:
        try:
            while time.monotonic() < self._until:
                heard = self._capture.next()
                if heard is not None:
                    data, at = heard
                    self._write(data, at, data[_SOURCE] == self._capture.own)
        except EOFError:
            return
        except OSError as error:
            self._failure = error
