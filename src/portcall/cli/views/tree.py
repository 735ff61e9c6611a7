"""A site as a tree in the terminal: the same picture that is drawn on paper."""

from __future__ import annotations

from rich.text import Text
from rich.tree import Tree

from portcall.cli.table import console
from portcall.core.sketch.picture import Band, Branch, Figure, Mark, Picture

_TONES = {
    Mark.NOT_THERE: "red",
    Mark.TWICE: "bold red",
    Mark.UNPLANNED: "yellow",
    Mark.ELSEWHERE: "yellow",
}


def print_tree(picture: Picture) -> None:
    """Print it, with what it rests on and what it cannot show."""
    out = console()
    out.print(Text(picture.title, "bold"), Text(picture.about), sep=", ")
    first, *rest = picture.workstation
    tree = Tree(_joined((first, "bold"), *((text, "") for text in rest)))
    for branch in picture.branches:
        _add(tree, branch)
    out.print(tree)
    for remark in picture.remarks:
        out.print(Text(f"- {remark}"))


def _add(tree: Tree, branch: Branch) -> None:
    figure = branch.switch
    if figure is None:
        node = tree.add(Text(branch.title, "italic"))
    else:
        about = [(figure.address, ""), (figure.details, ""), (branch.plugged, "")]
        mark = (figure.words, _TONES.get(figure.mark, ""))
        node = tree.add(_joined((figure.name, "bold"), *about, mark))
        _add_inside(node, figure)
    for band in branch.bands:
        _add_band(node, band)
    for below in branch.branches:
        _add(node, below)


def _add_band(tree: Tree, band: Band) -> None:
    node = tree.add(Text(band.label, "underline"))
    ports = max((len(each.port) for each in band.figures), default=0)
    names = max(len(each.name) for each in band.figures)
    addresses = max(len(each.address) for each in band.figures)
    for each in band.figures:
        at = node.add(_line(each, ports, names, addresses))
        _add_inside(at, each)


def _add_inside(node: Tree, figure: Figure) -> None:
    """The parts of a device, below it."""
    widest = max((len(each.part) for each in figure.inside), default=0)
    for each in figure.inside:
        line = Text(f"{each.part:<{widest}}  ")
        line.append(each.words, _TONES.get(each.mark, ""))
        line.rstrip()
        node.add(line)


def _line(figure: Figure, ports: int, names: int, addresses: int) -> Text:
    line = Text()
    if ports:
        line.append(f"{figure.port:<{ports}}  ")
    line.append(f"{figure.name:<{names}}", "bold")
    line.append(f"  {figure.address:<{addresses}}  ")
    told = _joined((figure.words, _TONES.get(figure.mark, "")), (figure.details, ""))
    line.append_text(told)
    line.rstrip()
    return line


def _joined(*parts: tuple[str, str]) -> Text:
    return Text(", ").join(Text(text, style) for text, style in parts if text)
