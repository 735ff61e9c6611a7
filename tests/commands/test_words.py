"""The command's own words: version, help, completion, and how output is cut off."""

import os
import subprocess

import nursery
import pytest
from inside import PORTCALL

from portcall import __version__
from portcall.cli.main import COMMANDS


def portcall(*words, **environment):
    return nursery.run(list(words), env={**os.environ, **environment})


def test_version_and_help():
    assert portcall("--version").stdout == f"portcall {__version__}\n"
    shown = portcall("--help").stdout
    for name, summary in COMMANDS.items():
        assert f"{name} " in shown
        assert summary[:40] in shown
    assert shown.index("adapters") < shown.index("match") < shown.index("restore")


def test_every_command_has_help_of_its_own_and_takes_json():
    for name in COMMANDS:
        shown = portcall(name, "--help")
        assert shown.returncode == 0
        # What a visit prints is what the person's own line prints.
        if name not in ("catalog", "plan", "plant", "demo", "logbook", "visit"):
            assert "--json" in shown.stdout


COMPLETING = {
    "_PORTCALL_COMPLETE": "bash_complete",
    "COMP_WORDS": "portcall as",
    "COMP_CWORD": "1",
}


@pytest.mark.parametrize(
    ("words", "environment"),
    [
        (["--version"], {}),
        (["--help"], {}),
        (
            [],
            {"_PORTCALL_COMPLETE": "bash_complete", "COMP_WORDS": "portcall as", "COMP_CWORD": "1"},
        ),
    ],
)
def test_version_help_and_the_list_of_commands_import_nothing_heavy(words, environment):
    code = (
        f"import sys\nsys.argv = ['portcall', *{words!r}]\n"
        "from portcall.cli.main import main\n"
        "try:\n    main()\nexcept SystemExit:\n    pass\n"
        "heavy = {'rich', 'pyroute2', 'netaddr', 'asyncio', 'platformdirs', 'json'}\n"
        "assert not heavy & set(sys.modules), heavy & set(sys.modules)\n"
    )
    ended = subprocess.run(
        [PORTCALL[0], "-c", code],
        capture_output=True,
        text=True,
        env={**os.environ, **environment},
    )
    assert ended.returncode == 0, ended.stderr
    assert ended.stdout


def test_completion_knows_commands_and_options():
    for words, index, expected in (
        ("portcall as", "1", "assign"),
        ("portcall assign --al", "2", "--alongside"),
        ("portcall plant po", "2", "power-cycle"),
    ):
        completed = portcall(_PORTCALL_COMPLETE="bash_complete", COMP_WORDS=words, COMP_CWORD=index)
        assert expected in completed.stdout


def test_a_reader_that_goes_away_is_no_error():
    ended = subprocess.run(
        f"{' '.join(PORTCALL)} --help | head -c 10; exit ${{PIPESTATUS[0]}}",
        shell=True,
        executable="/bin/bash",
        capture_output=True,
        text=True,
    )
    assert ended.stderr == ""
