"""``portcall sketch``."""

from __future__ import annotations

from importlib.util import find_spec
from pathlib import Path

import click

from portcall.cli.afresh import look_afresh
from portcall.cli.main import INTERRUPTED, YES
from portcall.cli.options import (
    adapter_option,
    json_option,
    named_adapter,
    plan_if_sound,
    plan_that_is_there,
)
from portcall.cli.say import note, print_json, wants_json
from portcall.cli.views.tree import print_tree
from portcall.core.counted import counted
from portcall.core.sketch.layout import lay_out
from portcall.core.sketch.picture import Picture, picture_document
from portcall.core.sketch.sheet import PAPERS
from portcall.core.trouble import BadInput, NotPossibleHere
from portcall.jobs.record.reading import Looks
from portcall.jobs.sketch.sketch import picture_of, picture_of_plan
from portcall.site.files import write_whole
from portcall.site.folder import Site, this_site
from portcall.site.logbook.store import Logbook

_SUFFIXES = (".svg", ".png", ".pdf")


@click.command("sketch")
@click.argument("file", required=False, type=click.Path(dir_okay=False, path_type=Path))
@click.option("--plan", "planned", is_flag=True, help="Draw what is planned, without any look.")
@click.option("--now", is_flag=True, help="Look first, instead of taking the last look.")
@click.option(
    "--look", "words", metavar="LOOK", help='Another look: a number, yesterday, "2026-11-20 14:00".'
)
@click.option(
    "--paper", type=click.Choice(list(PAPERS)), default="a4", show_default=True, help="Lying."
)
@click.option("--overwrite", is_flag=True, help="Write over a FILE that is there.")
@adapter_option
@json_option
def sketch_command(
    file: Path | None,
    planned: bool,
    now: bool,
    words: str | None,
    paper: str,
    overwrite: bool,
) -> int:
    """Draw the site: switches, subnets, and each device with its name and address.

    FILE ends in .svg, .png or .pdf; without it, the drawing is a tree in the terminal. It shows
    the last look, held against the plan: what is planned and not there is dashed, and what is not
    planned is marked. Which port a device is plugged into is known where a switch tells it by SNMP.

    \b
    portcall sketch
    portcall sketch line.pdf --paper a3
    portcall sketch planned.pdf --plan
    """
    if file is not None:
        _check(file, overwrite)
    if (now and words is not None) or (planned and (now or words is not None)):
        raise BadInput("--now, --look or --plan: choose one")
    if named_adapter() is not None and not now:
        raise BadInput("--adapter is for --now: without that, nothing is sent")
    site = this_site()
    picture = (
        picture_of_plan(site, plan_that_is_there(site)) if planned else _seen(site, now, words)
    )
    if picture is None:
        return INTERRUPTED
    if wants_json():
        print_json({"file": str(file) if file else None, **picture_document(picture)})
    if file is None:
        if not wants_json():
            print_tree(picture)
        return YES
    from portcall.jobs.sketch.draw import drawn, measure

    sheets = lay_out(picture, PAPERS[paper], measure)
    write_whole(file, drawn(sheets, file.suffix.lower().removeprefix(".")))
    size = f"{paper.upper()}, {counted(len(sheets), 'sheet')}"
    note(f"{file}: {counted(sum(1 for _ in picture.figures()), 'device')}, {size}")
    return YES


def _seen(site: Site, now: bool, words: str | None) -> Picture | None:
    """A look held against the plan; None when Ctrl-C ended it."""
    plan = plan_if_sound(site)
    looks = Looks(Logbook(site.folder))
    meant = look_afresh(site) if now else looks.named(words or "last")
    if meant is None:
        return None
    wired = looks.with_switches(meant)
    return picture_of(site, plan, meant, wired, looks.parts_before(meant))


def _check(file: Path, overwrite: bool) -> None:
    """Before anything is sent: whether FILE can become a drawing."""
    if file.suffix.lower() not in _SUFFIXES:
        raise BadInput(f"{file}: is no name for a drawing", "end it in .svg, .png or .pdf")
    if file.exists() and not overwrite:
        raise BadInput(f"{file}: is there already", "another name, or --overwrite")
    if find_spec("matplotlib") is None:
        raise NotPossibleHere(
            "matplotlib: not installed, and needed for a drawing", "pip install 'portcall[report]'"
        )
