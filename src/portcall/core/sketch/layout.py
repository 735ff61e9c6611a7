"""Where everything of a picture stands on the paper: arithmetic only, in points (1/72 inch).

The tree goes down the page: below each switch its subnets, as bands, then the switches behind it,
one step to the right. A wire goes down at the left of what hangs on it and reaches to the right
from there, so that no two wires ever cross. All boxes are of one size; they stand in the order of
their ports and addresses, and text is measured before it is set: what does not fit is shortened.

The largest letters with which all fits on one sheet are taken, out of few sizes: one device more
moves those behind it in its band, and seldom anything else.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace
from typing import NamedTuple

from portcall.core.phrases import ENGLISH
from portcall.core.sketch.picture import Band, Branch, Figure, Mark, Picture
from portcall.core.sketch.sheet import Box, Paper, Sheet, Wire, Words
from portcall.core.sketch.words import in_language, told_in

Say = Callable[[str], str]
"""A phrase of the picture, told in its language."""

Measure = Callable[[str, bool], float]
"""The width of a text, bold or not, in letters of one point."""

SIZES = (9.0, 8.0, 7.0, 6.4, 5.9, 5.4, 4.9, 4.4)
"""Letters of one sheet, in points: smaller ones cannot be read on paper."""

_ON_SHEETS = 6.2
"""Letters where one sheet is not enough."""

_MARGIN = 26.0
_TITLE, _SMALL = 13.0, 7.5
_HEAD = 44.0
_FEW = 4
"""Remarks that there is always room for: one more does not move everything."""

_LEAST = 200.0
"""Of a sheet's height, what remains for the picture, however much there is to remark."""

_LINE = 1.3
_ASCENT, _DESCENT = 0.95, 0.25
"""How far letters reach above and below the line that they stand on, in their size."""

_PAD = 0.45
_GAP = 0.8
_DROP = 1.75
"""The height above a row of boxes in which its wires are, and the names of ports beside them."""

_LABEL = 1.6
"""The height of a band's label."""

_NARROWEST, _WIDEST, _WIDEST_DETAILS = 9.0, 22.0, 13.0
_MOST_INSIDE, _FEWER_INSIDE = 12, 10
"""Parts of a device that stand in its box; of more, the first, and how many there are."""

_DEEPEST = 8
"""Steps to the right; what is deeper hangs beside what it is behind, and says so."""


def lay_out(
    picture: Picture, paper: Paper, measure: Measure, language: str = ENGLISH
) -> tuple[Sheet, ...]:
    """The sheets of a picture, told in a language: one, or as many as it takes."""

    def say(text: str) -> str:
        return told_in(text, language)

    told = in_language(picture, language)
    shallow = replace(told, branches=tuple(_flattened(told.branches, say)))
    for size in SIZES:
        sheets = _Layout(shallow, paper, measure, size, say).sheets()
        if len(sheets) == 1:
            return sheets
    return _Layout(shallow, paper, measure, _ON_SHEETS, say).sheets()


def _flattened(branches: Sequence[Branch], say: Say, depth: int = 0) -> Iterator[Branch]:
    for branch in branches:
        below = tuple(_flattened(branch.branches, say, depth + 1))
        if depth < _DEEPEST:
            yield replace(branch, branches=below)
        else:
            yield replace(branch, branches=())
            for each in below:
                yield replace(each, plugged=say(f"behind {branch.title}: {each.plugged}"))


class _Part(NamedTuple):
    """As much of a band as stands in one row."""

    label: str
    figures: Sequence[Figure]
    width: float


