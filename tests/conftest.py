"""Paths for the tests' own modules, how hypothesis runs, and which tests run side by side."""

import signal
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest
from hypothesis import settings

for folder in ("core", "commands"):
    sys.path.insert(0, str(Path(__file__).parent / folder))

# A deadline is an absolute time: on a machine that pauses, it fails what is right.
settings.register_profile("no deadline", deadline=None)
settings.load_profile("no deadline")

# A shell starts what it runs in the background with Ctrl-C ignored, and that is inherited.
signal.signal(signal.SIGINT, signal.default_int_handler)

SHARED = ("looked", "place", "quiet_plant")
"""Fixtures that many tests of a module share: a practice plant, or one look at it."""

ON_LOOPBACK = ("host", "jobs")
"""Folders whose tests talk over this computer's one loopback adapter, and count what leaves it."""


@pytest.hookimpl(wrapper=True)
def pytest_collection_modifyitems(items: list[pytest.Item]) -> Iterator[None]:
    """Those that wait longest begin first; those that share something run in one process."""
    for item in items:
        if item.path.parent.name in ON_LOOPBACK:
            item.add_marker(pytest.mark.xdist_group("loopback"))
        for fixture in set(SHARED) & set(getattr(item, "fixturenames", ())):
            item.add_marker(pytest.mark.xdist_group(f"{item.path.stem} {fixture}"))
    items.sort(key=_rank)
    return (yield)


def _rank(item: pytest.Item) -> int:
    if item.get_closest_marker("long"):
        return 0
    return 1 if item.path.parent.name == "commands" else 2
