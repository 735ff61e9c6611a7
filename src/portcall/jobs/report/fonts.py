"""The fonts of a page on paper: those that come with matplotlib, so that it is set alike anywhere.

Needs weasyprint and matplotlib, which are imported with this module.
"""

from __future__ import annotations

from pathlib import Path
from typing import Any

from matplotlib import get_data_path
from weasyprint.urls import URLFetcher

_FACES = (
    ("DejaVu Sans", "normal", "DejaVuSans.ttf"),
    ("DejaVu Sans", "bold", "DejaVuSans-Bold.ttf"),
    ("DejaVu Sans Mono", "normal", "DejaVuSansMono.ttf"),
)


def _place(file: str) -> str:
    return (Path(get_data_path()) / "fonts" / "ttf" / file).as_uri()


def faces() -> str:
    """The style sheet that names them."""
    return "".join(
        f'@font-face {{ font-family: "{family}"; font-weight: {weight}; src: url({_place(file)}) }}'
        for family, weight, file in _FACES
    )


class OwnFonts(URLFetcher):  # type: ignore[misc]
    """Loads these fonts, and what the page has in itself: nothing else."""

    def __init__(self) -> None:
        super().__init__(allowed_protocols={"data", "file"})
        self._known = {_place(file) for _, _, file in _FACES}

    def fetch(self, url: str, headers: Any = None) -> Any:
        """Load what may be loaded. Raises ValueError."""
        if not url.startswith("data:") and url not in self._known:
            raise ValueError(f"{url}: a record loads nothing")
        return super().fetch(url, headers)
