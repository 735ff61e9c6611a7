"""The moments at which tests kill what they test: a sample that is another one in each run."""

from __future__ import annotations

import os
import random
from collections.abc import Sequence
from typing import TypeVar

SAMPLE = "PORTCALL_TEST_MOMENTS"
"""The environment variable with the number of a run's sample, or ``all``."""

T = TypeVar("T")


def choose() -> None:
    """Choose the sample of this run, for all its processes, unless one is given."""
    os.environ.setdefault(SAMPLE, str(random.randrange(1_000_000)))


def told() -> str:
    """The sample of this run in words: what it takes to have the same again, or all."""
    sample = os.environ[SAMPLE]
    if sample == "all":
        return "killed at every moment"
    return f"killed at some moments; the same again: {SAMPLE}={sample}; at every one: make long"


def some(moments: Sequence[T], most: int) -> list[T]:
    """So many of the moments, in their order; all of them in ``make long``."""
    sample = os.environ[SAMPLE]
    if sample == "all" or most >= len(moments):
        return list(moments)
    places = random.Random(f"{sample} {moments!r}").sample(range(len(moments)), most)
    return [moments[place] for place in sorted(places)]
