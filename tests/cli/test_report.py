"""The hand-over record: what it says, that it is always the same, and what --check finds."""

import base64
import hashlib
import html.parser
import io
import json
import os
import re
import shutil
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from importlib.util import find_spec
from xml.etree import ElementTree

import nursery
import pytest
from openpyxl import load_workbook
from pypdf import PdfReader

from portcall.core.record.chain import NOTHING, digest_of, linked
from portcall.core.record.entry import Kind
from portcall.site.logbook.writing import new_entry, write_entries

pytestmark = pytest.mark.long

FAN, PUMP, VALVE, OLD = (f"02-77-B1-00-00-{n}" for n in (21, 22, 23, 99))
START = datetime(2026, 11, 20, 8, 0, tzinfo=UTC)
PLAN = """name,mac,address,mask,gateway,kind,place
fan-drive,02-77-B1-00-00-21,10.61.20.21,24,10.61.20.1,drive,panel A2
pump-drive,02-77-B1-00-00-22,10.61.20.22,24,,drive,
valve-island,02-77-B1-00-00-23,10.61.20.23,24,,valves,hall 3
"""
PAGES = ("html", "pdf", "xlsx", "json")


def device(mac, address, **values):
    said = [{"what": key, "value": value, "by": "cip"} for key, value in values.items()]
    found = {"mac": mac, "addresses": [address], "methods": ["arp", "cip"], "said": said}
    return {**found, "ports": [], "asks": [], **values}


def judged(name, mac, address, verdict, *findings, **more):
    told = {"name": name, "mac": mac, "address": address, "verdict": verdict}
    return {**told, "findings": list(findings), **more}


def story(**hostile):
    """What happened at a site: a setting, a power cycle, a swap, a watch, a verification."""
    text = hostile.get("text", "")
    had = {"name": "fan-drive", "mac": FAN, "address": "10.61.20.21", "by": "CIP"}
    spans = [[5, 0, 0.2, 0.3, 0.9], [5, 1, 0.2, 0.3, 1.4], [5, 0, 0.1, 0.2, 0.4]]
    look = {
        "asked": ["10.61.20.0/24"],
        "methods": ["arp", "cip", "snmp"],
        "not_run": [],
        "workstation": {"mac": "02-1A-40-00-00-05", "addresses": ["10.61.20.200/24"]},
        "switches": [
            {
                "address": "10.61.20.2",
                "macs": ["02-D0-11-00-00-01"],
                "whole": True,
                "ports": [{"port": "7" + text, "behind": [FAN], "others": 0, "neighbours": []}],
            }
        ],
        "devices": [
            device(
                FAN,
                "10.61.20.21",
                name="fan" + text,
                product="Gale 7" + text,
                maker="Whimbrel Drives" + text,
                serial="77B10021" + text,
                firmware="5.002" + text,
                mask="255.255.255.0",
                place="A2" + text,
            ),
            device(PUMP, "10.61.20.99", product="Gale 9"),
            device(OLD, "10.61.20.77", name=text or "stranger"),
        ],
    }
    rows = [
        judged("fan-drive", FAN, "10.61.20.21", "right", serial="77B10021", echo_ms=0.31),
        judged("pump-drive", PUMP, "10.61.20.22", "elsewhere", "it is at 10.61.20.99" + text),
        judged("valve-island", VALVE, "10.61.20.23", "missing", "nothing answers"),
    ]
    return (
        (Kind.LOOK, "3 devices", {"devices": [], "asked": [], "methods": []}, {}),
        (Kind.SETTING, "before", {**had, "step": "before", "settings": "by DHCP" + text}, had),
        (Kind.SETTING, "done", {**had, "step": "done", "settings": "stored" + text}, had),
        (Kind.POWER_CYCLE, "it came back", {"verdict": "kept"}, had),
        (Kind.PLAN, "changed", {"was": {"mac": OLD + text}, "is": {"mac": VALVE + text}}, {}),
        (
            Kind.SWAP,
            "swapped",
            {"old": {"mac": OLD, "serial": "7" + text}, "new": {"mac": VALVE}, "verdict": "right"},
            {"name": "valve-island", "mac": VALVE, "address": "10.61.20.23"},
        ),
        (
            Kind.WATCH,
            "1 target: 14 of 15 came back" + text,
            {
                "targets": [
                    {
                        "target": "fan-drive" + text,
                        "sent": 15,
                        "lost": 1,
                        "median_ms": 0.3,
                        "gap_s": 1.0,
                        "began": "2026-11-20T08:06:00.000+00:00",
                        "span_s": 1.0,
                        "spans": spans,
                    }
                ]
            },
            {},
        ),
        (Kind.MATCH, "10.61.20.200/24 added", {}, {}),
        (Kind.VERIFICATION, "1 right, 2 wrong", {**look, "rows": rows}, {}),
    )


