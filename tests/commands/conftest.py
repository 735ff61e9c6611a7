"""Plants to type into, and the real programs that some tests need."""

from __future__ import annotations

import os
import shutil
from collections.abc import Iterator
from importlib.util import find_spec

import pytest
from inside import Plant


@pytest.fixture
def plant() -> Iterator[Plant]:
    """A fresh practice plant."""
    with Plant() as made:
        yield made


@pytest.fixture(scope="module")
def quiet_plant() -> Iterator[Plant]:
    """A practice plant for tests that leave it as it was."""
    with Plant() as made:
        yield made


def need(*programs: str) -> None:
    """Skip a test whose real counterpart is not installed; in CI that is a failure."""
    _have([program for program in programs if shutil.which(program) is None], " as root")


def need_stacks(*packages: str) -> None:
    """The same for protocol stacks that are Python packages."""
    _have([package for package in packages if find_spec(package) is None])


def _have(missing: list[str], how: str = "") -> None:
    if missing:
        reason = f"not installed: {', '.join(missing)}; make test installs them{how}"
        if os.environ.get("CI") == "true":
            pytest.fail(reason)
        pytest.skip(reason)
