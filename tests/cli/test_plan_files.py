"""``plan import``, ``plan export`` and editing the plan, on files as people have them."""

import json
from concurrent.futures import ThreadPoolExecutor

import openpyxl
import pytest
import sheets
from click.testing import CliRunner

from portcall.cli.main import portcall
from portcall.core.plan.reading import parse_plan
from portcall.core.trouble import BadInput


@pytest.fixture
def site(tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    return tmp_path


def run(*words):
    return CliRunner().invoke(portcall, [*words], standalone_mode=False)


def imported(site, name, data, *options):
    """What an import says of its rows; raises what it refuses with."""
    (site / name).write_bytes(data)
    ended = run("plan", "import", name, "--yes", "--json", *options)
    if ended.exception is not None:
        raise ended.exception
    assert ended.return_value == 0
    return json.loads(ended.stdout)


def refused(site, name, data, *options):
    with pytest.raises(BadInput) as caught:
        imported(site, name, data, *options)
    assert not (site / "plan.csv").exists()
    return str(caught.value).splitlines()


def rows(document):
    return {row["name"]: row for row in document["rows"]}


def test_a_german_list_with_titles_merged_cells_and_columns_of_its_own(site):
    told = imported(site, "liste.xlsx", sheets.GERMAN)
    assert (told["sheet"], told["heading_line"], told["extra"]) == ("Adressliste", 3, ["kabel-nr."])
    fans = rows(told)
    assert [row["group"] for row in told["rows"]] == ["Trockner 2", "Trockner 2", "Förderer"]
    assert fans["Lüfter 1"]["mac"] == "02-77-B1-4C-09-21"
    assert (fans["Lüfter 1"]["gateway"], fans["Lüfter 2"]["gateway"]) == ("10.61.20.1", None)
    assert (fans["Lüfter 1"]["place"], fans["Lüfter 1"]["firmware"]) == ("+A2", "5.010")
    (first, *_) = parse_plan((site / "plan.csv").read_bytes(), "plan.csv")
    assert first.extra == (("kabel-nr.", "4711"),)


def test_delimiters_declared_or_not_and_every_encoding(site):
    told = rows(imported(site, "declared.csv", sheets.DECLARED))
    assert set(told) == {'Fan "A"', "Lüfter"}
    assert told['Fan "A"']["note"] == "two lines"
    (site / "plan.csv").unlink()
    (row,) = imported(site, "liste.txt", sheets.FRENCH)["rows"]
    assert (row["name"], row["prefix"], row["place"], row["serial"]) == (
        "ventilateur 1",
        24,
        "armoire 3",
        "0099",
    )
    (site / "plan.csv").unlink()
    chosen = ("--column", "name=Teil", "--column", "address=nummer 1", "--column", "mac=Nummer 2")
    (row,) = imported(site, "bars.csv", sheets.UNNAMED, *chosen)["rows"]
    assert (row["address"], row["mac"]) == ("10.61.20.21", "02-77-B1-4C-09-21")


def test_a_cell_far_away_costs_nothing_and_one_too_far_is_said(site):
    far = {"name": "A1", "address": "B1"}
    for place, told in (("GR60000", 1), ("GR70000", None)):
        book = openpyxl.Workbook()
        for word, at in far.items():
            book.active[at] = word
        book.active["A2"], book.active["B2"], book.active[place] = "fan", "10.61.20.5", "x"
        book.save(site / "far.xlsx")
        data = (site / "far.xlsx").read_bytes()
        if told:
            assert len(imported(site, "far.xlsx", data)["rows"]) == told
        else:
            with pytest.raises(BadInput, match="has 70000 rows and 200 columns; at most"):
                imported(site, "far.xlsx", data)


def test_a_mask_behind_the_address_and_cells_that_say_nothing(site):
    told = rows(imported(site, "ips.xlsx", sheets.MASK_BEHIND))
    assert {name: row["prefix"] for name, row in told.items()} == dict.fromkeys(told, 24)
    assert told["belt-2"]["mac"] == "02-77-B1-00-00-32"
    assert (told["belt-3"]["mac"], told["belt-1"]["gateway"]) == (None, None)


def test_lines_that_are_titles_are_passed_over_and_named(site):
    told = imported(site, "sections.csv", sheets.SECTIONS)
    assert list(rows(told)) == ["fan-1", "fan-2"]
    assert told["passed_over"] == [4, 7]
    (site / "plan.csv").unlink()
    shown = run("plan", "import", "sections.csv", "--dry-run").stdout
    assert "no rows, one cell alone: line 4 (Panel 1), 7 (Panel 2)" in shown


def test_a_heading_that_is_nearly_ours_is_kept_and_pointed_out(site):
    assert imported(site, "near.csv", sheets.NEARLY)["extra"] == ["gatway", "adress 2"]
    shown = run("plan", "import", "near.csv", "--dry-run").stdout
    assert 'gatway is nearly gateway; if it is meant: --column gateway="gatway"' in shown
    assert "the column gatway has no meaning here" in run("plan", "check").stdout


@pytest.mark.parametrize(
    ("data", "complaints"),
    [
        (
            sheets.COMMAS,
            [
                "line 2, column address: 10,61,20,21: has commas where an address has dots; "
                "write 10.61.20.21",
                "line 3, column address: 10.61.20. 22: has a space in it; write 10.61.20.22",
                "line 4, column address: 10.61.2O.23: has a letter where a digit belongs; "
                "write 10.61.20.23",
                "line 5, column address: 10.61..20.24: has a dot too many; write 10.61.20.24",
                "line 6, column address: 10.61.20.25 (new): has '(new)' behind the address",
                "line 7, column address: DHCP: is how it is given",
                "line 8, column address: fe80::1: is an IPv6 address",
            ],
        ),
        (
            sheets.NUMBERS,
            [
                "sheet List, line 2, column MAC: 277140000000",
                "sheet List, line 2, column IP: 10612021: is a number; the spreadsheet took",
                "sheet List, line 3, column Tag: 2026-04-03: is a date",
                "sheet List, line 3, column MAC: 27714000922: has 11 digits; a spreadsheet",
                "sheet List, line 4, column MAC: #N/A: is an error of the spreadsheet",
                "sheet List, line 4, column IP: 2020-06-10: is a date",
            ],
        ),
        (
            sheets.DOUBLES,
            [
                "line 3, column IP: 10.61.20.21: is on line 2 too (fan-1)",
                "line 4, column MAC: 02-77-B1-00-00-21: is on line 2 too (fan-1)",
                "line 5, column Host: FAN-1: is on line 2 too (fan-1)",
                "line 6, column IP: 10.61.20.0: is the network number of 10.61.20.0/24",
                "line 7, column Mask: 255.0.255.0: is not contiguous",
            ],
        ),
        (sheets.FORMULAS, ["line 2, column address: #FORMULA WITHOUT A RESULT!: is an error"]),
        (sheets.SHEETS, ["has addresses in several sheets, Dryer, Packing; say which: --sheet"]),
        (
            sheets.UNNAMED,
            ["no line is understood as its heading; line 1 has Teil, Nummer 1, Nummer 2"],
        ),
        (sheets.OLD, ["is an Excel file of the kind before 2007"]),
        (sheets.OPEN_DOCUMENT, ["is an OpenDocument file; save it as .xlsx"]),
        (sheets.NO_SHEET, ["is no spreadsheet"]),
        (sheets.DAMAGED, ["cannot be read as a spreadsheet"]),
        (sheets.CUT, ["is damaged"]),
        (b"\x89PNG\r\n\x1a\n\x00\x00", ["is not text"]),
        (b"IP;IP-Adresse;name\n10.61.20.1;10.61.20.2;x\n", ["IP and IP-Adresse both mean address"]),
    ],
    ids=[
        *("commas", "numbers", "doubles", "formulas", "sheets", "unnamed", "old", "opendocument"),
        *("nosheet", "damaged", "cut", "picture", "twice"),
    ],
)
def test_what_cannot_be_taken_is_refused_in_words_to_act_on(site, data, complaints):
    said = refused(site, "list", data)
    assert len(said) == len(complaints)
    for line, complaint in zip(said, complaints, strict=True):
        assert complaint in line


def test_one_of_several_sheets_and_what_the_plan_has_already(site):
    run("plan", "add", "fan-1", "10.61.20.29/24")
    told = imported(site, "s.xlsx", sheets.SHEETS, "--sheet", "packing")
    assert list(rows(told)) == ["packer"]
    told = imported(site, "s.xlsx", sheets.SHEETS, "--sheet", "dryer")
    assert (told["rows"][0]["standing"], told["written"]) == ("differs", False)
    told = imported(site, "s.xlsx", sheets.SHEETS, "--sheet", "Dryer", "--update")
    (change,) = told["changes"]
    assert (change["was"]["address"], change["is"]["address"]) == ("10.61.20.29", "10.61.20.21")
    assert imported(site, "s.xlsx", sheets.SHEETS, "--sheet", "Dryer")["written"] is False
    with pytest.raises(BadInput, match=r"10\.61\.20\.10: the plan gives it to packer"):
        imported(site, "x.csv", b"name,address\nother,10.61.20.10\n")
    with pytest.raises(BadInput, match="has none of that name; the sheets are Dryer, Packing"):
        imported(site, "s.xlsx", sheets.SHEETS, "--sheet", "Mill")


def test_an_exported_spreadsheet_has_only_texts_and_is_read_again(site):
    run("plan", "add", "=1+1", "10.61.20.21/24", "--serial", "0099", "--note", "@SUM(A1)")
    run("plan", "add", "3-4", "10.61.20.22/24", "--gateway", "10.61.20.1", "--group", "A")
    before = (site / "plan.csv").read_bytes()
    assert run("plan", "export", "plan.xlsx").return_value == 0
    page = openpyxl.load_workbook(site / "plan.xlsx").active
    cells = [cell for row in page.iter_rows(min_row=4) for cell in row if cell.value is not None]
    assert {(cell.data_type, cell.number_format) for cell in cells} == {("s", "@")}
    assert {"=1+1", "3-4", "0099", "@SUM(A1)"} <= {cell.value for cell in cells}
    assert page["A1"].value == site.name
    assert (page.freeze_panes, page.print_title_rows) == ("B5", "$4:$4")
    with pytest.raises(BadInput, match="is there already"):
        raise run("plan", "export", "plan.xlsx").exception
    with pytest.raises(BadInput, match="is the plan itself"):
        raise run("plan", "export", "plan.csv", "--overwrite").exception
    assert run("plan", "export", "out.csv", "--delimiter", "semicolon", "--bom").return_value == 0
    text = (site / "out.csv").read_bytes()
    assert text.startswith(b"\xef\xbb\xbfname;address;mask;gateway;group;serial;note\n'=1+1;")
    assert run("plan", "export", "a.json", "--group", "a").return_value == 0
    assert [row["name"] for row in json.loads((site / "a.json").read_text())["rows"]] == ["3-4"]
    for name in ("out.csv", "plan.xlsx"):
        (site / "plan.csv").unlink()
        told = imported(site, name, (site / name).read_bytes())
        assert {"=1+1", "3-4"} == set(rows(told))
    (site / "plan.csv").unlink()
    told = imported(site, "plan.xlsx", (site / "plan.xlsx").read_bytes())
    assert {name: row["serial"] for name, row in rows(told).items()} == {
        "=1+1": "0099",
        "3-4": None,
    }
    assert (
        parse_plan(before, "").devices[1].gateway
        == parse_plan((site / "plan.csv").read_bytes(), "").devices[1].gateway
    )


def test_rows_are_added_changed_and_removed_and_all_else_stays(site):
    text = b'\xef\xbb\xbfName;Address;Cable\r\nfan;10.61.20.21;"4;7"\r\n pump ;10.61.20.22;\r\n'
    (site / "plan.csv").write_bytes(text)
    said = run("plan", "set", "PUMP", "mac=02-77-B1-00-00-22", "cable=48", "place=roof").stdout
    assert (
        "pump: mac is 02-77-B1-00-00-22, was empty; place is roof, was empty; cable is 48" in said
    )
    changed = (site / "plan.csv").read_bytes()
    assert changed == text.replace(b"Cable\r", b"Cable;mac;place\r").replace(
        b" pump ;10.61.20.22;", b" pump ;10.61.20.22;48;02-77-B1-00-00-22;roof"
    )
    lines = (site / "plan-changes.jsonl").read_text().splitlines()
    begun, *entries = map(json.loads, lines)
    assert [row["name"] for row in begun["begun"]] == ["fan", "pump"]
    assert "mac" not in entries[0]["was"]
    assert entries[0]["is"]["mac"] == "02-77-B1-00-00-22"
    for words, complaint in (
        (
            ("set", "pump", "adress=10.61.20.9"),
            "adress: is no column of the plan; did you mean add",
        ),
        (("set", "pmup", "place=x"), "pmup: is not in the plan; did you mean pump"),
        (("set", "pump", "address=10.61.20.21"), "10.61.20.21: is on line 2 too"),
        (("set", "pump", "place"), "write it as KEY=VALUE"),
        (("add", "fan", "10.61.20.30"), "fan: is on line 2 too"),
        (("add", "hood", "10.61.20.30/24", "--mask", "16"), "has a mask, and mask=16 another"),
        (("remove", "fan", "pump"), "one row at least"),
    ):
        with pytest.raises(BadInput, match=complaint):
            raise run("plan", *words).exception
        assert (site / "plan.csv").read_bytes() == changed
    assert run("plan", "remove", "fan").return_value == 0
    assert (site / "plan.csv").read_bytes() == changed.replace(b'fan;10.61.20.21;"4;7"\r\n', b"")


def test_two_at_once_do_not_lose_a_row(site):
    from subprocess import run as started
    from sys import executable

    def add(n):
        words = [executable, "-m", "portcall", "plan", "add", f"fan-{n}", f"10.61.20.{n}/24"]
        return started(words, cwd=site, capture_output=True).returncode

    with ThreadPoolExecutor(6) as pool:
        assert set(pool.map(add, range(20, 26))) == {0}
    assert len(parse_plan((site / "plan.csv").read_bytes(), "").devices) == 6


def test_a_check_says_of_rows_only_what_is_so(site):
    """A row that is known by its place is served; a self-assigned address has no /24."""
    (site / "plan.csv").write_text(
        "name,address,mac,circuit\nby-place,10.61.20.5,,0x0004\nnew,10.61.20.6,,\n"
        "own,169.254.7.7,02-77-B1-00-00-01,\n"
    )
    assert run("plan", "check").output.splitlines() == [
        "plan.csv: 3 rows, no mistakes",
        "without a MAC yet, not served: new",
        "no mask in plan or site, /24 is assumed: by-place, new",
        "no mask in plan or site, /16 is assumed: own",
    ]
