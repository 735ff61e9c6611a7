"""What is handed on: the wheel, the man pages, the pages of help, and what README.md says."""

import os
import re
import runpy
import subprocess
import sys
import zipfile
from pathlib import Path

import click
import nursery
import pytest
from ordinary import STICK

from conftest import need
from portcall import __version__
from portcall.cli.main import COMMANDS
from portcall.cli.main import portcall as program
from portcall.cli.topics import TOPICS, page
from portcall.core.plan.columns import COLUMNS
from portcall.core.why.ladder import Cause
from portcall.jobs.workstation.setup import GIVEN
from portcall.plant.faults import ON_DEVICES, ON_WORKSTATION
from portcall.plant.scenario import Speaks

ROOT = Path(__file__).parents[2]
WHEEL = ROOT / "dist" / f"portcall-{__version__}-py3-none-any.whl"
README = (ROOT / "README.md").read_text(encoding="utf-8")


@pytest.fixture
def wheel():
    if not WHEEL.exists():
        reason = f"{WHEEL} is not there; make wheel makes it, with the network"
        if os.environ.get("CI") == "true":
            pytest.fail(reason)
        pytest.skip(reason)
    return WHEEL


def test_the_wheel_is_as_small_as_the_page_says_and_has_what_it_needs(wheel, tmp_path):
    libraries = runpy.run_path(str(ROOT / "stick" / "build.py"))["needed"]()
    assert f"needs {len(libraries)} libraries" in README
    (most,) = re.findall(r"under ([\d.]+) MB", README)
    assert wheel.stat().st_size < float(most) * 1e6
    names = zipfile.ZipFile(wheel).namelist()
    pages = {Path(name).name for name in names if "/share/man/" in name}
    assert pages == {path.name for path in (ROOT / "docs" / "man").iterdir()}
    for path in (ROOT / "src" / "portcall").rglob("*"):
        is_one = path.is_file() and "__pycache__" not in path.parts
        assert not is_one or path.relative_to(ROOT / "src").as_posix() in names, path
    # What it needs is what the stick holds; here that stands in for the network.
    with zipfile.ZipFile(STICK) as outer, outer.open("tool.zip") as inner:
        tool = zipfile.ZipFile(inner)
        others = [name for name in tool.namelist() if not name.startswith("portcall")]
        tool.extractall(tmp_path / "libraries", others)
    subprocess.run([sys.executable, "-m", "venv", tmp_path / "venv"], check=True)
    program = tmp_path / "venv" / "bin"
    pip = [program / "pip", "install", "--quiet", "--no-deps", "--no-index", wheel]
    subprocess.run(pip, check=True, stderr=subprocess.DEVNULL)
    environment = {"PATH": "/usr/bin:/bin", "PYTHONPATH": str(tmp_path / "libraries")}
    for name in COMMANDS:
        shown = subprocess.run(
            [program / "portcall", name, "--help"], capture_output=True, text=True, env=environment
        )
        assert (shown.returncode, shown.stderr) == (0, ""), name


def test_man_pages_say_what_the_commands_and_topics_say_now():
    told = subprocess.run(
        [sys.executable, ROOT / "docs" / "man.py", "--check"], capture_output=True, text=True
    )
    assert (told.returncode, told.stderr) == (0, "")


def test_every_man_page_is_drawn_without_a_complaint():
    need("groff")
    for path in (ROOT / "docs" / "man").iterdir():
        drawn = subprocess.run(
            ["groff", "-K", "utf8", "-man", "-Tutf8", "-ww", path], capture_output=True, text=True
        )
        assert (drawn.returncode, drawn.stderr) == (0, ""), path
        assert len(drawn.stdout.split("\n")) > 15


def every_command(command=program, words="portcall", parent=None):
    context = click.Context(command, info_name=words.split()[-1], parent=parent)
    yield words, command
    if isinstance(command, click.Group):
        for name in command.list_commands(context):
            inner = command.get_command(context, name)
            yield from every_command(inner, f"{words} {name}", context)


def test_every_option_says_what_it_is_for_and_what_it_takes_in_words():
    for words, command in every_command():
        for option in command.params:
            if isinstance(option, click.Option):
                assert option.help, f"{words} {option.opts}"
                metavar = option.make_metavar(click.Context(command))
                assert " RANGE" not in metavar, f"{words} {option.opts}"


def asked(*words):
    return nursery.run(["help", *words])


def test_help_shows_topics_and_commands_and_knows_what_was_meant():
    listed = asked().stdout
    for topic, about in TOPICS.items():
        assert f"  {topic} " in listed
        assert about[:40] in listed
        assert asked(topic).stdout == page(topic)
    for words in ("find", "plan take", "plant power-cycle"):
        usual = nursery.run([*words.split(), "--help"])
        assert asked(*words.split()).stdout == usual.stdout
    for words, meant in (
        ("priv", "did you mean privileges?"),
        ("exitcodes", "did you mean exit-codes"),
        ("plan tke", "plan tke: is no topic and no command"),
    ):
        told = asked(*words.split())
        assert (told.returncode, meant in told.stderr) == (2, True)


def test_topics_say_what_the_program_does():
    columns = page("plan-columns")
    for column in COLUMNS:
        assert f"`{column}`" in columns
    for topic, text in {"privileges": page("privileges"), "README.md": README}.items():
        named = set(re.findall(r"CAP_(NET_\w+)", text))
        assert named >= {right.name for right in GIVEN}, topic
    for spoken in Speaks:
        assert f"`{spoken}`" in page("scenarios")
    for fault in {*ON_DEVICES, *ON_WORKSTATION, *Cause}:
        assert f"`{fault}`" in page("faults")
    for topic in TOPICS:
        for other in re.findall(r"portcall help ([a-z-]+)", page(topic)):
            assert other in {**TOPICS, **COMMANDS}, f"{topic}: {other}"


def test_every_file_and_picture_that_the_pages_name_is_there():
    pages = [ROOT / "README.md", ROOT / "CONTRIBUTING.md", ROOT / "CHANGELOG.md"]
    pages += [*(ROOT / "docs").glob("*.md")]
    for path in pages:
        for target in re.findall(r"\]\(([^)#:]+)(?:#[^)]*)?\)", path.read_text(encoding="utf-8")):
            assert (path.parent / target).exists(), f"{path.name}: {target}"
    shown = set(re.findall(r"docs/screenshots/[\w-]+\.png", README))
    shown |= {
        f"docs/{each}"
        for path in (ROOT / "docs").glob("*.md")
        for each in re.findall(r"screenshots/[\w-]+\.png", path.read_text(encoding="utf-8"))
    }
    there = {f"docs/screenshots/{path.name}" for path in (ROOT / "docs/screenshots").glob("*.png")}
    assert shown == there
