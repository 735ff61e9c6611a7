"""What stands on the paper: in the customer's words and language, and not more than fits."""

import json
import os
import subprocess
import sys
from datetime import UTC, datetime, timedelta

import pytest

from portcall.core.phrases import LANGUAGES
from portcall.core.plan.reading import parse_plan
from portcall.core.record.entry import Entry, Kind
from portcall.core.report.content import Order, content
from portcall.core.report.grounds import Looks
from portcall.core.report.words import _DONE, _SAID, _WORDS, done, said, words
from portcall.core.verify.judgement import Verdict
from portcall.jobs.report.page import _css
from portcall.jobs.report.shown import Shown
from portcall.jobs.report.workbook import same_parts, workbook

START = datetime(2026, 8, 20, 7, tzinfo=UTC)
MACS = [f"02-77-B1-00-00-{n:02X}" for n in range(1, 6)]
ROWS = "".join(
    f"d{n},{mac},10.61.20.{n + 9},28,10.61.20.1,panel A{n // 4}\n" for n, mac in enumerate(MACS, 1)
)
PLAN = parse_plan(f"name,mac,address,mask,gateway,place\n{ROWS}".encode(), "plan.csv")


def entry(hours, kind, body, **about):
    uid = f"{kind.value}{hours}{about.get('name', '')}"
    made = Entry(uid, START + timedelta(hours=hours), kind, "bench", "anna", **about)
    return made, body


def record(*more, language="en"):
    judged = [
        {"name": f"d{n}", "mac": mac, "address": f"10.61.20.{n + 9}", "verdict": "right"}
        for n, mac in enumerate(MACS, 1)
    ]
    code = {"code": "differs", "sentence": "its firmware is 5.001, planned is 5.002"}
    values = {"column": "firmware", "value": "5.001", "planned": "5.002"}
    judged[0] |= {"verdict": "differs", "codes": [{**code, "values": values}]}
    judged[1] |= {"verdict": "missing", "findings": ["nothing answers"]}
    seen = [
        {"mac": mac, "addresses": [f"10.61.20.{n + 9}"], "firmware": "5.002" if n % 2 else "5.001"}
        for n, mac in enumerate(MACS, 1)
    ]
    seen.append({"mac": "02-00-00-00-00-99", "addresses": ["10.61.20.14"]})
    ports = [{"port": str(n), "behind": [MACS[n]], "others": 0, "neighbours": []} for n in (1, 2)]
    switch = {"address": "10.61.20.10", "macs": [MACS[0]], "whole": True, "ports": ports}
    body = {
        "asked": ["10.61.20.0/28"],
        "methods": ["arp"],
        "devices": seen,
        "rows": judged,
        "switches": [switch],
        "whole_plan": True,
        "unplanned": [{"mac": "02-00-00-00-00-99", "addresses": ["10.61.20.14"]}],
    }
    given = [
        entry(
            n / 100,
            Kind.ASSIGNED,
            {"event": "assigned", "protocol": "DHCP"},
            name=f"d{n}",
            mac=mac,
            address=f"10.61.20.{n + 9}",
        )
        for n, mac in enumerate(MACS, 1)
    ]
    whole = [*given, entry(5, Kind.VERIFICATION, body), *more]
    order = Order("mill", "1.0.0", language, PLAN, looks=Looks("verification5", "verification5"))
    return content(order, sorted(whole, key=lambda each: each[0].at))


def test_what_is_open_is_told_in_the_customers_words_in_every_language():
    for language, wanted in (
        ("en", ["Firmware: 5.001; planned: 5.002.", "It does not answer at its planned address."]),
        ("de", ["Firmware: 5.001; geplant: 5.002.", "Es antwortet nicht an seiner geplanten Adr"]),
        ("es", ["Firmware: 5.001; planificado: 5.002.", "No responde en su dirección planificad"]),
    ):
        made = record(language=language)
        told = [Shown(made).said(each) for each in made["open"]]
        assert [a.startswith(b) for a, b in zip(told, wanted, strict=False)] == [True, True], told
        # What is given only, who is not planned, and who has an address of another.
        where = {"en": "at", "de": "an", "es": "en"}[language]
        assert f"02-00-00-00-00-99 {where} 10.61.20.14" in " ".join(told)
        assert "10.61.20.14: " in " ".join(told)
        assert "portcall" not in " ".join(told)
        for_engineer = Shown(made).for_the_engineer(made["open"][0])
        assert for_engineer.endswith("its firmware is 5.001, planned is 5.002")
        assert ("\n" in for_engineer) == (language != "en")
        assert all(each["next"] for each in made["open"][:2])