def make_site(folder, **hostile):
    """A site folder with that story in its logbook."""
    (folder / "plan.csv").write_text(PLAN)
    (folder / "site.toml").write_text('name = "Tern Point"\n')
    for n, (kind, summary, body, about) in enumerate(story(**hostile)):
        about = {key: value for key, value in about.items() if key in ("name", "mac", "address")}
        entry = new_entry(kind, summary, body, adapter="usb0", **about)
        at = START + timedelta(minutes=n)
        fixed = {"workstation": "bench", "person": "ana", "offset": timedelta(hours=1)}
        text = hostile.get("text", "")
        uid = hashlib.sha256(f"{n}{text}".encode()).hexdigest()[:32]
        write_entries(folder, replace(entry, uid=uid, at=at, **fixed))
    return folder


def typed(site, *words, **environment):
    given = {**os.environ, "PORTCALL_STATE": str(site / "state"), **environment}
    return nursery.run(list(words), site, given)


@pytest.fixture(scope="module")
def whole_record(tmp_path_factory):
    made = make_site(tmp_path_factory.mktemp("site"))
    for page in PAGES:
        ended = typed(made, "report", f"r.{page}", "--remark", "Valves come on Monday")
        assert (ended.returncode, "1 of 3 verified right" in ended.stderr) == (1, True), (
            ended.stderr
        )
    return made


def test_it_says_what_the_logbook_says(whole_record):
    told = json.loads((whole_record / "r.json").read_text())
    fan, pump, valve = told["devices"]
    assert (fan["serial"], fan["firmware"], fan["product"]) == ("77B10021", "5.002", "Gale 7")
    assert (fan["holds"], fan["echo_ms"], fan["state"]) == ("keeps", "0.31", "verified right")
    assert (fan["kept"], fan["power_cycle"], fan["verified"]) == (
        "2026-11-20T09:02:00+01:00",
        "2026-11-20T09:03:00+01:00",
        "2026-11-20T09:08:00+01:00",
    )
    assert (fan["mask"], fan["planned_gateway"]) == ("255.255.255.0", "10.61.20.1")
    assert (pump["product"], pump["firmware"], pump["holds"]) == ("Gale 9", None, None)
    assert (valve["product"], valve["echo_ms"]) == (None, None)
    assert [(each["name"], each["what"]) for each in told["open"]] == [
        ("pump-drive", "verified wrong: elsewhere: it is at 10.61.20.99"),
        ("valve-island", "verified wrong: missing: nothing answers"),
    ]
    assert [(each["now"], each["before"]) for each in told["changes"]] == [
        ("stored", "by DHCP"),
        (f"mac {VALVE}", f"mac {OLD}"),
    ]
    (swap,) = told["replaced"]
    assert (swap["old"], swap["new"], swap["verdict"]) == (f"{OLD}, serial 7", VALVE, "right")
    (target,) = told["watches"][0]["targets"]
    assert (target["sent"], target["lost"], len(target["spans"])) == (15, 1, 3)
    assert (told["as_of"], told["people"]) == ("2026-11-20T09:08:00+01:00", ["ana (bench)"])
    assert told["summary"] == {"right": 1, "rows": 3, "groups": []}
    # What the computer did for itself, and a look that says nothing now, are not among its grounds.
    kinds = ["setting", "setting", "power cycle", "plan", "swap", "watch", "verification", "note"]
    assert [each["kind"] for each in told["entries"]] == kinds


def test_anybody_can_work_out_its_digest_from_the_export(whole_record):
    told = json.loads((whole_record / "r.json").read_text())
    assert typed(whole_record, "logbook", "export", "all.jsonl", "--overwrite").returncode == 0
    lines = {
        json.loads(line)["uid"]: line
        for line in (whole_record / "all.jsonl").read_text().splitlines()
    }
    prints = [hashlib.sha256(lines[each["uid"]].encode()).hexdigest() for each in told["entries"]]
    assert prints == [each["sha256"] for each in told["entries"]]
    whole = hashlib.sha256("".join(f"{each}\n" for each in prints).encode()).hexdigest()
    assert told["digest"] == whole
    assert whole in (whole_record / "r.html").read_text()


