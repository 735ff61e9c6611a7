"""Writing what passes an adapter into a capture file while a job runs."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import closing, contextmanager
from dataclasses import dataclass
from pathlib import Path

from portcall.core.adapters.adapter import Adapter
from portcall.host.recorder import Recorder
from portcall.jobs.telling import Tell
from portcall.site.captures import CaptureFile


@dataclass(frozen=True, slots=True)
class Captured:
    """A capture was written."""

    file: Path

    def __str__(self) -> str:
        return f"what was sent and heard is in {self.file}"


@contextmanager
def capturing(adapter: Adapter, file: Path, tell: Tell) -> Iterator[None]:
    """Write what is sent and heard while the block runs. Raises BadInput, NotPossibleHere."""
    with CaptureFile(file, adapter.name) as capture, closing(Recorder(adapter.name, capture.write)):
        yield
    tell(Captured(file))
