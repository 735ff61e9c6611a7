"""The whole tool in one file: run by an ordinary user, without network and without libraries."""

import os
import shutil
import signal
import subprocess
import time
from pathlib import Path

import pytest
from ordinary import NOBODY, as_ordinary, interpreter, the_stick

from portcall.cli.main import COMMANDS


@pytest.fixture(scope="module")
def archive():
    # Where an ordinary user may read it: pytest's own folders are the caller's alone.
    folder = Path("/tmp") / f"portcall-stick-{os.getpid()}"
    folder.mkdir()
    shutil.copy(the_stick(), folder)
    folder.chmod(0o555)
    yield folder / "portcall.pyz"
    folder.chmod(0o755)
    shutil.rmtree(folder)


class Person:
    """An ordinary user with a home of their own, and nothing installed."""

    def __init__(self, home, archive):
        home.mkdir()
        home.chmod(0o755)
        if os.getuid() == 0:
            os.chown(home, NOBODY, NOBODY)
        self.home, self.archive, self.python = home, archive, interpreter()

    def command(self, *words):
        return [*as_ordinary(), self.python, "-I", "-S", str(self.archive), *words]

    @property
    def environment(self):
        return {"HOME": str(self.home), "PATH": "/usr/bin:/bin:/usr/sbin", "LC_ALL": "C.UTF-8"}

    def type(self, *words, timeout=120, **more):
        return subprocess.run(
            self.command(*words),
            env=self.environment | more,
            cwd=self.archive.parent,
            capture_output=True,
            text=True,
            timeout=timeout,
        )


@pytest.fixture
def person(archive, request):
    home = Path("/tmp") / f"portcall-home-{os.getpid()}-{len(request.node.name)}"
    yield Person(home, archive)
    shutil.rmtree(home)


@pytest.mark.long
@pytest.mark.xdist_group("stick")
def test_it_unpacks_once_says_where_and_runs_everything(person):
    first = person.type("--version")
    (folder,) = (person.home / ".cache" / "portcall").iterdir()
    assert first.stderr == f"portcall: unpacked once into {folder}, which may be removed\n"
    assert first.stdout.startswith("portcall ")
    again = person.type("--version")
    assert (again.stdout, again.stderr) == (first.stdout, "")
    for name in COMMANDS:
        shown = person.type(name, "--help")
        assert (shown.returncode, shown.stderr) == (0, ""), name
    # What it does not have is named with the line that gets it.
    missing = person.type("report", "r.html")
    assert (missing.returncode, "portcall[report]" in missing.stderr) == (3, True), missing.stderr
    # The practice plant, with a portcall inside that is this one.
    found = person.type("plant", "run", "--", "portcall", "find", "--adapter", "usb0", "--json")
    assert (found.returncode, "dryer-plc" in found.stdout) == (0, True), found.stderr
    shutil.rmtree(folder)
    assert "unpacked once" in person.type("--version").stderr


EDS = '[Device] VendCode=64102; VendName="Whimbrel Drives"; ProdCode=704; ProdName="Gale 7";'

COMPLETE = """
source <("$0" completion bash)
COMP_WORDS=("$0" "$@") COMP_CWORD=$#
_portcallpyz_completion "$0"
echo "${COMPREPLY[@]}"
"""


@pytest.mark.long
@pytest.mark.xdist_group("stick")
def test_catalogues_topics_and_completion_work_from_the_file(person):
    (person.home / "gale7.eds").write_text(EDS)
    added = person.type("catalog", "add", str(person.home / "gale7.eds"), "--everywhere")
    assert added.returncode == 0, added.stderr
    assert "Gale 7" in person.type("catalog", "list").stdout
    line = "cd $PRACTICE_SITE; portcall match 10.61.20.0/24 --no-probe; "
    line += "portcall catalog add --from dryer-plc"
    carried = person.type("plant", "run", "--", "sh", "-c", line)
    assert "64101, product 40: Sandlark Controls, Skerry 40" in carried.stdout, carried.stderr
    assert person.type("help", "exit-codes").stdout.startswith("# How a command ends")
    # It completes what a person types to start it; its first line finds this interpreter.
    folder = person.home / "bin"
    folder.mkdir()
    (folder / "python3").symlink_to(person.python)
    for words, expected in ((["swe"], ""), (["sw"], "swap"), (["plan", "ta"], "take")):
        told = subprocess.run(
            [*as_ordinary(), "bash", "-c", COMPLETE, str(person.archive), *words],
            env=person.environment | {"PATH": f"{folder}:/usr/bin:/bin"},
            capture_output=True,
            text=True,
            timeout=60,
        )
        assert (told.stdout.strip(), told.stderr) == (expected, "")