@pytest.mark.parametrize("page", PAGES)
def test_the_same_logbook_gives_the_same_octets_and_they_hold(whole_record, page):
    name = f"again.{page}"
    typed(whole_record, "report", name, "--remark", "Valves come on Monday", PYTHONHASHSEED="7")
    assert (whole_record / name).read_bytes() == (whole_record / f"r.{page}").read_bytes()
    checked = typed(whole_record, "report", "--check", name)
    assert (checked.returncode, checked.stderr) == (0, "")
    assert "it rests on 8 entries: all are in the logbook of this folder" in checked.stdout


def text_of(data, page):
    if page == "pdf":
        return " ".join(sheet.extract_text() for sheet in PdfReader(io.BytesIO(data)).pages)
    if page == "xlsx":
        book = load_workbook(io.BytesIO(data))
        return " ".join(
            str(cell.value)
            for sheet in book
            if sheet.sheet_state == "visible"
            for row in sheet.iter_rows()
            for cell in row
        )
    return re.sub(r"<script.*</script>|<[^>]*>", " ", data.decode(), flags=re.S)


@pytest.mark.parametrize("page", PAGES[:3])
def test_every_page_has_all_of_it(whole_record, page):
    text = " ".join(text_of((whole_record / f"r.{page}").read_bytes(), page).split())
    for wanted in (
        *("Tern Point", "fan-drive", "77B10021", "Whimbrel Drives", "keeps it", "panel A2"),
        *("nothing answers", "by DHCP", OLD, "Valves come on Monday", "Taken over by"),
        *("2026-11-20 09:08", "10.61.20.1 (planned)", "0.31 ms", "1 of 3"),
    ):
        assert wanted in text, wanted
    if page == "pdf":
        reader = PdfReader(io.BytesIO((whole_record / "r.pdf").read_bytes()))
        lying = [each for each in reader.pages if each.mediabox.width > each.mediabox.height]
        assert len(lying) == 1
        assert "plugged in somewhere" in lying[-1].extract_text()
        # Who cannot see the sketch is told what it is, by the element that marks it on its page.
        figures = dict(figures_in(reader.root_object["/StructTreeRoot"]))
        assert "fan-drive" in figures[lying[-1].indirect_reference.idnum]


def figures_in(element):
    """The pictures of a tagged PDF: the number of the page, and what is told instead."""
    if element.get("/S") == "/Figure":
        yield element.raw_get("/Pg").idnum, element["/Alt"]
    below = element.get("/K", ())
    for each in below if isinstance(below, list) else [below]:
        part = each.get_object()
        if isinstance(part, dict):
            yield from figures_in(part)


@pytest.mark.parametrize(
    ("language", "words"), [("de", "Übergabeprotokoll"), ("es", "Acta de entrega")]
)
def test_headings_are_in_the_language_that_is_asked_for(whole_record, language, words):
    typed(whole_record, "report", f"{language}.html", "--language", language)
    page = (whole_record / f"{language}.html").read_text()
    assert f'<html lang="{language}">' in page
    assert words in page
    assert "verified wrong: missing: nothing answers" in page


QUESTIONS = ("signature", "page", "logbook", "plan")


def check(folder, name):
    """The exit code, the answers in the order of the questions, and all sentences."""
    ended = typed(folder, "report", "--check", name, "--json")
    told = json.loads(ended.stdout)
    answers = [told[question]["answer"] for question in QUESTIONS]
    said = [each for question in QUESTIONS for each in told[question]["sentences"]]
    return ended.returncode, answers, said


HOLDS = ["there is none", "yes", "yes", "yes"]


@pytest.mark.parametrize("page", PAGES)
def test_a_page_that_was_changed_is_found_out(whole_record, page):
    data = (whole_record / f"r.{page}").read_bytes()
    name = f"changed.{page}"
    if page == "xlsx":
        book = load_workbook(io.BytesIO(data))
        book["Devices"]["D5"] = "Whimbrel Drives 2"
        book.save(whole_record / name)
    elif page == "pdf":
        (whole_record / name).write_bytes(data + b"\n% nothing to be seen\n")
    else:
        assert b"77B10021" in data
        (whole_record / name).write_bytes(data.replace(b"77B10021", b"77B10022", 1))
    code, answers, said = check(whole_record, name)
    assert code == 1
    if page == "json":
        assert answers == ["there is none", "yes", "no", "yes"]
        assert any("devices: the entries say otherwise" in each for each in said)
    else:
        assert answers == ["there is none", "no", "yes", "yes"]


