"""Paths for the tests' own modules."""

import sys
from pathlib import Path

for folder in ("core", "commands"):
    sys.path.insert(0, str(Path(__file__).parent / folder))
