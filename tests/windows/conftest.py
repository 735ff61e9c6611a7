"""The tool on Windows, as far as it goes under Wine: only where its lane is run, make windows."""

from __future__ import annotations

import os
import sys
from pathlib import Path

INTERPRETER = "PORTCALL_WINDOWS"
"""The environment variable with the folder that ``interpreter.sh`` made."""

sys.path.insert(0, str(Path(__file__).parents[1] / "commands"))
if INTERPRETER not in os.environ:
    collect_ignore_glob = ["test_*"]