def test_every_word_is_there_in_every_language_and_no_two_headings_are_one():
    for table in (_WORDS, _SAID):
        assert {len(each) for each in table.values()} == {len(LANGUAGES)}
        assert all(text.strip() for each in table.values() for text in each)
    for language in LANGUAGES:
        told = words(language)
        assert told["watches"] != told["remarks"]
        assert all(len(told.get(f"{key}_short", told[key])) <= 31 for key in SHEETS), language
        for key, each in _SAID.items():
            assert "{" not in said(language, key, dict.fromkeys(VALUES, "x")), each
    for english, *others in _DONE.table:
        assert [each.count("{a}") for each in others] == [english.count("{a}")] * 2, english
    # With a longer one, 300 devices are three pages more.
    assert all(len(each) <= len("geplant") for each in _WORDS["by_plan"])
    assert words("de")["power_cycle"] == "Aus- und Einschalten"
    assert said("en", "what a later version says", {}) == "It is not as planned."


SHEETS = (
    *("summary", "devices", "open", "engineer", "panels", "subnets", "firmware_list", "ports"),
    *("changes", "replaced", "notes", "watches", "grounds"),
)
VALUES = ("column", "value", "planned", "addresses", "device", "address", "macs", "text")


def test_an_open_point_of_a_person_stands_there_until_it_is_done():
    noted = entry(6, Kind.NOTE, {"text": "door does not close", "open": True}, name="d5")
    assert [e["what"] for e in record(noted)["open"] if e["said"] == "noted"] == [
        "door does not close"
    ]
    done = entry(7, Kind.NOTE, {"text": "door does not close", "done": True}, name="d5")
    made = record(noted, done)
    assert [each for each in made["open"] if each["said"] == "noted"] == []
    assert [each["text"] for each in made["notes"]] == ["door does not close"]


def test_lists_of_a_site_are_in_it():
    made = record()
    assert [(each["panel"], len(each["addresses"])) for each in made["panels"]] == [
        ("panel A0", 3),
        ("panel A1", 2),
    ]
    (subnet,) = made["subnets"]
    assert (subnet["subnet"], subnet["planned"], subnet["free"]) == ("10.61.20.0/28", 6, 8)
    assert subnet["ranges"] == [["10.61.20.2", "10.61.20.9"]]
    assert [(e["firmware"], e["names"]) for e in made["firmware"]] == [
        ("5.001", ["d2", "d4"]),
        ("5.002", ["d1", "d3", "d5"]),
    ]
    assert [(e["switch"], e["port"], e["names"]) for e in made["ports"]] == [
        ("d1", "1", ["d2"]),
        ("d1", "2", ["d3"]),
    ]


def test_what_did_the_same_is_one_row_and_a_proof_that_is_old_says_so():
    later = {"rows": [], "devices": [], "whole_plan": False}
    made = record(entry(24 * 95, Kind.VERIFICATION, later), language="de")
    shown = Shown({**made, "as_of": "2026-11-23T07:00:00+00:00"})
    (given,) = shown.changes()
    assert (given["names"], given["what"], given["now"]) == (
        "alle 5 Geräte",
        "gegeben über DHCP",
        "seine Adresse",
    )
    # Its address is that as a whole, and not the beginning of another one.
    changes = [
        {
            **made["changes"][0],
            "name": f"d{n}",
            "what": "device",
            "now": "x",
            "before": f"10.61.20.{n}5",
        }
        for n in (1, 2)
    ]
    other = [{**made["devices"][n - 1], "address": f"10.61.20.{n}"} for n in (1, 2)]
    both = Shown({**made, "devices": other, "changes": changes}).changes()
    assert [each["before"] for each in both] == ["10.61.20.15", "10.61.20.25"]
    # A part that has no address of its own was given none.
    devices = [*made["devices"], {**made["devices"][0], "name": "unit", "part": True}]
    (with_part,) = Shown({**made, "devices": devices}).changes()
    assert with_part["names"] == "alle 5 mit einer Adresse"
    cells = shown.cells(made["devices"][3])
    assert cells[-1] == "✓ 20.08.2026 12:00\n94 Tage alt"
    assert "Tage" not in Shown(made).cells(made["devices"][0])[-1]


