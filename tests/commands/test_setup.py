"""``portcall setup``: the rights that it gives, to whom, and that nothing of it is left."""

import io
import json
import os
import shutil
import subprocess
import zipfile
from pathlib import Path

import pytest
from inside import PORTCALL
from ordinary import NOBODY, as_ordinary, interpreter, the_stick

from conftest import need

pytestmark = pytest.mark.skipif(os.getuid() != 0, reason="giving rights takes root")

SCRIPT = "#!{python}\nimport sys\nfrom portcall.cli.main import main\nsys.exit(main())\n"


class Installed:
    """The tool in a virtual environment that an ordinary user may read."""

    def __init__(self, folder):
        self.python = interpreter()
        subprocess.run([self.python, "-m", "venv", "--without-pip", folder / "venv"], check=True)
        with zipfile.ZipFile(the_stick()) as outer:
            tool = zipfile.ZipFile(io.BytesIO(outer.read("tool.zip")))
            tool.extractall(folder / "libraries")
        (packages,) = (folder / "venv" / "lib").glob("python3*/site-packages")
        (packages / "tool.pth").write_text(f"{folder / 'libraries'}\n")
        self.script = folder / "venv" / "bin" / "portcall"
        self.before = SCRIPT.format(python=self.script.with_name("python3")).encode()
        self.script.write_bytes(self.before)
        self.script.chmod(0o755)
        self.copy = self.script.with_name("portcall-python")

    def type(self, *words, who=(), **environment):
        return subprocess.run(
            [*who, str(self.script), *words],
            capture_output=True,
            text=True,
            timeout=60,
            cwd="/",
            env={"PATH": os.environ["PATH"], "HOME": "/"} | environment,
            stdin=subprocess.DEVNULL,
        )

    def state(self):
        return json.loads(self.type("setup", "--json").stdout)


@pytest.fixture
def tool(request):
    folder = Path("/tmp") / f"portcall-setup-{os.getpid()}-{len(request.node.name)}"
    folder.mkdir(mode=0o755)
    yield Installed(folder)
    shutil.rmtree(folder)


def test_an_ordinary_user_of_the_group_listens_without_sudo_and_everything_goes_back(tool):
    need("getcap", "setpriv")
    shown = tool.type("setup")
    assert (shown.returncode, "not set up" in shown.stdout) == (1, True)
    assert tool.script.read_bytes() == tool.before
    # Who called sudo is whose group may run it.
    sudo = {"SUDO_UID": str(NOBODY), "SUDO_GID": str(NOBODY)}
    done = tool.type("setup", "--yes", **sudo)
    assert done.returncode == 0, done.stderr
    rights = "cap_net_bind_service,cap_net_admin,cap_net_raw=ep"
    told = subprocess.run(["getcap", tool.copy], capture_output=True, text=True).stdout
    assert told == f"{tool.copy} {rights}\n"
    at = tool.copy.stat()
    assert (at.st_uid, at.st_gid, at.st_mode & 0o7777) == (0, NOBODY, 0o750)
    # The interpreter that everybody runs has none.
    assert not subprocess.run(["getcap", tool.python], capture_output=True).stdout
    # In a practice plant, on its wire: what takes raw Ethernet is there for that user.
    inside = [*PORTCALL, "plant", "run", "--", *as_ordinary(network=False)]
    heard = tool.type("listen", "--for", "3", "--adapter", "usb0", "--json", who=inside)
    assert heard.returncode == 0, heard.stderr
    assert "02-77-B1-4C-09-21" in heard.stdout
    # That user's own practice plant comes up as it did.
    line = ["plant", "run", "--", str(tool.script), "plant", "list", "--json"]
    practised = tool.type(*line, who=as_ordinary())
    assert (practised.returncode, "dryer-plc" in practised.stdout) == (0, True), practised.stderr
    # Typed again it changes nothing; somebody else may not run it.
    held = tool.script.read_bytes(), tool.copy.stat().st_ino
    assert tool.type("setup", "--yes", **sudo).returncode == 0
    assert (tool.script.read_bytes(), tool.copy.stat().st_ino) == held
    other = ["setpriv", "--reuid", "12345", "--regid", "12345", "--clear-groups"]
    # By a shell: what becomes an ordinary user may still run what that user may not.
    shell = [*other, "sh", "-c", '"$@"', "sh"]
    assert tool.type("--version", who=shell).returncode == 126
    refused = tool.type("setup", "--undo", who=as_ordinary())
    assert (refused.returncode, f"sudo {tool.script} setup --undo" in refused.stderr) == (3, True)
    assert tool.type("setup", "--undo").returncode == 0
    assert tool.script.read_bytes() == tool.before
    assert not tool.copy.exists()
    again = tool.type("setup", "--undo")
    assert (again.returncode, again.stderr) == (0, "nothing was set up\n")


