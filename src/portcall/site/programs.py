"""Running a program that this computer has, to its end, with what it says taken down."""

from __future__ import annotations

import subprocess
from collections.abc import Sequence
from pathlib import Path
from typing import NamedTuple

from portcall.core.printable import printable
from portcall.core.trouble import NotPossibleHere

_SECONDS = 300.0
_LONGEST = 4000


class Ended(NamedTuple):
    """How a program ended: its exit code, what it told, and what it complained of."""

    code: int
    told: str
    complaint: str


def has_run(words: Sequence[str], reads: Path | None = None) -> Ended | None:
    """Run a program, which reads a file; None where this computer does not have it.

    Without ``reads`` it may ask at the terminal. Raises OSError, and NotPossibleHere where it does
    not end.
    """
    file = open(reads, "rb") if reads is not None else None  # noqa: SIM115 - it may be none
    try:
        ended = subprocess.run(
            list(words), stdin=file, capture_output=True, check=False, timeout=_SECONDS
        )
    except FileNotFoundError:
        return None
    except subprocess.TimeoutExpired:
        raise NotPossibleHere(f"{words[0]} did not end within {_SECONDS:.0f} s") from None
    finally:
        if file is not None:
            file.close()
    told = (data.decode("utf-8", "replace")[:_LONGEST] for data in (ended.stdout, ended.stderr))
    out, complaint = ("\n".join(map(printable, text.splitlines())) for text in told)
    return Ended(ended.returncode, out, complaint)
