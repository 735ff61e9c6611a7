"""A record is signed and checked, by public programs alone, and after whatever was done to it."""

import json
import os
import re
import shutil
import subprocess
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from pathlib import Path

import nursery
import pytest

from portcall.core.record.chain import NOTHING, digest_of, linked
from portcall.core.record.entry import Kind
from portcall.site.logbook.writing import new_entry, write_entries

pytestmark = pytest.mark.long

DEVICES = [(f"drive-{n:02}", f"02-77-B1-00-00-{n:02X}", f"10.61.20.{n}") for n in range(1, 61)]
PLAN = "name,mac,address,mask\n" + "".join(f"{','.join(each)},24\n" for each in DEVICES)
FORMAT = Path(__file__).parents[2] / "docs" / "record-format.md"
QUESTIONS = ("signature", "page", "logbook", "plan")
Y, N, U, NONE = "yes", "no", "cannot be told", "there is none"


def typed(folder, *words, **environment):
    state = os.environ.get("PORTCALL_STATE", str(folder / "state"))
    return nursery.run(list(words), folder, {**os.environ, "PORTCALL_STATE": state, **environment})


@pytest.fixture(scope="module")
def signed(tmp_path_factory):
    """A site of sixty devices, its record with a signature beside it, and who may sign."""
    folder = tmp_path_factory.mktemp("site")
    (folder / "plan.csv").write_text(PLAN)
    (folder / "site.toml").write_text('name = "Tern Point"\ncontract = "K-2026-117"\n')
    seen = [{"mac": mac, "addresses": [at], "methods": ["arp"]} for _, mac, at in DEVICES]
    rows = [
        {"name": name, "mac": mac, "address": at, "verdict": "right" if n else "missing"}
        for n, (name, mac, at) in enumerate(DEVICES)
    ]
    body = {"asked": ["10.61.20.0/24"], "methods": ["arp"], "devices": seen, "rows": rows}
    whole = {**body, "whole_plan": True}
    write_entries(folder, new_entry(Kind.VERIFICATION, "59 right", whole))
    write_entries(folder, new_entry(Kind.NOTE, "a note", {"text": "a note"}, name="drive-07"))
    key = folder / "key"
    make = ["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-C", "anna", "-f", str(key)]
    subprocess.run(make, check=True)
    (folder / "signers").write_text(f"anna {(folder / 'key.pub').read_text()}")
    for page in ("html", "json"):
        ended = typed(folder, "report", f"r.{page}", "--sign", "key", "--remark", "all done")
        assert ended.returncode == 1, ended.stderr
    return folder


@pytest.fixture
def site(signed, tmp_path):
    """A copy of that site."""
    shutil.copytree(signed, tmp_path / "site")
    return tmp_path / "site"


def answers(folder, name="r.html", *more):
    ended = typed(folder, "report", "--check", name, "--signers", "signers", "--json", *more)
    assert "Traceback" not in ended.stderr
    told = json.loads(ended.stdout)
    return ended.returncode, [told[each]["answer"] for each in QUESTIONS], told


def test_it_is_checked_without_this_program_by_what_the_page_on_the_format_says(site):
    script = re.findall(r"```sh\n(.*?)```", FORMAT.read_text(), re.S)
    chain, _, verify = script
    assert len(chain.splitlines()) < 10
    for path in (site / "logbook" / "entries").glob("*.jsonl"):
        with open(path) as lines:
            ended = subprocess.run(["sh", "-c", chain], stdin=lines, capture_output=True, text=True)
        assert (ended.returncode, ended.stdout) == (0, ""), path
        changed = path.read_text().replace('"person"', '"Person"', 1)
        ended = subprocess.run(["sh", "-c", chain], input=changed, capture_output=True, text=True)
        assert (ended.returncode, "does not follow" in ended.stdout) == (1, True), path
    typed(site, "logbook", "export", "logbook.jsonl")
    hashed = {
        subprocess.run(["sha256sum"], input=line, capture_output=True).stdout.decode()[:64]
        for line in (site / "logbook.jsonl").read_bytes().splitlines()
    }
    record = json.loads((site / "r.json").read_text())
    assert {each["sha256"] for each in record["entries"]} <= hashed
    assert record["contract"] == "K-2026-117"
    command = verify.replace("hand-over.pdf", "r.html")
    good = subprocess.run(["sh", "-c", command], cwd=site, capture_output=True)
    assert good.returncode == 0, good.stderr
    (site / "r.html").write_text((site / "r.html").read_text().replace("drive-07", "drive-7"))
    assert subprocess.run(["sh", "-c", command], cwd=site, capture_output=True).returncode != 0


