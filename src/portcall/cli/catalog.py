"""``portcall catalog``."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import click
from rich.text import Text

from portcall.cli.main import NO, YES
from portcall.cli.options import (
    adapter_option,
    capture_file,
    capture_option,
    chosen_adapter,
    json_option,
    named_adapter,
    plan_if_sound,
)
from portcall.cli.say import note, print_json, wants_json
from portcall.cli.table import Columns, cell, print_rows
from portcall.core.catalog.catalog import Catalog
from portcall.core.plan.targets import parse_device
from portcall.core.trouble import BadInput
from portcall.jobs.catalog import describe
from portcall.site.catalogs import add_catalog, catalog_folder, keep_catalog, read_catalogs
from portcall.site.folder import Site, this_site


@click.group("catalog")
def catalog_command() -> None:
    """Names for what devices say only in numbers.

    A catalogue file is TOML (portcall help catalogues), or an EDS file as makers of CIP devices
    ship them.
    """


@catalog_command.command("add")
@click.argument("files", nargs=-1, type=click.Path(path_type=Path), metavar="[FILE]…")
@click.option(
    "--from",
    "device",
    metavar="DEVICE",
    help="Take the description that this CIP device carries: a planned name, a MAC, an address.",
)
@click.option("--everywhere", is_flag=True, help="Keep it for every site, not only for this one.")
@adapter_option
@capture_option
@json_option
def add_command(
    files: tuple[Path, ...],
    device: str | None,
    everywhere: bool,
) -> int:
    """Check FILE and keep it, in the site's folder; without a site, for every site.

    Many CIP devices carry their own EDS: with --from it is read from there, and nothing else is
    taken. What is not whole, or describes another product, is not kept.

    \b
    portcall catalog add gale7.eds
    portcall catalog add --from dryer-plc
    portcall catalog add makers.toml --everywhere
    """
    if bool(files) == bool(device):
        raise BadInput("give either FILE, or --from DEVICE")
    if device is None and (named_adapter() or capture_file()):
        raise BadInput(
            "--adapter and --capture go with --from DEVICE", "for a FILE nothing is sent"
        )
    site = this_site()
    folder = None if everywhere else site.folder
    if device is not None:
        return _add_from(device, site, folder)
    added = []
    for file in files:
        kept, catalog = add_catalog(file, folder)
        added.append({"file": str(file), "kept": str(kept), **_counts(catalog)})
        if not wants_json():
            counts = ", ".join(f"{n} {what}" for what, n in _counts(catalog).items() if n)
            click.echo(f"{file.name}: {counts}; kept in {kept}")
    if wants_json():
        print_json({"added": added})
    return YES


def _add_from(
    device: str,
    site: Site,
    folder: Path | None,
) -> int:
    """Keep what a device carries, by the codes that it describes: its file has no name of its own
    that one could trust."""
    plan = plan_if_sound(site)
    meant = parse_device(device, plan)
    adapter = chosen_adapter()
    found = describe(adapter, site, plan, meant, note)
    if isinstance(found, str):
        if wants_json():
            print_json({"added": [], "reason": found})
        note(found)
        return NO
    codes, source = found.codes, f"{found.name}'s own description"
    kept = keep_catalog(found.catalog, f"cip-{codes.maker}-{codes.product}", source, folder)
    maker, product = found.catalog.maker(codes), found.catalog.product(codes)
    if wants_json():
        row = {"from": found.name, "kept": str(kept), "checksum": found.is_proven}
        row |= _counts(found.catalog)
        print_json({"added": [row], "reason": None})
    elif product is not None:
        click.echo(f"{found.name}: {codes}: {maker}, {product.name}; kept in {kept}")
        if not found.is_proven:
            note(f"{found.name} tells no checksum: that it came whole, its size alone says")
    return YES


@catalog_command.command("list")
@json_option
def list_command() -> int:
    """List the known makers, products, default addresses and ports.

    \b
    portcall catalog list
    portcall catalog list --json
    """
    site = this_site()
    catalog = read_catalogs(site.folder)
    rows = _rows(catalog)
    if wants_json():
        keys = ("what", "protocol", "code", "name")
        print_json({"entries": [dict(zip(keys, row, strict=True)) for row in rows]})
        return YES if rows else NO
    if rows:
        print_rows(Columns("what", "protocol", "code", "name", shrinks="name"), rows, _cells)
    else:
        folders = {str(catalog_folder(None)), str(catalog_folder(site.folder))}
        note(f"nothing in {' or '.join(sorted(folders))}; add some: portcall catalog add FILE")
    return YES if rows else NO


def _cells(row: Sequence[str]) -> Sequence[Text]:
    return [cell(value) for value in row]


def _counts(catalog: Catalog) -> dict[str, int]:
    return {
        "makers": len(catalog.makers),
        "products": len(catalog.products),
        "defaults": len(catalog.defaults),
        "ports": len(catalog.doors),
        "instruments": len(catalog.instruments),
    }


def _rows(catalog: Catalog) -> list[tuple[str, str, str, str]]:
    rows = [
        ("maker", codes.numbering.value, str(codes.maker), name)
        for codes, name in sorted(catalog.makers.items(), key=lambda each: str(each[0]))
    ]
    rows += [
        ("product", codes.numbering.value, f"{codes.maker}, {codes.product}", product.name)
        for codes, product in sorted(catalog.products.items(), key=lambda each: str(each[0]))
    ]
    rows += [("default", "", "", str(span)) for span in catalog.defaults]
    rows += [
        ("instrument", "modbus", "", ", ".join(filter(None, (each.product, each.maker))))
        for each in catalog.instruments
    ]
    rows += [("port", "", str(port), name) for port, name in sorted(catalog.doors.items())]
    return rows
