"""The guide shows what the commands do now."""

import subprocess
import sys
from pathlib import Path

import pytest

GUIDE = Path(__file__).parents[2] / "docs" / "guide.py"


@pytest.mark.long
def test_the_guide_is_as_it_would_be_made_today():
    line = [sys.executable, str(GUIDE), "--check"]
    made = subprocess.run(line, capture_output=True, text=True, check=False)
    assert (made.returncode, made.stdout) == (0, ""), made
