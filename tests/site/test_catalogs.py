"""Catalogue files: read, merged, kept as TOML, and refused with file, table and key."""

import time

import pytest

from portcall.core.catalog.catalog import Codes, Numbering, Product
from portcall.core.catalog.eds import parse_eds
from portcall.core.trouble import BadInput, NotPossibleHere
from portcall.plant.scenario import read_scenario
from portcall.site import catalogs
from portcall.site.catalogs import add_catalog, catalog_folder, read_catalog, read_catalogs
from portcall.site.folder import find_site

WHOLE = """
[[makers]]
protocol = "snmp"
code = 64130
name = "Dunlin Networks"
[[products]]
protocol = "cip"
maker = 64102
code = 704
name = "Gale 7 drive, 4 kW"
kind = "drive"
[[defaults]]
addresses = "203.0.113.40-49"
[[ports]]
port = 9100
name = "feeder console"
"""


@pytest.fixture
def everywhere(tmp_path, monkeypatch):
    """The user's own data folder, which is not the developer's."""
    folder = tmp_path / "everywhere"
    monkeypatch.setattr(catalogs, "user_data_path", lambda *args, **options: folder)
    return folder


def write(path, text):
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_text(text)
    return path


def test_a_file_says_makers_products_defaults_and_ports(tmp_path):
    catalog = read_catalog(write(tmp_path / "own.toml", WHOLE))
    assert catalog.maker(Codes(Numbering.SNMP, 64130, 3)) == "Dunlin Networks"
    drive = Codes(Numbering.CIP, 64102, 704)
    assert catalog.product(drive) == Product("Gale 7 drive, 4 kW", "drive")
    assert [str(span) for span in catalog.defaults] == ["203.0.113.40-203.0.113.49"]
    assert catalog.all_doors[9100] == "feeder console"
    assert catalog.all_doors[502] == "Modbus"


def test_what_is_added_is_kept_and_reads_back_the_same(tmp_path, everywhere):
    source = write(tmp_path / "own.toml", WHOLE)
    site = tmp_path / "site"
    kept, added = add_catalog(source, site)
    assert kept == site / "catalog" / "own.toml"
    assert read_catalog(kept) == added == read_catalog(source)
    # The user's catalogue holds everywhere; where the site's differs, that is right.
    write(catalog_folder(None) / "all.toml", WHOLE.replace("Dunlin", "Other"))
    assert read_catalogs(None).maker(Codes(Numbering.SNMP, 64130)) == "Other Networks"
    assert read_catalogs(site).maker(Codes(Numbering.SNMP, 64130)) == "Dunlin Networks"


def test_an_eds_becomes_a_catalogue_file(tmp_path, everywhere):
    eds = (
        '[Device] VendCode=64101; VendName="Sandlark"; ProdCode=40; ProdName="Skerry 40 \x1b[31m";'
    )
    kept, _ = add_catalog(write(tmp_path / "Skerry40.eds", eds), None)
    assert kept == everywhere / "catalog" / "Skerry40.toml"
    assert read_catalogs(None).product(Codes(Numbering.CIP, 64101, 40)) == Product("Skerry 40 [31m")


def test_a_newer_file_replaces_the_kept_one_but_another_of_that_name_does_not(tmp_path, everywhere):
    eds = '[Device] VendCode=64101; VendName="Sandlark"; ProdCode={}; ProdName="{}";'
    add_catalog(write(tmp_path / "device.eds", eds.format(40, "Skerry 40")), None)
    kept, _ = add_catalog(write(tmp_path / "device.eds", eds.format(40, "Skerry 40 B")), None)
    assert read_catalog(kept).product(Codes(Numbering.CIP, 64101, 40)) == Product("Skerry 40 B")
    with pytest.raises(BadInput, match=r"device.eds: .*device.toml is kept .* has an entry"):
        add_catalog(write(tmp_path / "device.eds", eds.format(41, "Skerry 41")), None)
    assert read_catalog(kept).product(Codes(Numbering.CIP, 64101, 40)) == Product("Skerry 40 B")