@pytest.mark.parametrize(
    ("language", "wanted"),
    [
        ("en", ("2,880,000", "0.31 ms", "8 h", "1.5 s", "2026-08-20 07:00")),
        ("de", ("2.880.000", "0,31 ms", "8 h", "1,5 s", "20.08.2026 07:00")),
        ("es", ("2.880.000", "0,31 ms", "8 h", "1,5 s", "20/08/2026 07:00")),
    ],
)
def test_numbers_times_and_dates_are_as_the_language_has_them(language, wanted):
    shown = Shown({"language": language, "as_of": None})
    told = (
        shown.number(2_880_000),
        shown.number(0.31, "ms"),
        shown.lasted(28_800),
        shown.lasted(1.5),
        shown.when("2026-08-20T07:00:00+00:00"),
    )
    assert told == wanted
    assert (shown.lasted(None), shown.number(None), shown.when(None)) == ("", "", "")


def test_the_footer_keeps_its_spaces():
    assert (
        str(_css("Record, Tern: line 2 (A)"))
        == '"Record, Tern\\00003a  line 2 \\000028 A\\000029 "'
    )


def test_what_was_done_is_told_in_the_language_and_names_stay():
    about = {"name": "d1", "mac": MACS[0], "address": "10.61.20.10"}
    kept = {"by": "CIP", "settings": "10.61.20.10/28 stored in the device", "step": "done"}
    had = {"by": "CIP", "settings": "10.61.20.3/28 by DHCP", "step": "before"}
    row = {"name": "d2", "mac": MACS[1], "address": "10.61.20.11"}
    plan = {"was": row, "is": {**row, "place": "north wall"}}
    old = {"mac": MACS[4], "product": "Gale 7 drive, 4 kW", "serial": "7"}
    swap = {"old": old, "new": {"mac": MACS[0]}, "verdict": "missing"}
    target = {"target": "d1", "sent": 2_880_000, "lost": 6, "span_s": 600}
    more = (
        entry(6, Kind.SETTING, had, **about),
        entry(7, Kind.SETTING, kept, **about),
        entry(8, Kind.PLAN, plan, name="d2"),
        entry(9, Kind.SWAP, swap, **about),
        entry(10, Kind.WATCH, {"targets": [target]}, summary="1 target: 2879994 came back"),
    )
    made = record(*more, language="de")
    shown = Shown(made)
    told = [(each["what"], each["now"], each["before"]) for each in shown.changes()]
    assert told[1:] == [
        (
            "Gerät, über CIP",
            "10.61.20.10/28, im Gerät gespeichert",
            "10.61.20.3/28, über DHCP",
        ),
        ("Plan", "Ort north wall", ""),
    ]
    replaced = shown.replaced(made["replaced"][0])
    assert replaced["old"].endswith(", Gale 7 drive, 4 kW, Seriennummer 7")
    assert replaced["verdict"] == "Es antwortet nicht an seiner geplanten Adresse."
    # What was not judged is not called wrong, and each verdict is told in the language.
    verdicts = {each: shown.replaced({**made["replaced"][0], "verdict": each}) for each in Verdict}
    told_as = {each: told["verdict"] for each, told in verdicts.items()}
    assert told_as[Verdict.NOT_JUDGED] == "nicht geprüft"
    assert not any(told_as[each] == each for each in Verdict)
    assert shown.came_back(made["watches"][0]) == "2.879.994 von 2.880.000 kamen zurück"
    assert shown.where("slot 3/unit 17 of unit 5") == "Steckplatz 3/Einheit 17 von unit 5"
    assert done("es", "not done: no address, boiler-plc") == "no hecho: sin dirección, boiler-plc"


WORKBOOK = """
import json, sys
from portcall.jobs.report.workbook import workbook
sys.stdout.buffer.write(workbook(json.load(sys.stdin)))
"""


def test_a_spreadsheet_is_the_same_with_lxml_and_without():
    pytest.importorskip("lxml")
    text = json.dumps(record()).encode()
    made = [
        subprocess.run(
            [sys.executable, "-c", WORKBOOK],
            input=text,
            capture_output=True,
            check=True,
            env={**os.environ, "OPENPYXL_LXML": wanted},
        ).stdout
        for wanted in ("True", "False")
    ]
    assert made[0] != made[1]
    assert same_parts(*made)
    other = workbook({**record(), "site": "mill 2"})
    assert not same_parts(made[0], other)
    assert not same_parts(made[0][:-40], made[0])
