"""An ordinary user, who may do nothing in particular, with an interpreter that anybody may run."""

import os
import subprocess
import sys
from pathlib import Path

import pytest

STICK = Path(__file__).parents[2] / "dist" / "portcall.pyz"
NOBODY = 65534


def as_ordinary(network=True):
    """The beginning of a line that an ordinary user types; with a network that is empty."""
    if os.getuid() != 0:
        return []
    ids = ["--reuid", str(NOBODY), "--regid", str(NOBODY), "--clear-groups"]
    return [*(["unshare", "--net"] if network else []), "setpriv", *ids]


def interpreter():
    """One that anybody may run; root's own is often in root's own folder."""
    for path in (os.path.realpath(sys.executable), "/usr/bin/python3"):
        # By a shell: what becomes an ordinary user may still run what that user may not.
        asked = f"exec {path} -c 'import sys; print(sys.version_info >= (3, 11))'"
        told = subprocess.run(
            [*as_ordinary(), "sh", "-c", asked],
            capture_output=True,
            text=True,
            cwd="/",
        )
        if told.stdout == "True\n":
            return path
    pytest.skip("no interpreter of Python 3.11 that an ordinary user may run")


def the_stick():
    """The whole tool in one file, which make test makes before."""
    if not STICK.exists():
        reason = "dist/portcall.pyz is not there; make stick makes it, with the network"
        if os.environ.get("CI") == "true":
            pytest.fail(reason)
        pytest.skip(reason)
    return STICK
