"""Lists that planners send: each is taken as it is meant, or asked about; none is misread."""

import io
import json

import openpyxl
import pytest
from click.testing import CliRunner
from openpyxl.styles import Font

from portcall.cli.main import portcall
from portcall.core.trouble import BadInput


@pytest.fixture
def site(tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    return tmp_path


def run(*words):
    return CliRunner().invoke(portcall, [*words], standalone_mode=False)


def taken(site, name, data, *options):
    """The rows that an import writes, as the plan has them then."""
    (site / name).write_bytes(data)
    ended = run("plan", "import", name, "--yes", "--json", *options)
    if ended.exception is not None:
        raise ended.exception
    keys = ("name", "address", "prefix", "mac", "serial", "firmware", "extra")
    preview = [[row[key] for key in keys] for row in json.loads(ended.stdout)["rows"]]
    written = json.loads(run("plan", "show", "--json").stdout)["rows"]
    # The preview shows the very rows that are written.
    assert preview == [[row[key] for key in keys] for row in written]
    return written


def sheet(*rows, edit=None):
    book = openpyxl.Workbook()
    for row in rows:
        book.active.append(list(row))
    if edit is not None:
        edit(book.active)
    saved = io.BytesIO()
    book.save(saved)
    return saved.getvalue()


def strike(page):
    for cell in page[3]:
        cell.font = Font(strike=True)


def hide_c(page):
    page.column_dimensions["C"].hidden = True


def zeros(page):
    page["C2"].number_format = "000000"


PLAIN = "name;address\nfan;10.61.20.21\n"
FANS = (("name", "address"), ("fan", "10.61.20.21"), ("pump", "10.61.20.22"))

ASKED = {
    "eleven behind the address is a port": (
        "l.csv",
        b"name,address\nfan,192.168.1.10/11\n",
        "/11 would be a mask with 2,097,152 addresses",
    ),
    "a number in brackets": ("l.csv", b"name,address\nfan,192.168.1.10 (2)\n", "has '(2)' behind"),
    "a port behind the address": ("l.csv", b"name,address\nfan,10.61.20.21:502\n", "':502' behind"),
    "old and new": (
        "l.csv",
        b"name;IP;neue IP;new IP\nfan;10.61.20.21;;10.61.21.21\n",
        "IP and new IP both mean address",
    ),
    "the one that is hidden": (
        "l.xlsx",
        sheet(("name", "place", "IP"), ("fan", "A1", "10.61.20.21"), edit=hide_c),
        "IP means address, and nobody sees it",
    ),
    "a VLAN that is called subnet": (
        "l.csv",
        b"name;IP;Subnetz\nfan;10.61.20.21;20\npump;10.61.20.22;24\n",
        "may be the length of a mask or the number of a VLAN",
    ),
    "a row that is struck through": (
        "l.xlsx",
        sheet(*FANS, edit=strike),
        "line 3: is struck through; to leave it out: --leave 3",
    ),
    "a serial number with an exponent": (
        "l.csv",
        b"name;address;S/N\nfan;10.61.20.21;7,71421E+11\n",
        "column S/N: 7,71421E+11: is a number that the spreadsheet has rounded",
    ),
    "a serial number of eighteen digits": (
        "l.xlsx",
        sheet(("name", "address", "serial"), ("fan", "10.61.20.21", 123456789012345678.0)),
        "is a number that the spreadsheet has rounded",
    ),
    "a firmware that became a date": (
        "l.csv",
        b"name;address;FW\nfan;10.61.20.21;2025-05-02\n",
        "column FW: 2025-05-02: is a date",
    ),
    "a row that stands twice": (
        "l.csv",
        b"name;address\nfan;10.61.20.21\npump;10.61.20.22\nfan;10.61.20.21\n",
        "line 4: says the same as line 2; to leave it out: --leave 4",
    ),
    "a footer": (
        "l.csv",
        "Gerät;IP;Ort\nfan;10.61.20.21;A1\nGeprüft: Meier;;27.11.2026\n".encode(),
        "line 3: 'Geprüft: Meier' looks like a footer and no row; to leave it out: --leave 3",
    ),
    "German of an old program": (
        "l.csv",
        "Gerät;IP\nLüfter;10.61.20.21\n".encode("cp850"),
        "a word in it is Gerät (cp850); say which: --encoding NAME",
    ),
    "Polish": ("l.csv", "nazwa;adres\nprzenośnik wał;10.61.20.21\n".encode("cp1250"), "(cp1250)"),
    "Russian": ("l.csv", "name;IP\nНасос;10.61.20.21\n".encode("cp1251"), "Насос (cp1251)"),
    "a Mac's": ("l.csv", "Gerät;IP\nLüfter;10.61.20.21\n".encode("mac-roman"), "(mac-roman)"),
    "Japanese": ("l.csv", "name;IP\nポンプ一;10.61.20.21\n".encode("cp932"), "not sure"),
    "Chinese": ("l.csv", "name;IP\n水泵一;10.61.20.21\n".encode("gbk"), "not sure"),
}


@pytest.mark.parametrize("what", ASKED)
def test_what_can_mean_two_things_is_asked(site, what):
    name, data, sentence = ASKED[what]
    with pytest.raises(BadInput) as asked:
        taken(site, name, data)
    assert len(str(asked.value).splitlines()) == 1, asked.value
    assert sentence in str(asked.value)
    assert not (site / "plan.csv").exists()


ROWS = {
    "what was asked of the VLAN, as a mask": (
        *("l.csv", b"name;IP;Subnetz\nfan;10.61.20.21;24\n", ("--column", "mask=Subnetz")),
        [("fan", "10.61.20.21/24")],
    ),
    "and as what it is": (
        *("l.csv", b"name;IP;Subnetz\nfan;10.61.20.21;20\n", ("--keep", "Subnetz")),
        [("fan", "10.61.20.21/24")],
    ),
    "the hidden one, when it is meant": (
        "l.xlsx",
        sheet(("name", "place", "IP"), ("fan", "A1", "10.61.20.21"), edit=hide_c),
        ("--column", "address=IP"),
        [("fan", "10.61.20.21/24")],
    ),
    "the struck one left out": (
        *("l.xlsx", sheet(*FANS, edit=strike), ("--leave", "3")),
        [("fan", "10.61.20.21/24")],
    ),
    "the struck one meant": (
        *("l.xlsx", sheet(*FANS, edit=strike), ("--struck",)),
        [("fan", "10.61.20.21/24"), ("pump", "10.61.20.22/24")],
    ),
    "the footer left out": (
        "l.csv",
        "Gerät;IP\nfan;10.61.20.21\nGeprüft: Meier;\nStand: heute;\n".encode(),
        ("--leave", "3-4"),
        [("fan", "10.61.20.21/24")],
    ),
    "the old program's German": (
        *("l.csv", "Gerät;IP\nLüfter;10.61.20.21\n".encode("cp850"), ("--encoding", "cp850")),
        [("Lüfter", "10.61.20.21/24")],
    ),
    "the usual German": (
        *("l.csv", 'Gerät;IP\nLüfter-Süd ½";10.61.20.21\n'.encode("cp1252"), ()),
        [('Lüfter-Süd ½"', "10.61.20.21/24")],
    ),
    "the usual French and Spanish": (
        *("l.csv", "nom;adresse\nmoteur n° 3 à côté;10.61.20.21\n".encode("cp1252"), ()),
        [("moteur n° 3 à côté", "10.61.20.21/24")],
    ),
    "commas in remarks": (
        "l.csv",
        b"name;address;note\nfan;10.61.20.21;left, below, old, dusty\npump;10.61.20.22;a, b, c\n",
        (),
        [("fan", "10.61.20.21/24"), ("pump", "10.61.20.22/24")],
    ),
    "German headings": (
        "l.csv",
        "Benennung;IP-Adresse;Präfix;HW-Adresse\nfan;10.61.20.21;25;02-77-B1-00-00-21\n".encode(),
        (),
        [("fan", "10.61.20.21/25")],
    ),
    "a mask in words": (
        "l.csv",
        b"name;IP;Netzwerkmaske\nfan;10.61.20.21;255.255.255.128\n",
        (),
        [("fan", "10.61.20.21/25")],
    ),
    "a mask behind the address": (
        *("l.csv", b"name;IP\nfan;10.61.20.21/25\npump;10.61.20.22 255.255.255.0\n", ()),
        [("fan", "10.61.20.21/25"), ("pump", "10.61.20.22/24")],
    ),
    "a large plant's mask": (
        *("l.csv", b"name;IP\nfan;10.61.20.21/8\n", ()),
        [("fan", "10.61.20.21/8")],
    ),
    "tabs": ("l.csv", b"name\taddress\nfan\t10.61.20.21\n", (), [("fan", "10.61.20.21/24")]),
    "UTF-16": ("l.csv", PLAIN.encode("utf-16"), (), [("fan", "10.61.20.21/24")]),
    "zeros in front by a format": (
        "l.xlsx",
        sheet(("name", "address", "serial"), ("fan", "10.61.20.21", 4711), edit=zeros),
        (),
        [("fan", "10.61.20.21/24")],
    ),
}


@pytest.mark.parametrize("what", ROWS)
def test_what_is_certain_or_was_answered_is_taken_as_it_is_meant(site, what):
    name, data, options, wanted = ROWS[what]
    rows = taken(site, name, data, *options)
    assert [(row["name"], f"{row['address']}/{row['prefix']}") for row in rows] == wanted
    if "zeros" in what:
        assert b"004711" in (site / "plan.csv").read_bytes()
    if "what it is" in what:
        assert b"subnetz" in (site / "plan.csv").read_bytes().lower()


def test_an_assumed_mask_and_a_hidden_column_are_said_and_a_heading_alone_is_a_plan(site):
    (site / "l.csv").write_text(PLAIN)
    assert "/24 is assumed: fan" in run("plan", "import", "l.csv", "--dry-run").stdout
    hidden = sheet(("name", "address", "place"), ("fan", "10.61.20.21", "A1"), edit=hide_c)
    (site / "h.xlsx").write_bytes(hidden)
    shown = run("plan", "import", "h.xlsx", "--dry-run").stdout
    assert "hidden in the sheet, and read all the same: place" in shown
    for data in (b"name;address\n", b"name,address,mac\n"):
        (site / "plan.csv").write_bytes(data)
        assert run("plan", "check").return_value == 0
        assert "0 rows, no mistakes" in run("plan", "check").stdout
    with pytest.raises(BadInput, match="is no encoding"):
        taken(site, "l.csv", "name;IP\nLüfter;10.61.20.21\n".encode("cp850"), "--encoding", "x9")
    with pytest.raises(BadInput, match="lines are written as 7,12-14"):
        taken(site, "l.csv", PLAIN.encode(), "--leave", "9-2")