def test_what_is_not_right_any_more_is_said_and_put_right_by_the_same_line(tool):
    line = ("setup", "--yes", "--group", "nogroup")
    assert tool.type(*line).returncode == 0
    damages = {
        "does not have these rights, and no others": lambda: os.removexattr(
            tool.copy, "security.capability"
        ),
        "is not there": tool.copy.unlink,
        "can be changed or run by others": lambda: tool.copy.chmod(0o777),
        # Killed before the last step, or installed again by pip.
        "is not run by it": lambda: tool.script.write_bytes(tool.before),
    }
    for words, damage in damages.items():
        damage()
        if tool.copy.exists() or words == "is not run by it":
            state = tool.state()
            assert state["set_up"] is False
            assert any(words in each for each in state["missing"]), state
            assert tool.type(*line).returncode == 0
        else:
            # Without the copy nothing runs at all: pip, or the line in the script, puts that right.
            tool.script.write_bytes(tool.before)
            assert tool.type(*line).returncode == 0
        assert tool.state()["set_up"] is True
    # An interpreter that does not run the program takes no place: what worked goes on working.
    held = tool.script.read_bytes()
    for broken in (b"#!/bin/false", b"#!/bin/true", b"#!/nowhere/python3"):
        tool.script.write_bytes(held.replace(tool.before.split(b"\n")[0], broken))
        inode = tool.copy.stat().st_ino
        refused = tool.type(*line[:2], "--group", "daemon")
        assert (refused.returncode, "Traceback" in refused.stderr) == (3, False), refused.stderr
        assert tool.copy.stat().st_ino == inode
        assert tool.type("--version").returncode == 0
    assert sorted(path.name for path in tool.script.parent.glob("portcall*")) == [
        "portcall",
        "portcall-python",
    ]
    tool.script.write_bytes(tool.before)
    assert tool.type("setup", "--undo").returncode == 0
    assert tool.state()["group"] is None


def test_what_cannot_be_set_up_is_refused_with_the_reason_and_nothing_is_changed(tool):
    for words, code, reason in (
        (["--yes"], 2, "root needs no rights; whose group may run this program? --group GROUP"),
        (["--yes", "--group", "no such"], 2, "--group no such: there is no such group here"),
        (["--undo", "--yes"], 2, "--undo takes back what was done"),
    ):
        told = tool.type("setup", *words)
        assert (told.returncode, reason in told.stderr) == (code, True), told.stderr
    told = tool.type("setup", "--yes", who=as_ordinary())
    assert (told.returncode, f"sudo {tool.script} setup --yes" in told.stderr) == (3, True)
    for program in ([*PORTCALL], [tool.python, str(the_stick())]):
        told = subprocess.run([*program, "setup"], capture_output=True, text=True)
        assert (told.returncode, "Traceback" in told.stderr) == (3, False), told.stderr
        assert "with sudo" in told.stderr
    assert not tool.copy.exists()
