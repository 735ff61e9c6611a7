"""Paths for the tests' own modules, and how hypothesis runs."""

import signal
import sys
from pathlib import Path

from hypothesis import settings

for folder in ("core", "commands"):
    sys.path.insert(0, str(Path(__file__).parent / folder))

# A deadline is an absolute time: on a machine that pauses, it fails what is right.
settings.register_profile("no deadline", deadline=None)
settings.load_profile("no deadline")

# A shell starts what it runs in the background with Ctrl-C ignored, and that is inherited.
signal.signal(signal.SIGINT, signal.default_int_handler)
