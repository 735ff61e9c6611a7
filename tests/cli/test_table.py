"""What is printed: tables that fit, lists that are long, texts that devices chose."""

import contextlib
import csv
import io
import json
import re
from ipaddress import IPv4Address, IPv6Address

from hypothesis import given
from hypothesis import strategies as st
from rich.cells import cell_len
from rich.console import Console

from portcall import __version__
from portcall.cli import table
from portcall.cli.say import print_json_list
from portcall.cli.table import Columns, Remark, cell, print_lines, print_rows, shortened
from portcall.cli.views.devices import Found, addresses, print_csv, print_found
from portcall.core.address import Mac
from portcall.core.find.devices import Gathering
from portcall.core.find.sentences import NOT_PLANNED
from portcall.core.find.sighting import Field, Method, Said, Sighting
from portcall.core.finding import Line, Name
from portcall.core.record.look import device_document
from portcall.site.folder import Site


def mac(number):
    return Mac(b"\x02\x77" + number.to_bytes(4, "big"))


def found(count=1, own=(), **said):
    gathering = Gathering()
    for number in range(count):
        values = tuple(Said(Field(field), text, Method.CIP) for field, text in said.items())
        address = IPv4Address(0x0A3D1400 + number)
        gathering.add(Sighting(0.0, Method.CIP, mac(number), address, values))
    return Found(gathering, own or None, Site())


def test_columns_that_say_nothing_are_left_out_and_addresses_sort_as_numbers(capsys):
    print_found(found(12, product="Gale 7"))
    lines = capsys.readouterr().out.splitlines()
    assert lines[0].split() == ["ADDRESS", "MAC", "NAME", "WHAT"]
    assert lines[1] == "10.61.20.0/24, mask assumed: 12 devices"
    assert [line.split()[0] for line in lines[2:]] == [f"10.61.20.{n}" for n in range(12)]
    print_found(found(1, product="Gale 7", serial="77B10921", place="panel A2"))
    header = capsys.readouterr().out.splitlines()[0].split()
    assert header == ["ADDRESS", "MAC", "NAME", "WHAT", "SERIAL", "PLACE"]


def test_a_long_list_is_one_table_whose_columns_stay_in_line(capsys):
    print_found(found(1203, product="Gale 7"))
    lines = capsys.readouterr().out.splitlines()
    rows = [line for line in lines if "02-77" in line]
    assert len(rows) == 1203
    assert len({re.search("02-77", line).start() for line in rows}) == 1
    assert sum("ADDRESS" in line for line in lines) == 1


def test_no_column_is_left_out_that_fits_and_the_rest_is_told(monkeypatch, capsys):
    columns = Columns("name", "what", "serial", "place", drops=("serial", "place"), shrinks="what")
    rows = [("fan-drive-1", "Gale 7 drive, 4 kW, with a brake resistor", "77B10921" * 3, "A1")]

    def shown(width):
        monkeypatch.setattr(table, "console", lambda wide=False: Console(width=width))
        left_out = print_rows(columns, rows, lambda row: [cell(each) for each in row])
        header, line = capsys.readouterr().out.splitlines()
        return header.split(), line, left_out

    assert shown(100)[::2] == (["NAME", "WHAT", "SERIAL", "PLACE"], [])
    # Too narrow for the serial number, and wide enough for what comes after it.
    header, line, left_out = shown(60)
    assert (header, left_out) == (["NAME", "WHAT", "PLACE"], ["serial"])
    assert "Gale 7 drive, 4 kW, with a brake…" in line
    header, line, left_out = shown(40)
    assert (header, left_out) == (["NAME", "WHAT"], ["serial", "place"])
    assert line.rstrip().endswith("Gale 7 drive, 4 kW, with a…")


@given(st.text(st.characters(codec="latin-1", exclude_categories=("C",))), st.integers(8, 40))
def test_a_text_is_cut_to_its_room_and_never_within_a_short_word(text, width):
    if cell_len(text) <= width:
        return
    cut = shortened(text, width)
    assert cell_len(cut) <= width
    assert cut.endswith("…")
    assert text.startswith(cut[:-1])


def test_into_a_file_a_sentence_is_one_line(capsys, monkeypatch):
    monkeypatch.delenv(table.WIDTH_VARIABLE, raising=False)
    print_lines([Remark("word " * 100)])
    assert len(capsys.readouterr().out.splitlines()) == 1


def test_a_line_to_type_is_never_broken_and_words_neither(monkeypatch, capsys):
    monkeypatch.setattr(table, "console", lambda wide=False: Console(width=40))
    monkeypatch.setenv(table.WIDTH_VARIABLE, "40")
    move = Line("move", Name("one"), Name("two"), Name("three"))
    address = IPv4Address("203.0.113.40")
    match = Line("match", address, "--replace", "--adapter", Name("usb0"))
    print_lines(
        [
            Remark("3 planned devices are not where the plan has them", line=move),
            Remark("", line=match),
        ]
    )
    assert capsys.readouterr().out.splitlines() == [
        "3 planned devices are not where the plan",
        "has them:",
        "portcall move one two three",
        "portcall match 203.0.113.40 --replace --adapter usb0",
    ]


def test_an_ipv6_address_is_shown_where_there_is_no_other():
    gathering = Gathering()
    gathering.add(Sighting(0.0, Method.IPV6, mac(1), ipv6=IPv6Address("fe80::7")))
    (device,) = gathering.devices()
    assert addresses(device) == "fe80::7"
    for number in range(5):
        gathering.add(Sighting(0.0, Method.ARP, mac(1), IPv4Address(number + 9)))
    (device,) = gathering.devices()
    assert addresses(device) == "0.0.0.9, 0.0.0.10 and 3 more"


def test_no_cell_of_csv_is_a_formula_to_a_spreadsheet(capsys):
    print_csv(found(1, name="=cmd|' /C calc'!A0", place="@SUM(A1)", product='a "b", c'))
    header, row = csv.reader(io.StringIO(capsys.readouterr().out))
    cells = dict(zip(header, row, strict=True))
    assert cells["name"] == "'=cmd|' /C calc'!A0"
    assert cells["place"] == "'@SUM(A1)"
    assert cells["product"] == 'a "b", c'


values = st.recursive(
    st.none() | st.booleans() | st.integers() | st.text(),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.text(), inner, max_size=3),
    max_leaves=6,
)


@given(st.lists(values, max_size=4), st.dictionaries(st.text(min_size=1), values, min_size=1))
def test_a_list_printed_piece_by_piece_is_the_document_it_would_be_whole(entries, tail):
    tail = {f"t{key}": value for key, value in tail.items()}
    out = io.StringIO()
    with contextlib.redirect_stdout(out):
        print_json_list({"adapter": "usb0"}, "devices", iter(entries), tail)
    whole = {"adapter": "usb0", "devices": entries, **tail}
    printed = json.loads(out.getvalue())
    head = {name: printed.pop(name) for name in ("portcall", "at", "site")}
    assert printed == whole
    assert head["portcall"] == __version__


def test_a_document_has_the_agreed_keys_with_null_for_what_is_not_known():
    shown = found(1, product="Gale 7")
    made = device_document(shown.devices[0], (NOT_PLANNED(),))
    assert made["product"] == "Gale 7"
    assert made["maker"] is made["serial"] is made["firmware"] is made["name"] is None
    assert (made["methods"], made["remarks"]) == (["cip"], ["not in the plan"])