def test_a_logbook_that_says_otherwise_is_told_and_what_came_later_is_counted(
    tmp_path, tmp_path_factory
):
    folder = make_site(tmp_path)
    typed(folder, "report", "r.html")
    typed(folder, "report", "r.json")
    write_entries(folder, new_entry(Kind.LOOK, "later", {"devices": []}))
    assert check(folder, "r.html")[:2] == (0, HOLDS)
    assert "1 entry written since" in typed(folder, "report", "--check", "r.html").stderr
    (folder / "plan.csv").write_text(PLAN.replace("fan-drive", "ventilator"))
    # The plan of that day is in the record: what is planned now is a question of its own.
    code, answers, said = check(folder, "r.html")
    assert (code, answers) == (1, ["there is none", "yes", "yes", "no"])
    assert any("1 row in it not in the plan of today: fan-drive" in each for each in said)
    (folder / "plan.csv").write_text(PLAN)
    record = json.loads((folder / "r.json").read_text())
    kept = [each for each in record["entries"] if each["kind"] != "swap"]
    prints = "".join(f"{each['sha256']}\n" for each in kept)
    without = {
        "entries": kept,
        "replaced": [],
        "digest": hashlib.sha256(prints.encode()).hexdigest(),
    }
    text = json.dumps({**record, **without}, ensure_ascii=False, sort_keys=True, indent=1)
    (folder / "without.json").write_text(f"{text}\n")
    code, answers, said = check(folder, "without.json")
    assert (code, answers[2]) == (1, "no")
    (left_out,) = (each["uid"][:8] for each in record["entries"] if each["kind"] == "swap")
    assert f"1 entry ({left_out}) of before its date is in this logbook, and not in it" in said
    rewritten(folder, lambda said: {**said, "summary": "no"} if is_a(said, "power cycle") else said)
    code, answers, said = check(folder, "r.html")
    assert (code, answers) == (1, ["there is none", "yes", "no", "yes"])
    assert any("that it rests on is otherwise in this logbook" in each for each in said)
    rewritten(folder, lambda said: None if is_a(said, "swap", "watch") else said)
    assert any("2 entries (" in each for each in check(folder, "r.html")[2])
    # Where nothing of it is, nobody can say that it was changed.
    elsewhere = tmp_path_factory.mktemp("elsewhere")
    shutil.copy(folder / "r.html", elsewhere)
    code, answers, said = check(elsewhere, "r.html")
    assert (code, answers[1:]) == (3, ["yes", "cannot be told", "cannot be told"])
    (folder / "r.html").write_text("<html>no record</html>")
    for name in ("r.html", "plan.csv", "nothing.pdf"):
        ended = typed(folder, "report", "--check", name)
        assert (ended.returncode in (2, 3), "Traceback" in ended.stderr) == (True, False)


def is_a(said, *kinds):
    return said.get("kind") in kinds


def rewritten(folder, edit):
    """Somebody writes the lines of a logbook anew, with digests that fit; None leaves one out."""
    for path in (folder / "logbook" / "entries").glob("*.jsonl"):
        lines, before = [], NOTHING
        for line in path.read_bytes().splitlines():
            said = edit(json.loads(line))
            if said is not None:
                plain = {key: value for key, value in said.items() if key not in ("n", "before")}
                text = json.dumps(plain, ensure_ascii=False)
                lines.append(linked(text, len(lines) + 1, before).encode())
                before = digest_of(lines[-1])
        path.write_bytes(b"".join(line + b"\n" for line in lines))


HOSTILE = (
    "\"'><script>alert(1)</script><img src=x onerror=alert(2)><a href='javascript:alert(3)'>"
    "{{ 7 * 7 }}{% raw %}]]>--></style></title>@import url(http://198.51.100.9/);$\\frac{1}{0}$"
    "\x1b[31m\u202e\u2028\x00=HYPERLINK(1)"
)


class Page(html.parser.HTMLParser):
    """What a parser that others wrote finds in a page."""

    def __init__(self):
        super().__init__()
        self.found = []

    def handle_starttag(self, tag, attrs):
        self.found.append((tag, dict(attrs)))


