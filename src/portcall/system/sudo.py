"""Who called sudo, by the variables that it sets."""

from __future__ import annotations

import os


def caller() -> tuple[int, int] | None:
    """The user and group ids of the person who called sudo, or None without sudo."""
    try:
        return int(os.environ["SUDO_UID"]), int(os.environ["SUDO_GID"])
    except (KeyError, ValueError):
        return None
