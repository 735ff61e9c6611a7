"""The whole tool in one file: run by an ordinary user, without network and without libraries."""

import os
import runpy
import shutil
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

from portcall.cli.main import COMMANDS

MADE = Path(__file__).parents[2] / "dist" / "portcall.pyz"
NOBODY = 65534


def interpreter():
    """One that anybody may run; root's own is often in root's own folder."""
    for path in (os.path.realpath(sys.executable), "/usr/bin/python3"):
        # By a shell: what becomes an ordinary user may still run what that user may not.
        asked = f"exec {path} -c 'import sys; print(sys.version_info >= (3, 11))'"
        told = subprocess.run(
            [*as_ordinary(), "sh", "-c", asked],
            capture_output=True,
            text=True,
            cwd="/",
        )
        if told.stdout == "True\n":
            return path
    pytest.skip("no interpreter of Python 3.11 that an ordinary user may run")


def as_ordinary():
    if os.getuid() != 0:
        return []
    ids = ["--reuid", str(NOBODY), "--regid", str(NOBODY), "--clear-groups"]
    return ["unshare", "--net", "setpriv", *ids]


@pytest.fixture(scope="module")
def archive():
    if not MADE.exists():
        reason = "dist/portcall.pyz is not there; make stick makes it, with the network"
        if os.environ.get("CI") == "true":
            pytest.fail(reason)
        pytest.skip(reason)
    # Where an ordinary user may read it: pytest's own folders are the caller's alone.
    folder = Path("/tmp") / f"portcall-stick-{os.getpid()}"
    folder.mkdir()
    shutil.copy(MADE, folder)
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


def test_the_page_says_how_many_libraries_there_are():
    root = MADE.parents[1]
    told = runpy.run_path(str(root / "stick" / "build.py"))["needed"]()
    assert f"needs {len(told)} libraries" in (root / "README.md").read_text()


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
    shutil.rmtree(person.home / ".cache", ignore_errors=True)
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
    (stick / "portcall.portable").unlink()
    shutil.rmtree(stick / "portcall-files")
    assert person.type("--portable", "--version").returncode == 0
    assert (stick / "portcall-files").is_dir()
