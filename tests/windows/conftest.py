"""What is Windows' own: only where that lane is run, make windows."""

from __future__ import annotations

import sys
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[1] / "commands"))

# The line above has its folder.
import laptop

if not laptop.IS_WANTED:
    collect_ignore_glob = ["test_*"]
