"""Capture files: what was sent and heard, as pcapng, and reading those of others."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from types import TracebackType

from portcall.core.trouble import BadInput, NotPossibleHere
from portcall.core.wire import pcapng
from portcall.core.wire.octets import Malformed
from portcall.site.files import open_named, open_to_read
from portcall.system import callers_rights


class CaptureFile:
    """A new pcapng file; ``write`` adds a frame.

    It may replace an older capture, but no other file: that raises BadInput. Raises NotPossibleHere
    when the file cannot be made.
    """

    def __init__(self, path: Path, adapter: str) -> None:
        try:
            with callers_rights():
                if not _may_be_replaced(path):
                    raise BadInput(
                        f"{path}: is there already, and is no capture", "name another file"
                    )
                self._file = open(path, "wb")  # noqa: SIM115 - closed by __exit__
        except OSError as error:
            raise NotPossibleHere(f"{path}: cannot be written: {error.strerror}") from None
        self._file.write(pcapng.encode_header(adapter))

    def __enter__(self) -> CaptureFile:
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        self._file.close()

    def write(self, frame: bytes, nanoseconds: int, outgoing: bool) -> None:
        """Add a frame. Raises OSError."""
        self._file.write(pcapng.encode_packet(frame, nanoseconds, outgoing))


def _may_be_replaced(path: Path) -> bool:
    if not path.exists():
        return True
    with open_to_read(path) as file:
        start = file.read(pcapng.MAGIC_LENGTH)
    return not start or pcapng.is_capture(start)


def read_capture(path: Path) -> Iterator[pcapng.Captured]:
    """The Ethernet frames of a pcap or pcapng file. Raises BadInput, NotPossibleHere."""
    try:
        with open_named(path) as file:
            yield from pcapng.parse_frames(file.read)
    except OSError as error:
        raise NotPossibleHere(f"{path}: cannot be read: {error.strerror}") from None
    except Malformed as error:
        raise BadInput(f"{path}: {error.what}") from None
