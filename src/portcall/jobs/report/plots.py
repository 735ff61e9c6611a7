"""How a watch went over time, as a small drawing for a page.

Needs matplotlib, which is imported with this module.
"""

from __future__ import annotations

import io
from collections.abc import Mapping
from typing import Any

import matplotlib as mpl
from matplotlib.backends.backend_agg import FigureCanvasAgg
from matplotlib.figure import Figure

_DARK, _GREY, _RED = "#16222c", "#8795a1", "#b3131b"


def plot(target: Mapping[str, Any]) -> bytes | None:
    """The spans of one target as SVG; None where there is nothing to draw.

    The line is the mean of each span, the shade reaches from the shortest time to the longest, and
    a mark at the bottom says that something was lost. The same spans give the same octets.
    """
    spans, width = target["spans"], target["span_s"]
    if not width or len(spans) < 2:
        return None
    unit, name = (60.0, "min") if len(spans) * width > 300 else (1.0, "s")
    at = [(place + 0.5) * width / unit for place in range(len(spans))]
    nothing = float("nan")
    low, mean, high = ([nothing if s[n] is None else s[n] for s in spans] for n in (2, 3, 4))
    settings: Any = {"svg.fonttype": "path", "svg.hashsalt": "portcall", "font.size": 7}
    with mpl.rc_context(settings):
        figure = Figure(figsize=(7.0, 1.25), layout="constrained")
        FigureCanvasAgg(figure)
        axes: Any = figure.add_subplot()
        axes.fill_between(at, low, high, color=_GREY, alpha=0.45, linewidth=0, step="mid")
        axes.plot(at, mean, color=_DARK, linewidth=1, drawstyle="steps-mid")
        lost = [x for x, span in zip(at, spans, strict=True) if span[1]]
        if lost:
            foot = axes.get_xaxis_transform()
            axes.plot(lost, [0.06] * len(lost), "x", color=_RED, markersize=5, transform=foot)
        axes.set_ylim(bottom=0)
        axes.set_xlim(0, len(spans) * width / unit)
        axes.set_xlabel(name)
        axes.set_ylabel("ms")
        for side in ("top", "right"):
            axes.spines[side].set_visible(False)
        out = io.BytesIO()
        figure.savefig(out, format="svg", metadata={"Date": None, "Creator": None})
    return out.getvalue()
