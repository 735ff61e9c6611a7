"""The running stages of a look and the time they are likely to take: for a progress bar."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field


@dataclass(slots=True)
class Outlook:
    """The caller tells the time by ``tick``; each stage says how many seconds it will take."""

    now: float = 0.0
    note: str = ""
    """How far it has come, in words of who looks."""
    _began: float | None = None
    _stages: dict[int, tuple[str, float]] = field(default_factory=dict)
    _number: int = 0

    def tick(self, now: float) -> None:
        """The time, in seconds on any clock."""
        if self._began is None:
            self._began = now
            # Stages that began before the first tick began now.
            self._stages = {k: (w, end + now) for k, (w, end) in self._stages.items()}
        self.now = now

    @contextmanager
    def doing(self, what: str, seconds: float) -> Iterator[Callable[[str, float], None]]:
        """Inside of this, ``what`` goes on; the function says how far, and how long from now."""
        self._number += 1
        number = self._number

        def is_now(what: str, seconds: float) -> None:
            self._stages[number] = (what, self.now + seconds)

        is_now(what, seconds)
        try:
            yield is_now
        finally:
            del self._stages[number]

    @property
    def stages(self) -> tuple[str, ...]:
        """The running stages, each once, in the order in which they began."""
        return tuple(dict.fromkeys(what for what, _ in self._stages.values()))

    @property
    def seconds_left(self) -> float:
        """As far as the stages that go on can tell; never under a fifth while any does."""
        if not self._stages:
            return 0.0
        return max(0.2, max(end for _, end in self._stages.values()) - self.now)

    @property
    def share(self) -> float:
        """How much of it is done, 0 to 1."""
        past = self.now - (self._began if self._began is not None else self.now)
        return past / (past + self.seconds_left) if self._stages else 1.0
