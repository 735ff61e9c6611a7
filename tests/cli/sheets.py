"""Lists of addresses as people have them: all made up, each with something that people do."""

from datetime import datetime
from io import BytesIO
from zipfile import ZipFile

import openpyxl


def workbook(sheets, merged=(), formats=()):
    """The octets of a workbook: rows by sheet; ``formats`` are number formats of cells."""
    book = openpyxl.Workbook()
    book.remove(book.active)
    for title, rows in sheets.items():
        page = book.create_sheet(title)
        for row in rows:
            page.append(row)
        for span in merged:
            page.merge_cells(span)
        for cell, shown_as in formats:
            page[cell].number_format = shown_as
    saved = BytesIO()
    book.save(saved)
    return saved.getvalue()


def zipped(**files):
    saved = BytesIO()
    with ZipFile(saved, "w") as packed:
        for name, text in files.items():
            packed.writestr(name.replace("__", "/").replace("_xml", ".xml"), text)
    return saved.getvalue()


GERMAN = workbook(
    {
        "Adressliste": [
            ["Tangmühle Tern Point", None, "Stand 12.11."],
            [],
            [
                "Anlage",
                "Bezeichnung",
                "IP-Adresse",
                "Subnetzmaske",
                "MAC-Adresse (Etikett)",
                "Standard-Gateway",
                "Einbauort",
                "Kabel-Nr.",
                "Firmwarestand",
            ],
            [
                "Trockner 2",
                "Lüfter 1",
                "10.61.20.21",
                "255.255.255.0",
                "0277.b14c.0921",
                "10.61.20.1",
                "+A2",
                4711,
                5.01,
            ],
            [
                None,
                "Lüfter 2",
                "10.61.20.22",
                "255.255.255.0",
                "02 77 B1 4C 0E 53",
                "-",
                "+A2",
                4712,
            ],
            [
                "Förderer",
                "Band 1",
                "10.61.20.23",
                "255.255.255.0",
                "0277B16113A4",
                None,
                "+A3",
                None,
            ],
        ]
    },
    merged=["A4:A5"],
    formats=[("I4", "0.000")],
)

DECLARED = (
    'sep=;\r\nTag;IP;MAC;Remark\r\n"Fan ""A""";10.61.20.21;02-77-B1-4C-09-21;"two\r\nlines"\r\n'
    "Lüfter;10.61.20.22;;\r\n"
).encode("cp1252")

MASK_BEHIND = workbook(
    {
        "IPs": [
            ["Device name", "IP address\n(planned)", "MAC ID", "Router"],
            ["belt-1", "10.61.20.31/24", "02:77:b1:00:00:31", "n/a"],
            ["belt-2", "10.61.20.32 255.255.255.0", "02–77–B1–00–00–32", "10.61.20.1"],
            ["belt-3", "10.61.20.33 / 24", "TBD", None],
        ]
    }
)

COMMAS = (
    b"name;address\nfan-1;10,61,20,21\nfan-2;10.61.20. 22\nfan-3;10.61.2O.23\nfan-4;10.61..20.24\n"
    b"fan-5;10.61.20.25 (new)\nfan-6;DHCP\nfan-7;fe80::1\n"
)

NUMBERS = workbook(
    {
        "List": [
            ["Tag", "IP", "MAC"],
            ["fan-1", 10612021, 277140000000.0],
            [datetime(2026, 4, 3), "10.61.20.22", 27714000922],
            ["fan-3", datetime(2020, 6, 10), "#N/A"],
        ]
    }
)

SHEETS = workbook(
    {
        "Dryer": [["name", "address"], ["fan-1", "10.61.20.21"]],
        "Packing": [["name", "address"], ["packer", "10.61.20.10"]],
        "Notes": [["ask the electrician"]],
    }
)

NEARLY = b"name,address,gatway,adress 2\nfan-1,10.61.20.21,10.61.20.1,x\n"

FRENCH = (
    "Repère\tAdresse IP\tMasque de sous-réseau\tPasserelle par défaut\tArmoire\tN° de série\n"
    "ventilateur 1\t10.61.20.21\t255.255.255.0\t10.61.20.1\tarmoire 3\t0099\n"
).encode("utf-16")

UNNAMED = b"Teil|Nummer 1|Nummer 2\nfan-1|10.61.20.21|02-77-B1-4C-09-21\n"

FORMULAS = workbook(
    {"List": [["name", "address"], ["fan-1", '="10.61.20."&21'], ["fan-2", "10.61.20.22"]]}
)

DOUBLES = workbook(
    {
        "List": [
            ["Host", "IP", "Mask", "MAC"],
            ["fan-1", "10.61.20.21", 24, "02-77-B1-00-00-21"],
            ["fan-2", "10.61.20.21", 24, "02-77-B1-00-00-22"],
            ["fan-3", "10.61.20.23", 24, "02-77-B1-00-00-21"],
            ["FAN-1", "10.61.20.24", 24, None],
            ["net", "10.61.20.0", 24, None],
            ["odd", "10.61.20.25", "255.0.255.0", None],
        ]
    }
)

SECTIONS = (
    b"Address list dryer line 2;;;;\n;;;;\nDevice;Type;IP-Adr.;MAC;\nPanel 1;;;;\n"
    b"fan-1;drive;10.61.20.21;;\n\nPanel 2;;;;\nfan-2;drive;10.61.20.22;;\n"
)

OLD = b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1" + bytes(512)
OPEN_DOCUMENT = zipped(mimetype="application/vnd.oasis", content_xml="<x/>")
NO_SHEET = zipped(word__document_xml="<x/>")
DAMAGED = zipped(xl__workbook_xml="<workbook>")
CUT = GERMAN[: len(GERMAN) // 2]
