"""Catalogue files: TOML of our own, and what is taken over from the descriptions makers ship.

``catalog/*.toml`` in the site's folder, and in the user's own data folder for all sites::

    [[makers]]
    protocol = "cip"                  # cip, dcp, bacnet or snmp
    code = 64101
    name = "Sandlark Controls"

    [[products]]
    protocol = "cip"
    maker = 64102
    code = 704
    name = "Gale 7 drive, 4 kW"
    kind = "drive"

    [[defaults]]
    addresses = "203.0.113.40-49"     # where devices of some maker start

    [[ports]]
    port = 9100
    name = "feeder console"

    [[instruments]]                   # read by ``instruments``
"""

from __future__ import annotations

import os
from pathlib import Path
from typing import Any

from platformdirs import user_data_path

from portcall.core.address import AddressError, AddressRange, parse_range
from portcall.core.catalog.carried import LONGEST, eds_text
from portcall.core.catalog.catalog import Catalog, Codes, Numbering, Product
from portcall.core.catalog.eds import parse_eds
from portcall.core.printable import printable
from portcall.core.trouble import BadInput, NotPossibleHere
from portcall.site.files import make_folder, read_bounded, write_whole
from portcall.site.instruments import as_table, read_instruments
from portcall.site.toml_text import parse_toml

FOLDER = "catalog"
_LONGEST_FILE = LONGEST
_HIGHEST_CODE = 2**32 - 1

DATA_VARIABLE = "PORTCALL_DATA"
"""The environment variable that names another folder for what is the user's own."""


def catalog_folder(site: Path | None) -> Path:
    """Where catalogue files are kept: in the site, or for the user everywhere."""
    if site is not None:
        return site / FOLDER
    named = os.environ.get(DATA_VARIABLE)
    return (Path(named) if named else user_data_path("portcall", appauthor=False)) / FOLDER


def read_catalogs(site: Path | None) -> Catalog:
    """The user's catalogue, and the site's, which is right where they differ. Raises BadInput."""
    found = Catalog()
    for folder in dict.fromkeys((catalog_folder(None), catalog_folder(site))):
        if folder.is_dir():
            for path in sorted(folder.glob("*.toml")):
                found = found.with_all_of(read_catalog(path))
    return found


def read_catalog(path: Path) -> Catalog:
    """One file, TOML or EDS by what is in it. Raises BadInput, NotPossibleHere."""
    data = read_bounded(path, _LONGEST_FILE, "description")
    if path.suffix.lower() != ".toml":
        return parse_eds(eds_text(data, path.name), path.name)
    return _Reading(path.name).catalog(parse_toml(data, str(path)))


def add_catalog(path: Path, site: Path | None) -> tuple[Path, Catalog]:
    """Check a file and keep it as TOML; gives where, and what it says. Raises as reading does.

    What is kept under that name is replaced by what says at least as much, and by nothing else:
    makers like to call their files alike.
    """
    added = read_catalog(path)
    if not added.entries:
        raise BadInput(
            f"{path.name}: says nothing: no makers, products, defaults, ports or instruments in it"
        )
    return keep_catalog(added, path.stem, path.name, site), added


def keep_catalog(added: Catalog, stem: str, source: str, site: Path | None) -> Path:
    """Keep a catalogue as ``stem``.toml; gives where. Raises BadInput, NotPossibleHere.

    ``source`` is what it is called in messages, and in the file.
    """
    folder = catalog_folder(site)
    kept = folder / f"{stem}.toml"
    if kept.exists() and (lost := read_catalog(kept).entries - added.entries):
        entries = "an entry" if len(lost) == 1 else f"{len(lost)} entries"
        raise BadInput(
            f"{source}: {kept} is kept under that name and has {entries} that this one has not",
            "add it under another name, or remove that one first",
        )
    try:
        make_folder(folder)
        write_whole(kept, _as_toml(added, source).encode())
    except OSError as error:
        raise NotPossibleHere(f"{kept}: cannot be written: {error.strerror}") from None
    return kept


