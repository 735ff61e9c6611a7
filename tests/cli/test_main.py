"""What holds for every command line."""

import sys
import time

import pytest

from portcall.cli.main import say_again


class Clumsy:
    """Ctrl-C comes while Python is in a callback of its own, where it drops what is raised."""

    def __del__(self):
        raise KeyboardInterrupt


def test_ctrl_c_that_python_drops_is_said_again(monkeypatch):
    monkeypatch.setattr(sys, "unraisablehook", say_again)
    Clumsy()
    with pytest.raises(KeyboardInterrupt):
        time.sleep(5)
