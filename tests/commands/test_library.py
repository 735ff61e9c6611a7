"""The scripts of docs/library.md, as they stand there, on the practice plant."""

import re
import sys
from pathlib import Path

import pytest

LIBRARY = Path(__file__).parents[2] / "docs" / "library.md"
SCRIPTS = dict(
    re.findall(r"^## (.*?)\n.*?```python\n(.*?)```", LIBRARY.read_text(), re.DOTALL | re.MULTILINE)
)


@pytest.fixture(scope="module")
def printed(quiet_plant):
    """What each script prints, one after the other."""

    def run(title):
        quiet_plant.write("script.py", SCRIPTS[title])
        ended = quiet_plant.run(f"{sys.executable} script.py", timeout=90)
        assert (ended.code, ended.err) == (0, "")
        return ended.out

    return {title: run(title) for title in SCRIPTS}


def test_a_look_an_assignment_a_verification_and_a_diagnosis_take_ten_lines_each(printed):
    assert list(printed) == ["A look", "An assignment", "A verification", "A diagnosis"]
    for script in SCRIPTS.values():
        body = script.split("\n\n")[-1]
        assert len(body.splitlines()) <= 10
    assert re.search(r"02-5A-1D-20-7F-10 10\.61\.20\.10 .*Skerry 40", printed["A look"])
    assert "02-77-B1-90-00-3D" in printed["A look"]
    assert "usb0: 10.61.20.200/24 added until this ends" in printed["An assignment"]
    assert "as it was before: no address" in printed["An assignment"]
    assert printed["An assignment"].endswith("done answering\n")
    verdicts = dict(line.split()[:2] for line in printed["A verification"].splitlines())
    assert verdicts["weigh-gateway"] == "elsewhere"
    assert verdicts["io-island-1"] == "no"
    assert re.search(r"\d of 8\n$", printed["A verification"])
    assert "own address broken usb0 has no address" in printed["A diagnosis"]
    assert printed["A diagnosis"].endswith("nothing can be sent from it by IPv4.\n")


def test_nothing_in_jobs_prints_or_reads_a_key():
    jobs = Path(__file__).parents[2] / "src" / "portcall" / "jobs"
    text = "\n".join(path.read_text() for path in jobs.rglob("*.py"))
    assert len(text) > 50_000
    assert re.findall(r"\b(print|input)\(|stdin|stdout|stderr|isatty", text) == []