def _as_toml(catalog: Catalog, source: str) -> str:
    import tomlkit

    document = tomlkit.document()
    document.add(tomlkit.comment(f"from {source}"))
    tables: dict[str, list[dict[str, Any]]] = {
        "makers": [
            {"protocol": codes.numbering.value, "code": codes.maker, "name": name}
            for codes, name in catalog.makers.items()
        ],
        "products": [
            {
                "protocol": codes.numbering.value,
                "maker": codes.maker,
                "code": codes.product,
                "name": product.name,
                **({"kind": product.kind} if product.kind else {}),
            }
            for codes, product in catalog.products.items()
        ],
        "defaults": [{"addresses": str(span)} for span in catalog.defaults],
        "ports": [{"port": port, "name": name} for port, name in catalog.doors.items()],
        "instruments": [as_table(each) for each in catalog.instruments],
    }
    for name, entries in tables.items():
        if entries:
            array = tomlkit.aot()
            for entry in entries:
                array.append(tomlkit.item(entry))
            document.add(name, array)
    return tomlkit.dumps(document)


class _Reading:
    """Reads tables, naming file, table and key in every complaint."""

    def __init__(self, source: str) -> None:
        self._source = source

    def catalog(self, tables: dict[str, Any]) -> Catalog:
        known = ("makers", "products", "defaults", "ports", "instruments")
        for key, entries in tables.items():
            if key not in known:
                raise BadInput(f"{self._source}: {key}: is none of {', '.join(known)}")
            good = isinstance(entries, list) and all(isinstance(e, dict) for e in entries)
            if not good:
                raise BadInput(
                    f"{self._source}: {key}: is not a list of tables", f"write [[{key}]]"
                )
        makers: dict[Codes, str] = {}
        products: dict[Codes, Product] = {}
        for entry in tables.get("makers", ()):
            code = self._number(entry, "makers", "code")
            makers[Codes(self._protocol(entry, "makers"), code)] = self._text(
                entry, "makers", "name"
            )
        for entry in tables.get("products", ()):
            codes = Codes(
                self._protocol(entry, "products"),
                self._number(entry, "products", "maker"),
                self._number(entry, "products", "code"),
            )
            kind = self._text(entry, "products", "kind") if "kind" in entry else ""
            products[codes] = Product(self._text(entry, "products", "name"), kind)
        defaults = tuple(self._range(entry) for entry in tables.get("defaults", ()))
        ports = {
            self._number(entry, "ports", "port", 65535): self._text(entry, "ports", "name")
            for entry in tables.get("ports", ())
        }
        instruments = read_instruments(tables.get("instruments", []), self._source)
        return Catalog(makers, products, defaults, ports, tuple(instruments))

    def _wrong(self, table: str, key: str, what: str) -> BadInput:
        return BadInput(f"{self._source}: {table}: {key}: {what}")

    def _protocol(self, entry: dict[str, Any], table: str) -> Numbering:
        value = entry.get("protocol")
        for numbering in Numbering:
            if numbering.value == value:
                return numbering
        shown = printable(repr(value), 40)
        raise self._wrong(table, "protocol", f"{shown} is none of {', '.join(Numbering)}")

    def _number(
        self, entry: dict[str, Any], table: str, key: str, highest: int = _HIGHEST_CODE
    ) -> int:
        value = entry.get(key)
        if type(value) is not int or not 0 <= value <= highest:
            shown = printable(repr(value), 40)
            raise self._wrong(table, key, f"{shown} is not a number to {highest}")
        return value

    def _text(self, entry: dict[str, Any], table: str, key: str) -> str:
        value = entry.get(key)
        if not isinstance(value, str) or not printable(value, 60):
            raise self._wrong(table, key, f"{printable(repr(value), 40)} is not a text in quotes")
        return printable(value, 60)

    def _range(self, entry: dict[str, Any]) -> AddressRange:
        text = self._text(entry, "defaults", "addresses")
        try:
            return parse_range(text)
        except AddressError as error:
            raise self._wrong("defaults", "addresses", str(error)) from None