@pytest.mark.long
@pytest.mark.xdist_group("stick")
def test_killed_while_it_unpacks_and_two_at_once(person):
    for moment in range(6):
        with subprocess.Popen(
            person.command("--version"),
            env=person.environment,
            cwd=person.archive.parent,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        ) as running:
            time.sleep(0.1 + 0.1 * moment)
            running.send_signal(signal.SIGKILL)
    both = [
        subprocess.Popen(
            person.command("--version"),
            env=person.environment,
            cwd=person.archive.parent,
            stdout=subprocess.PIPE,
            text=True,
        )
        for _ in range(2)
    ]
    assert [each.communicate(timeout=60)[0].split()[0] for each in both] == ["portcall"] * 2
    assert len(list((person.home / ".cache" / "portcall").iterdir())) == 1
    assert person.type("find", "--help").returncode == 0


@pytest.mark.long
@pytest.mark.xdist_group("stick")
def test_where_it_cannot_unpack_or_others_can_write_it_is_for_this_time(person):
    (person.home / ".cache").write_text("a file")
    shown = person.type("find", "--help")
    assert (shown.returncode, "for this time only" in shown.stderr) == (0, True)
    assert not list(Path("/tmp").glob("portcall-*/tool"))
    (person.home / ".cache").unlink()
    person.type("--version")
    (folder,) = (person.home / ".cache" / "portcall").iterdir()
    folder.chmod(0o777)
    shown = person.type("--version")
    assert shown.stdout.startswith("portcall ")
    assert "others can write there" in shown.stderr


@pytest.mark.long
@pytest.mark.xdist_group("stick")
def test_portable_keeps_everything_beside_it(person):
    stick = person.home / "stick"
    stick.mkdir()
    shutil.copy(person.archive, stick / "portcall.pyz")
    (stick / "portcall.portable").touch()
    if os.getuid() == 0:
        os.chown(stick, NOBODY, NOBODY)
    person.archive = stick / "portcall.pyz"
    line = "portcall match 10.61.20.0/24 --adapter usb0 --no-probe; ls $PORTCALL_STATE"
    inside = person.type("plant", "run", "--", "sh", "-c", line)
    assert inside.returncode == 0, inside.stderr
    assert not (person.home / ".cache").exists()
    assert (stick / "portcall-files").is_dir()
    # Outside of a plant, what is remembered is on the stick.
    person.type("logbook", "show")
    assert (stick / "portcall-files" / "state").is_dir()
    # What somebody planted there is not run, nor what was changed.
    (unpacked,) = (each for each in (stick / "portcall-files").iterdir() if each.name != "state")
    cli = unpacked / "portcall" / "cli"
    (unpacked / "click.pth.py").write_text("print('planted')")
    planted = person.type("--version")
    assert "it is not of this program: click.pth.py" in planted.stderr
    (unpacked / "click.pth.py").unlink()
    with open(cli / "main.py", "a") as module:
        module.write("print('planted')\n")
    changed = person.type("--version")
    assert "it was changed: portcall/cli/main.py" in changed.stderr
    shutil.copy(cli / "help.py", cli / "main.py")
    (stick / "portcall-files").chmod(0o777)
    open_to_all = person.type("--version")
    assert f"others can write in {stick / 'portcall-files'}" in open_to_all.stderr
    for ended in (planted, changed, open_to_all):
        assert "planted" not in ended.stdout
        assert ended.stdout.startswith("portcall ")
    (stick / "portcall.portable").unlink()
    shutil.rmtree(stick / "portcall-files")
    assert person.type("--portable", "--version").returncode == 0
    assert (stick / "portcall-files").is_dir()
