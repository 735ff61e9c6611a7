"""Raw Ethernet on one adapter, where a capture driver is installed.

The driver gives no descriptor to wait on: a thread takes the frames, and hands them to the event
loop.
"""

from __future__ import annotations

import threading
from collections.abc import Iterator
from time import monotonic

from portcall.core.address import Mac
from portcall.core.talk.conversation import Frame
from portcall.host.filters import Program
from portcall.host.medium import MOST_AT_ONCE
from portcall.host.windows.bell import Bell
from portcall.host.windows.capture import Capture

_SOURCE = slice(6, 12)


class Link:
    """All frames that arrive on an adapter, and frames sent on it. Needs a capture driver.

    With ``passes``, only the frames that this program accepts arrive. With ``outgoing``, the
    frames that leave arrive here, too.
    """

    def __init__(self, adapter: str, passes: Program | None = None, outgoing: bool = False) -> None:
        self._capture = Capture(adapter, passes)
        self._outgoing = outgoing
        self._bell: Bell[tuple[Frame, float]] = Bell()
        self._over = threading.Event()
        self._thread = threading.Thread(target=self._listen, name=f"link-{adapter}", daemon=True)
        self._thread.start()

    def _listen(self) -> None:
        try:
            while not self._over.is_set():
                heard = self._capture.next()
                if heard is None:
                    continue
                data, _ = heard
                if self._outgoing or data[_SOURCE] != self._capture.own:
                    self._bell.put((Frame(data), monotonic()))
        except EOFError:
            return

    @property
    def mac(self) -> Mac:
        """The adapter's own MAC."""
        return Mac(self._capture.own)

    def fileno(self) -> int:
        """Readable when frames have arrived."""
        return self._bell.fileno()

    def receive(self) -> Iterator[tuple[Frame, float]]:
        """Frames that have arrived, with their times."""
        yield from self._bell.take(MOST_AT_ONCE)

    def send(self, packet: Frame) -> None:
        """Send a frame as it is. Raises OSError."""
        self._capture.send(packet.data)

    def close(self) -> None:
        """Stop listening."""
        self._over.set()
        self._thread.join(1.0)
        if not self._thread.is_alive():
            self._capture.close()
        self._bell.close()