def assert_still(svg):
    """A picture in which nothing runs and from which nothing is loaded."""
    for element in ElementTree.fromstring(svg).iter():
        tag = element.tag.rpartition("}")[2]
        assert tag not in ("script", "a", "foreignObject", "image", "iframe", "text")
        for key, value in element.attrib.items():
            name = key.rpartition("}")[2]
            assert not name.startswith("on")
            assert name != "href" or value.startswith("#")


def test_hostile_names_in_every_field_run_nowhere(tmp_path):
    folder = make_site(tmp_path, text=HOSTILE)
    (folder / "plan.csv").write_text(PLAN.replace("panel A2", '"=cmd|"" /C calc""!A0<b>"'))
    (folder / "site.toml").write_text('name = "Tern </style><script>1</script>"\n')
    for page in PAGES:
        ended = typed(folder, "report", f"r.{page}")
        assert (ended.returncode, "Traceback" in ended.stderr) == (1, False), ended.stderr
        assert check(folder, f"r.{page}")[0] == 0
    page = Page()
    page.feed((folder / "r.html").read_text())
    scripts = [attributes for tag, attributes in page.found if tag == "script"]
    assert scripts == [{"type": "application/json", "id": "record"}]
    known = {"html", "head", "meta", "title", "style", "body", "h1", "h2", "p", "dl", "dt", "dd"}
    known |= {"table", "colgroup", "col", "thead", "tbody", "tr", "th", "td", "b", "br", "small"}
    assert {tag for tag, _ in page.found} <= known | {"div", "img", "span", "script"}
    assert not any(key.startswith("on") for _, attributes in page.found for key in attributes)
    pictures = [attributes["src"] for tag, attributes in page.found if tag == "img"]
    assert len(pictures) == 2
    for source in pictures:
        head, _, data = source.partition(",")
        assert head == "data:image/svg+xml;base64"
        assert_still(base64.b64decode(data))
    style = re.search(r"<style>(.*?)</style>", (folder / "r.html").read_text(), re.S)[1]
    assert "http" not in style
    assert style.count("{") == style.count("}")
    book = load_workbook(folder / "r.xlsx")
    kinds = {cell.data_type for sheet in book for row in sheet.iter_rows() for cell in row}
    assert "f" not in kinds
    reader = PdfReader(folder / "r.pdf")
    objects = [str(reader.get_object(n)) for n in range(1, len(reader.xref[0]) + 1)]
    for word in ("/JavaScript", "/JS", "/Launch", "/URI", "/OpenAction", "/SubmitForm"):
        assert not any(word in each for each in objects), word
    typed(folder, "sketch", "s.svg")
    assert_still((folder / "s.svg").read_bytes())
    shown = typed(folder, "sketch")
    assert shown.returncode == 0
    assert not re.search(r"[\x00-\x09\x0b-\x1f\x7f\u202e\u2028]", shown.stdout)


def test_what_cannot_be_written_is_said_before_anything_is(tmp_path):
    folder = make_site(tmp_path)
    (folder / "there.pdf").write_text("mine")
    for words, said in (
        (["r.doc"], "ends in none of .html, .pdf, .xlsx, .json"),
        (["there.pdf"], "is there already"),
        (["r.html", "--remark", "two\nlines"], "a remark is one line"),
        (["--check", "there.pdf", "--overwrite"], "--check reads FILE"),
        (["--check", "there.pdf"], "is no record that portcall report wrote"),
    ):
        ended = typed(folder, "report", *words)
        assert (ended.returncode, said in ended.stderr) == (2, True), ended.stderr
    assert (folder / "there.pdf").read_text() == "mine"
    # Without the libraries of a page, neither writing nor checking one ends in a traceback.
    (folder / "sitecustomize.py").write_text(
        "import sys\nfor name in ('jinja2', 'pypdf', 'weasyprint'): sys.modules[name] = None\n"
    )
    for words in (["new.html"], ["new.pdf"], ["--check", "there.html"], ["--check", "there.pdf"]):
        ended = typed(folder, "report", *words, PYTHONPATH=str(folder))
        assert (ended.returncode, "portcall[report]" in ended.stderr) == (3, True), ended.stderr
        assert "Traceback" not in ended.stderr
    assert find_spec("weasyprint") is not None
