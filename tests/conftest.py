"""Paths for the tests' own modules, how hypothesis runs, and which tests run side by side."""

import os
import signal
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest
from hypothesis import settings

from portcall.host.linux import cables, namespaces

for folder in (".", "core", "commands"):
    sys.path.insert(0, str(Path(__file__).parent / folder))

# Their folder is on the path since the lines above.
import laptop  # noqa: E402
import nursery  # noqa: E402

import moments  # noqa: E402

# A deadline is an absolute time: on a machine that pauses, it fails what is right.
settings.register_profile("no deadline", deadline=None)
settings.load_profile("no deadline")

# A shell starts what it runs in the background with Ctrl-C ignored, and that is inherited.
signal.signal(signal.SIGINT, signal.default_int_handler)

# Some tests make files for other users. Those that are about a umask set their own.
os.umask(0o022)

SHARED = ("looked", "place", "quiet_plant", "whole_record")
"""Fixtures that many tests of a module share: a practice plant, or one look at it."""

ON_LOOPBACK = ("host", "jobs")
"""Folders whose tests talk over the loopback adapter, and count what leaves it."""

WORKER = "PYTEST_XDIST_WORKER"


def pytest_configure() -> None:
    """Give each of the processes that run side by side a network with a loopback of its own.

    They take the same ports there and count what leaves. It takes root; as another user, the tests
    that use the loopback run in one process.
    """
    if WORKER not in os.environ:
        moments.choose()
        nursery.open_for_this_run()
    if WORKER in os.environ and os.geteuid() == 0:
        namespaces.unshare(namespaces.CLONE_NEWNET | namespaces.CLONE_NEWNS)
        namespaces.keep_mounts_private()
        namespaces.mount("sysfs", "/sys", "sysfs")
        cables.set_link("lo", up=True)


def pytest_terminal_summary(terminalreporter: pytest.TerminalReporter) -> None:
    """Tell what it takes to have the same run again."""
    terminalreporter.write_line(moments.told())


@pytest.hookimpl(wrapper=True)
def pytest_collection_modifyitems(items: list[pytest.Item]) -> Iterator[None]:
    """Those that wait longest begin first; those that share something run in one process.

    In the lane for Windows, those that have its mark, and those of Windows alone.
    """
    items[:] = filter(_is_for_this_system, items)
    for item in items:
        if os.geteuid() != 0 and item.path.parent.name in ON_LOOPBACK:
            item.add_marker(pytest.mark.xdist_group("loopback"))
        for fixture in set(SHARED) & set(getattr(item, "fixturenames", ())):
            item.add_marker(pytest.mark.xdist_group(f"{item.path.stem} {fixture}"))
    items.sort(key=_rank)
    return (yield)


def _is_for_this_system(item: pytest.Item) -> bool:
    is_of_windows = item.path.parent.name == "windows"
    if laptop.IS_WANTED:
        return is_of_windows or item.get_closest_marker("windows") is not None
    return not is_of_windows


def _rank(item: pytest.Item) -> int:
    if item.get_closest_marker("long"):
        return 0
    return 1 if item.path.parent.name == "commands" else 2