def lines_of(site):
    (path,) = (e for e in (site / "logbook" / "entries").iterdir() if b"59 right" in e.read_bytes())
    return path


def page_edited(site):
    page = site / "r.html"
    page.write_text(page.read_text().replace(">drive-07<", ">drive-77<", 1))


def data_edited(site):
    page = site / "r.html"
    page.write_text(page.read_text().replace('"remarks": ["all done"]', '"remarks": []', 1))


def json_edited(site):
    record = json.loads((site / "r.json").read_text())
    record["open"] = []
    text = json.dumps(record, ensure_ascii=False, sort_keys=True, indent=1)
    (site / "r.json").write_text(f"{text}\n")


def other_key(site):
    make = ["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(site / "other")]
    subprocess.run(make, check=True)
    (site / "r.html.sig").unlink()
    sign = ["ssh-keygen", "-q", "-Y", "sign", "-f", "other", "-n", "file", "r.html"]
    subprocess.run(sign, cwd=site, check=True, capture_output=True)


def no_signature(site):
    (site / "r.html.sig").unlink()


def row_left_out_for_a_minute(site):
    """The one that is not right is taken out of the plan, and put back when the record is made."""
    plan = (site / "plan.csv").read_text()
    (site / "plan.csv").write_text(plan.replace("drive-01,02-77-B1-00-00-01,10.61.20.1,24\n", ""))
    ended = typed(site, "report", "r.html", "--overwrite", "--sign", "key")
    assert ended.returncode == 0, ended.stderr
    (site / "plan.csv").write_text(plan)


def line_edited(site):
    path = lines_of(site)
    path.write_bytes(path.read_bytes().replace(b'"summary": "59 right"', b'"summary": "60 right"'))


def line_taken_out(site):
    path = lines_of(site)
    lines = path.read_bytes().splitlines(keepends=True)
    path.write_bytes(b"".join(each for each in lines if b"a note" not in each))


def last_lines_taken_out(site):
    path = lines_of(site)
    path.write_bytes(b"".join(path.read_bytes().splitlines(keepends=True)[:2]))


def written_anew(site):
    """Somebody writes a line and all digests behind it."""
    path, lines, before = lines_of(site), [], NOTHING
    for line in path.read_bytes().splitlines():
        said = json.loads(line.replace(b'"summary": "59 right"', b'"summary": "60 right"'))
        text = json.dumps({k: v for k, v in said.items() if k not in ("n", "before")})
        lines.append(linked(text, len(lines) + 1, before).encode())
        before = digest_of(lines[-1])
    path.write_bytes(b"".join(line + b"\n" for line in lines))


def entry_put_in_before(site):
    entry = new_entry(Kind.NOTE, "was here all the time", {"text": "x"}, name="drive-01")
    old = replace(entry, at=datetime.now(UTC) - timedelta(days=3), boot="", uptime=0.0)
    write_entries(site, old)


def database_edited(site):
    (site / "logbook" / "cache.db").write_bytes(b"nothing of that")


def other_plan(site):
    (site / "plan.csv").write_text(PLAN.replace("10.61.20.60", "10.61.20.160"))


def clock_of_next_year(site):
    entry = new_entry(Kind.VERIFICATION, "60 right", {"devices": [], "rows": []})
    write_entries(site, replace(entry, at=datetime.now(UTC) + timedelta(days=365)))


TAMPERED = {
    page_edited: ([N, N, Y, Y], "the page says something else than the data in it"),
    data_edited: ([N, N, N, Y], "no entry of this logbook tells that it was made so"),
    other_key: ([N, Y, Y, Y], "does not name that key"),
    no_signature: ([NONE, Y, Y, Y], "there is no signature"),
    row_left_out_for_a_minute: ([Y, Y, Y, N], "not in it: drive-01"),
    line_edited: ([Y, Y, N, Y], "the logbook itself is damaged"),
    line_taken_out: ([Y, Y, N, Y], "not in this logbook"),
    last_lines_taken_out: ([Y, Y, N, Y], "not in this logbook"),
    written_anew: ([Y, Y, N, Y], "otherwise in this logbook"),
    entry_put_in_before: ([Y, Y, N, Y], "of before its date is in this logbook, and not in it"),
    database_edited: ([Y, Y, Y, Y], "octet for octet"),
    other_plan: ([Y, Y, Y, N], "1 row planned otherwise today: drive-60"),
    clock_of_next_year: ([Y, Y, Y, Y], "octet for octet"),
}


@pytest.mark.parametrize("tamper", TAMPERED, ids=lambda each: each.__name__)
def test_what_was_done_to_it_is_told_by_the_question_it_belongs_to(site, tamper):
    assert answers(site)[:2] == (0, [Y, Y, Y, Y])
    tamper(site)
    wanted, sentence = TAMPERED[tamper]
    code, told, whole = answers(site)
    said = [each for question in QUESTIONS for each in whole[question]["sentences"]]
    assert told == wanted, said
    assert any(sentence in each for each in said), said
    assert code == (1 if N in wanted else 0)


def test_data_that_was_made_to_say_less_is_told_by_the_entries(site):
    json_edited(site)
    code, told, whole = answers(site, "r.json")
    assert (code, told) == (1, [N, Y, N, Y])
    assert any("open: the entries say otherwise" in each for each in whole["logbook"]["sentences"])


def test_a_record_of_an_earlier_version_is_not_called_changed(site):
    new = ("printed", "made_with", "contract", "customer", "panels", "subnets", "firmware", "ports")
    record = json.loads((site / "r.json").read_text())
    record = {key: value for key, value in record.items() if key not in new}
    for each in record["open"]:
        del each["said"], each["values"]
    earlier = json.dumps({**record, "format": "portcall record 1"}, sort_keys=True)
    (site / "r.json").write_text(earlier)
    (site / "r.json.sig").unlink()
    page = (site / "r.html").read_text()
    begins = page.index('id="record">') + len('id="record">')
    ends = page.index("</script>", begins)
    for sign in "<>&":
        earlier = earlier.replace(sign, f"\\u{ord(sign):04x}")
    (site / "r.html").write_text(page[:begins] + earlier + page[ends:])
    (site / "r.html.sig").unlink()
    for name in ("r.json", "r.html"):
        _, told, whole = answers(site, name)
        assert told[:3] == [NONE, U, U], whole


def test_a_page_of_other_libraries_is_not_called_changed(site):
    for page in ("r.html", "r.json"):
        (site / page).write_text((site / page).read_text().replace('"jinja2": "', '"jinja2": "0.'))
    _, told, whole = answers(site)
    assert (told[1], told[2]) == (Y, Y), whole
    # Its own page is another one, because other libraries set it.
    page = (site / "r.html").read_text().replace("</h1>", " </h1>", 1)
    (site / "r.html").write_text(page)
    _, told, whole = answers(site)
    assert told[1] == U
    assert "jinja2 0." in whole["page"]["sentences"][0]


@pytest.mark.parametrize("shows", [False, True])
def test_a_pdf_is_signed_inside_and_is_its_page_still(site, shows):
    pytest.importorskip("pyhanko")
    make = "req -x509 -newkey rsa:2048 -nodes -keyout k.pem -out c.pem -subj /CN=Anna -days 9"
    subprocess.run(["openssl", *make.split()], cwd=site, check=True, capture_output=True)
    pack = "pkcs12 -export -inkey k.pem -in c.pem -out me.p12 -passout pass:word"
    subprocess.run(["openssl", *pack.split()], cwd=site, check=True, capture_output=True)
    wrong = typed(site, "report", "r.pdf", "--sign", "me.p12", PORTCALL_PASSPHRASE="no")
    assert (wrong.returncode, "Traceback" in wrong.stderr) == (2, False), wrong.stderr
    assert not (site / "r.pdf").exists()
    words = ("report", "r.pdf", "--sign", "me.p12", "--remark", "all done")
    made = typed(site, *words, PORTCALL_PASSPHRASE="word")
    assert made.returncode == 1, made.stderr
    assert answers(site, "r.pdf")[:2] == (0, [Y, Y, Y, Y])
    data = (site / "r.pdf").read_bytes()
    # What somebody adds behind a signature is not covered by it.
    (site / "r.pdf").write_bytes(data + b"\n% more\n")
    assert answers(site, "r.pdf")[:2] == (1, [N, N, Y, Y])
    at = data.index(b"/MediaBox") if shows else len(data) // 2
    (site / "r.pdf").write_bytes(data[:at] + bytes([data[at] ^ 1]) + data[at + 1 :])
    code, told, _ = answers(site, "r.pdf") if shows else (1, [N, N], None)
    assert (code, told[0] != Y, told[1] != Y) == (1, True, True)