class _Layout:
    """One attempt, with letters of one size. Downwards is counted over all sheets' bodies."""

    def __init__(
        self, picture: Picture, paper: Paper, measure: Measure, size: float, say: Say
    ) -> None:
        self._picture, self._paper, self._measure = picture, paper, measure
        self._size, self._say = size, say
        self._foot = self._foot_lines()
        foot = max(len(self._foot), _FEW) * _SMALL * _LINE + 6
        # A whole number, whose multiples are exact: a height is on one sheet or on the next.
        self._body = math.floor(max(paper.height - 2 * _MARGIN - _HEAD - foot, _LEAST))
        self._sheets: list[Sheet] = []
        self._y = 0.0
        self._width = self._box_width()

    def sheets(self) -> tuple[Sheet, ...]:
        """Lay it out."""
        x, size = _MARGIN, self._size
        told = [(text, n == 0, "") for n, text in enumerate(self._picture.workstation)]
        top, height = self._room(self._height(1)), self._height(1)
        self._line(x, top, "workstation", told)
        self._y = top + height + _GAP * size
        self._hang(self._picture.branches, x + 1.2 * size, top + height)
        for number, sheet in enumerate(self._sheets, 1):
            self._frame(sheet, number)
        return tuple(self._sheets)

    # Margins, headings and legend.

    def _foot_lines(self) -> list[str]:
        marks = dict.fromkeys(each.mark for each in self._picture.figures())
        told: dict[str, list[str]] = {}
        for mark in filter(None, Mark):
            if mark in marks:
                told.setdefault(_LEGEND[mark], []).append(self._say(mark.value))
        either = f" {self._say('or')} "
        how = (f"{self._say(legend)}: {either.join(what)}" for legend, what in told.items())
        texts = ["; ".join(how)]
        texts = [*filter(None, texts), *self._picture.remarks]
        width = self._paper.width - 2 * _MARGIN
        return [line for text in texts for line in self._wrapped(text, width)]

    def _wrapped(self, text: str, width: float) -> Iterator[str]:
        line = ""
        for word in text.split():
            longer = f"{line} {word}".strip()
            if line and self._measure(longer, False) * _SMALL > width:
                yield line
                longer = word
            line = longer
        yield self._fitting(line, False, width, _SMALL)

    def _frame(self, sheet: Sheet, number: int) -> None:
        width = self._paper.width - 2 * _MARGIN
        count = len(self._sheets)
        at = f", {self._say(f'sheet {number} of {count}')}" if count > 1 else ""
        title = self._fitting(self._picture.title, True, width, _TITLE)
        about = self._fitting(f"{self._picture.about}{at}", False, width, _SMALL)
        sheet.words.append(Words(_MARGIN, _MARGIN + _TITLE, title, _TITLE, True))
        below = _MARGIN + _TITLE * _LINE + _SMALL * _LINE
        sheet.words.append(Words(_MARGIN, below, about, _SMALL, False, "quiet"))
        bottom = self._paper.height - _MARGIN
        for n, line in enumerate(reversed(self._foot)):
            at_y = bottom - n * _SMALL * _LINE
            sheet.words.append(Words(_MARGIN, at_y, line, _SMALL, False, "quiet"))

    # Which device hangs under which.

    def _hang(self, branches: Sequence[Branch], trunk: float, start: float) -> None:
        """Branches below each other, on a wire that goes down at ``trunk``."""
        for branch in branches:
            middle = self._branch(branch, trunk)
            self._wire(trunk, start, trunk, middle)
            start = middle

    def _branch(self, branch: Branch, trunk: float) -> float:
        """One of them, with what hangs on it; gives where it is reached."""
        size, figure = self._size, branch.switch
        told = [(branch.title, True, "")]
        if figure is not None:
            told += [(figure.address, False, ""), (figure.details, False, "details")]
            told += [(branch.plugged, False, ""), (figure.words, True, _TONES[figure.mark])]
        first = self._first_row(branch)
        # Its head is not left alone at the end of a sheet.
        top = self._room(self._height(1) + (first + _GAP * size if first else 0))
        x = trunk + 1.8 * size
        self._line(x, top, "switch" if figure is not None else "unknown", told)
        height = self._height(1)
        middle = top + height / 2
        self._wire(trunk, middle, x, middle)
        own_trunk, start = x + 1.2 * size, top + height
        self._y = top + height + _GAP * size
        start = self._bands(branch.bands, own_trunk, start)
        self._y += _GAP * size
        self._hang(branch.branches, own_trunk, start)
        return middle

    def _first_row(self, branch: Branch) -> float:
        rows = self._rows(branch.bands, self._paper.width / 2)
        return self._row_height(next(rows)) if branch.bands else 0.0

    def _rows(self, bands: Sequence[Band], width: float) -> Iterator[list[_Part]]:
        """The bands in rows: what is short stands side by side, what is long goes on below."""
        row: list[_Part] = []
        used = 0.0
        for band in bands:
            label = band.label
            for start in range(0, len(band.figures), self._columns(width)):
                figures = band.figures[start : start + self._columns(width)]
                part = _Part(label, figures, self._part_width(label, figures, width))
                if row and used + part.width > width:
                    yield row
                    row, used = [], 0.0
                row.append(part)
                used += part.width + _GAP * self._size
                label = self._say(f"{band.label}, continued")
        if row:
            yield row

    def _columns(self, width: float) -> int:
        gap = _GAP * self._size
        return max(int((width - gap) // (self._width + gap)), 1)

    def _part_width(self, label: str, figures: Sequence[Figure], width: float) -> float:
        gap, size = _GAP * self._size, self._size
        told = self._measure(label, True) * size + 2 * _PAD * size
        return min(max(gap + len(figures) * (self._width + gap), told), width)

    def _row_height(self, row: Sequence[_Part]) -> float:
        lines = max(len(_lines(figure, self._say)) for part in row for figure in part.figures)
        return (_LABEL + _DROP + _GAP) * self._size + self._height(lines)

    def _bands(self, bands: Sequence[Band], trunk: float, start: float) -> float:
        """Subnets with their devices; gives where the wire down has got to."""
        size, gap = self._size, _GAP * self._size
        left = trunk + 1.1 * size
        for row in self._rows(bands, self._paper.width - _MARGIN - left):
            whole = self._row_height(row)
            edge = self._room(whole)
            bus = edge + (_LABEL + 0.35) * size
            top = edge + (_LABEL + _DROP) * size
            x, last = left, trunk
            for part in row:
                self._put(Box(x, edge, part.width, whole, "band"))
                text = self._fitting(part.label, True, part.width - 2 * _PAD * size, size)
                at = edge + (_ASCENT + 0.3) * size
                self._words(Words(x + _PAD * size, at, text, size, True, "band"))
                for n, figure in enumerate(part.figures):
                    box = x + gap + n * (self._width + gap)
                    self._figure(figure, box, top, edge + whole - gap - top)
                    last = box + self._width / 2
                    self._wire(last, bus, last, top)
                    if figure.port:
                        # Up to the next wire, or to the end of its band.
                        is_last = n == len(part.figures) - 1
                        room = self._width / 2 if is_last else self._width + gap
                        port = self._fitting(figure.port, False, room - 2 * _PAD * size, size)
                        at = top - (_DESCENT + 0.1) * size
                        self._words(Words(last + _PAD * size, at, port, size, False, "quiet"))
                x += part.width + gap
            self._wire(trunk, bus, last, bus)
            self._wire(trunk, start, trunk, bus)
            start = bus
            self._y = edge + whole + gap
        return start

    def _figure(self, figure: Figure, x: float, y: float, height: float) -> None:
        style = _STYLES.get(figure.mark, "device")
        if style == "device" and figure.is_gateway:
            style = "gateway"
        self._box(x, y, self._width, height, style, _lines(figure, self._say))

    # What is put on the paper.

    def _height(self, lines: int) -> float:
        return (lines * _LINE + 2 * _PAD) * self._size

    def _box_width(self) -> float:
        """One width for all, in steps: a name that is a little longer changes nothing."""
        widest = _NARROWEST
        for figure in self._picture.figures():
            for text, bold, tone in _lines(figure, self._say):
                most = _WIDEST_DETAILS if tone == "details" else _WIDEST
                widest = max(widest, min(self._measure(text, bold) + 2 * _PAD, most))
        return math.ceil(widest / 2) * 2 * self._size

    def _fitting(self, text: str, bold: bool, width: float, size: float) -> str:
        if self._measure(text, bold) * size <= width:
            return text
        low, high = 0, len(text)
        while low < high:
            middle = (low + high + 1) // 2
            is_short = self._measure(_cut(text, middle), bold) * size <= width
            low, high = (middle, high) if is_short else (low, middle - 1)
        return _cut(text, low)

    def _fits(self, height: float) -> bool:
        return self._y % self._body + height <= self._body

    def _room(self, height: float) -> float:
        """Where something so high may begin: here, or on the next sheet."""
        if self._y and not self._fits(height) and self._y % self._body:
            self._y = (self._y // self._body + 1) * self._body
        return self._y

    def _box(
        self,
        x: float,
        y: float,
        width: float,
        height: float,
        style: str,
        lines: Sequence[tuple[str, bool, str]],
    ) -> None:
        self._put(Box(x, y, width, height, style))
        size = self._size
        for n, (text, bold, tone) in enumerate(lines):
            shown = self._fitting(text, bold, width - 2 * _PAD * size + 0.01, size)
            at = y + (_PAD + n * _LINE + _ASCENT) * size
            self._words(Words(x + _PAD * size, at, shown, size, bold, tone))

    def _line(self, x: float, y: float, style: str, told: Sequence[tuple[str, bool, str]]) -> None:
        """A box of one line; what does not fit at its end is shortened, or left out."""
        size, most = self._size, self._paper.width - _MARGIN
        at = x + _PAD * size
        end = at
        for text, bold, tone in told:
            room = most - at - _PAD * size
            if text and room > 2 * size:
                shown = self._fitting(text, bold, room, size)
                self._words(Words(at, y + (_PAD + _ASCENT) * size, shown, size, bold, tone))
                end = at + self._measure(shown, bold) * size
                at = end + _GAP * size
        self._put(Box(x, y, end + _PAD * size - x, self._height(1), style))

    def _sheet(self, y: float) -> tuple[Sheet, float]:
        """The sheet that a height is on, and how far down there its body's beginning is moved."""
        number = int(y // self._body)
        while len(self._sheets) <= number:
            self._sheets.append(Sheet(self._paper))
        return self._sheets[number], _MARGIN + _HEAD - number * self._body

    def _put(self, box: Box) -> None:
        sheet, down = self._sheet(box.y)
        sheet.boxes.append(box._replace(y=box.y + down))

    def _words(self, words: Words) -> None:
        sheet, down = self._sheet(words.y)
        sheet.words.append(words._replace(y=words.y + down))

    def _wire(self, x: float, y: float, to_x: float, to_y: float) -> None:
        """Draw a line; one that goes down over the end of a sheet goes on on the next."""
        while to_y // self._body > y // self._body:
            end = (y // self._body + 1) * self._body
            sheet, down = self._sheet(y)
            sheet.wires.append(Wire(x, y + down, x, end + down))
            y = end
        sheet, down = self._sheet(y)
        sheet.wires.append(Wire(x, y + down, to_x, to_y + down))


def _lines(figure: Figure, say: Say) -> list[tuple[str, bool, str]]:
    """The lines of a device's box: each with whether it is bold, and its tone."""
    lines = [
        (figure.name, True, ""),
        (figure.address, False, ""),
        (figure.details, False, "details"),
        (figure.words, True, _TONES[figure.mark]),
    ]
    shown = figure.inside if len(figure.inside) <= _MOST_INSIDE else figure.inside[:_FEWER_INSIDE]
    lines += [
        (f"{each.part}: {each.words}" if each.words else each.part, False, _TONES[each.mark])
        for each in shown
    ]
    if len(shown) < len(figure.inside):
        more = say(f"and {len(figure.inside) - len(shown)} more inside")
        lines.append((more, False, "quiet"))
    return [line for line in lines if line[0]]


_TONES = {
    Mark.NONE: "quiet",
    Mark.NOT_THERE: "wrong",
    Mark.NOT_ASKED: "quiet",
    Mark.UNPLANNED: "odd",
    Mark.TWICE: "wrong",
    Mark.ELSEWHERE: "odd",
}

_STYLES = {
    Mark.NOT_THERE: "missing",
    Mark.NOT_ASKED: "missing",
    Mark.UNPLANNED: "unplanned",
    Mark.TWICE: "twice",
    Mark.ELSEWHERE: "elsewhere",
}

_LEGEND = {
    Mark.NOT_THERE: "dashed",
    Mark.NOT_ASKED: "dashed",
    Mark.UNPLANNED: "dotted",
    Mark.TWICE: "red",
    Mark.ELSEWHERE: "orange",
}


def _cut(text: str, kept: int) -> str:
    """A text cut in its middle: names that are alike often differ at their ends."""
    begins = (kept + 1) // 2
    return f"{text[:begins].rstrip()}…{text[len(text) - (kept - begins) :].lstrip()}"