@pytest.mark.parametrize(
    ("change", "complaint"),
    [
        (('"snmp"', '"smoke"'), "own.toml: makers: protocol: 'smoke' is none of cip, dcp, bacnet"),
        (("64130", "-1"), "own.toml: makers: code: -1 is not a number to 4294967295"),
        (("64130", '"64130"'), "makers: code: '64130' is not a number"),
        (("704", "true"), "products: code: True is not a number"),
        (('"Dunlin Networks"', "5"), "makers: name: 5 is not a text in quotes"),
        (('"Dunlin Networks"', '""'), "makers: name: '' is not a text in quotes"),
        (("203.0.113.40-49", "203.0.113.300"), "defaults: addresses: 203.0.113.300: octet 4"),
        (("9100", "70000"), "ports: port: 70000 is not a number to 65535"),
        (("[[ports]]", "[[doors]]"), "doors: is none of makers, products, defaults, ports"),
        (("[[ports]]", "[ports]"), "ports: is not a list of tables; write [[ports]]"),
        (("[[ports]]", "[[ports"), "is not TOML"),
    ],
)
def test_a_wrong_file_is_named_with_table_and_key_and_not_kept(
    tmp_path, everywhere, change, complaint
):
    source = write(tmp_path / "own.toml", WHOLE.replace(*change, 1))
    with pytest.raises(BadInput) as refused:
        add_catalog(source, tmp_path / "site")
    assert complaint in str(refused.value)
    assert not (tmp_path / "site").exists()


def test_files_that_are_empty_missing_or_huge_are_refused(tmp_path, everywhere, monkeypatch):
    with pytest.raises(BadInput, match="says nothing"):
        add_catalog(write(tmp_path / "empty.toml", ""), None)
    with pytest.raises(NotPossibleHere, match="cannot be read"):
        add_catalog(tmp_path / "missing.eds", None)
    monkeypatch.setattr(catalogs, "_LONGEST_FILE", 100)
    with pytest.raises(BadInput, match="larger than any description"):
        add_catalog(write(tmp_path / "own.toml", WHOLE), None)


@pytest.mark.parametrize(
    ("text", "complaint"),
    [
        ("a = " + "[" * 50_000 + "]" * 50_000, "nested more than 8 deep"),
        ("a = " + "{b = " * 50_000 + "1" + "}" * 50_000, "nested more than 8 deep"),
        ("[[makers]]\nname" + ".a" * 20_000 + " = 1", "nested more than 8 deep"),
        ("[[ports]]\nport = " + "9" * 100_000, "a number of thousands of digits"),
        ("# " + "x" * 2_000_000, "is longer than 1,000,000 octets"),
    ],
    ids=["lists", "inline tables", "dotted keys", "digits", "length"],
)
def test_a_hostile_file_is_refused_in_a_sentence_and_soon(tmp_path, everywhere, text, complaint):
    path = tmp_path / "maker.toml"
    path.write_text(text)
    for read in (read_catalog, lambda path: read_scenario(path)):
        with pytest.raises(BadInput, match=complaint):
            read(path)
    (tmp_path / "site.toml").write_text(text)
    with pytest.raises(BadInput, match=complaint):
        find_site(tmp_path)


def test_an_eds_of_brackets_takes_no_longer_than_one_of_letters(tmp_path, everywhere):
    """Every bracket had all before it looked at again: 30 seconds for these."""

    def seconds(text):
        began = time.process_time()
        with pytest.raises(BadInput, match="no EDS"):
            parse_eds(text, "maker.eds")
        return time.process_time() - began

    for text in ("x" + "]" * 300_000, "[" * 300_000, "a[b]" * 75_000):
        assert seconds(text) < 20 * seconds("x" * 300_000) + 0.5
