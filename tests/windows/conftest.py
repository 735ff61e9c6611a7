"""The tool on Windows, as far as it goes under Wine: only where its lane is run, make windows."""

from __future__ import annotations

import os

INTERPRETER = "PORTCALL_WINDOWS"
"""The environment variable with the folder that ``interpreter.sh`` made."""

if INTERPRETER not in os.environ:
    collect_ignore_glob = ["test_*"]
