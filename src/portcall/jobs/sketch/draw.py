"""Drawing the sheets of a sketch; the same sheets give the same octets.

Needs matplotlib, which is imported with this module. Letters are drawn as shapes in SVG, and text
is set in the font that comes with matplotlib, so that it is as wide everywhere as it was measured.
"""

from __future__ import annotations

import io
import warnings
from collections.abc import Sequence
from functools import lru_cache
from typing import Any

import matplotlib as mpl
from matplotlib.backends.backend_agg import FigureCanvasAgg
from matplotlib.collections import LineCollection
from matplotlib.figure import Figure
from matplotlib.font_manager import FontProperties
from matplotlib.patches import Rectangle
from matplotlib.textpath import text_to_path

from portcall.core.sketch.sheet import Sheet

_FONT = "DejaVu Sans"
_INCH = 72.0
_MEASURED_AT = 100.0
_DOTS = 144
_SPARE = 1.02
"""Letters in a PNG are put on whole dots, and are a little wider than they were measured."""

_DARK, _QUIET, _RED, _ORANGE, _BLUE = "#16222c", "#5d6b76", "#b3131b", "#9a4a00", "#23506f"
_TONES = {"wrong": _RED, "odd": _ORANGE, "quiet": _QUIET, "details": _QUIET, "band": _BLUE}
_EVERYWHERE = {"facecolor": "white", "edgecolor": _DARK, "linewidth": 0.7}
_STYLES: dict[str, dict[str, Any]] = {
    "band": {"facecolor": "#eef3f6", "edgecolor": "none"},
    "workstation": {"facecolor": "#e3e0d5", "linewidth": 1.0},
    "switch": {"facecolor": "#d3e0e8", "linewidth": 1.0},
    "unknown": {"facecolor": "white", "edgecolor": "none"},
    "gateway": {"linewidth": 1.8},
    "missing": {"linestyle": (0, (4, 2.5)), "facecolor": "none"},
    "unplanned": {"linestyle": (0, (1, 1.4)), "edgecolor": _ORANGE, "linewidth": 1.2},
    "elsewhere": {"edgecolor": _ORANGE, "linewidth": 1.2},
    "twice": {"edgecolor": _RED, "linewidth": 1.6},
}


@lru_cache(maxsize=1 << 14)
def measure(text: str, bold: bool) -> float:
    """The width of a text in letters of one point."""
    wanted = FontProperties(family=_FONT, weight=_weight(bold), size=_MEASURED_AT)
    with warnings.catch_warnings():
        # A letter that the font does not have is drawn, and measured, as an empty box.
        warnings.simplefilter("ignore")
        width, _, _ = text_to_path.get_text_width_height_descent(text, wanted, ismath=False)
    return float(width) / _MEASURED_AT * _SPARE


def _weight(bold: bool) -> str:
    return "bold" if bold else "normal"


def drawn(sheets: Sequence[Sheet], suffix: str) -> bytes:
    """The drawing as ``png``, ``svg`` or ``pdf``: sheets are pages of a PDF, or below each other.

    A PDF has no date, an SVG none and names that follow from what it shows.
    """
    settings: Any = {"svg.fonttype": "path", "svg.hashsalt": "portcall", "pdf.fonttype": 42}
    # Letters that are put on whole dots are wider than they were measured.
    settings["text.hinting"] = "none"
    out = io.BytesIO()
    with mpl.rc_context(settings), warnings.catch_warnings():
        warnings.simplefilter("ignore")
        if suffix == "pdf":
            from matplotlib.backends.backend_pdf import PdfPages

            with PdfPages(out, metadata={"CreationDate": None, "Creator": "Port Call"}) as pages:
                for sheet in sheets:
                    pages.savefig(_figure((sheet,)))
        else:
            told: dict[str, Any] = {"Date": None, "Creator": None}
            told = told if suffix == "svg" else {"Software": "Port Call"}
            _figure(sheets).savefig(out, format=suffix, dpi=_DOTS, metadata=told)
    return out.getvalue()


def _figure(sheets: Sequence[Sheet]) -> Figure:
    paper = sheets[0].paper
    height = paper.height * len(sheets)
    figure = Figure(figsize=(paper.width / _INCH, height / _INCH), facecolor="white")
    FigureCanvasAgg(figure)
    axes = figure.add_axes((0, 0, 1, 1))
    axes.set_axis_off()
    axes.set_xlim(0, paper.width)
    axes.set_ylim(height, 0)
    for number, sheet in enumerate(sheets):
        _draw(axes, sheet, number * paper.height)
    return figure


def _draw(axes: Any, sheet: Sheet, down: float) -> None:
    for box in sheet.boxes:
        style = {**_EVERYWHERE, **_STYLES.get(box.style, {})}
        at = (box.x, box.y + down)
        axes.add_patch(Rectangle(at, box.width, box.height, zorder=1, **style))
    lines = [((w.x, w.y + down), (w.to_x, w.to_y + down)) for w in sheet.wires]
    # Lines go above the bands, and below the boxes, which cover their ends.
    wires = LineCollection(lines, colors=_DARK, linewidths=0.8, capstyle="projecting", zorder=2)
    axes.add_collection(wires, autolim=False)
    for words in sheet.words:
        axes.text(
            words.x,
            words.y + down,
            words.text,
            fontsize=words.size,
            fontfamily=_FONT,
            fontweight=_weight(words.bold),
            color=_TONES.get(words.tone, _DARK),
            verticalalignment="baseline",
            parse_math=False,
            zorder=3,
        )
