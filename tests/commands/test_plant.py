"""The practice plant itself: apart from the computer, gone without a trace, for everyone."""

import os
import shutil
import signal
import subprocess
import sys
import sysconfig
import time
from itertools import product
from pathlib import Path

import pytest
from inside import PORTCALL, Plant

from moments import some

SIGNALS = (signal.SIGKILL, signal.SIGTERM, signal.SIGINT)
SOURCE = Path(__file__).parents[2] / "src"
AS_NOBODY = ["setpriv", "--reuid", "65534", "--regid", "65534", "--clear-groups", "--inh-caps=-all"]


def output(*words):
    return subprocess.run(words, capture_output=True, text=True, check=True).stdout


def traces(marker):
    """Everything a plant could leave behind: what of it has the marker, and what is shared."""
    marked = [line for line in output("ps", "axww").splitlines() if marker in line]
    mounts = Path("/proc/self/mountinfo").read_text()
    # A database that other tests run has its own there while it begins.
    shared = sorted(name for name in os.listdir("/dev/shm") if not name.startswith("PostgreSQL."))
    return marked, output("ip", "-o", "addr"), mounts, shared


def settled(marker, before, seconds=10):
    """Wait until everything is as before; give what it is in the end."""
    deadline = time.monotonic() + seconds
    while traces(marker) != before and time.monotonic() < deadline:
        time.sleep(0.2)
    return traces(marker)


@pytest.mark.parametrize(("how", "moment"), some(list(product(SIGNALS, (0.3, 1.0, 2.5))), 4))
def test_nothing_is_left_behind_however_it_ends(tmp_path, how, moment):
    marker = f"60.{os.getpid()}{int(moment * 10)}{int(how)}"
    before = traces(marker)
    assert before[0] == []
    # The command leaves a grandchild behind, which must go too.
    line = f"setsid sleep {marker} & portcall match dryer-plc; sleep {marker}"
    process = subprocess.Popen(
        [*PORTCALL, "plant", "run", "--", "sh", "-c", line],
        cwd=tmp_path,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
        start_new_session=True,
    )
    time.sleep(moment)
    assert traces(marker)[0]
    if how is signal.SIGINT:
        os.killpg(process.pid, how)  # As a terminal sends Ctrl-C: to all of them.
    else:
        process.send_signal(how)
    code = process.wait(timeout=20)
    assert code in (-how, 128 + how)
    assert settled(marker, before) == before
    assert list(tmp_path.iterdir()) == []


def test_ctrl_c_is_not_lost_while_the_plants_own_process_is_being_made():
    for _ in range(4):
        process = subprocess.Popen(
            [*PORTCALL, "plant", "run", "--", "sleep", "60"],
            stderr=subprocess.DEVNULL,
            start_new_session=True,
        )
        children = Path(f"/proc/{process.pid}/task/{process.pid}/children")
        while not children.read_text():
            assert process.poll() is None
        os.killpg(process.pid, signal.SIGINT)
        assert process.wait(timeout=20) in (-signal.SIGINT, 128 + signal.SIGINT)


def test_the_exit_code_is_the_commands():
    for command, code in (("exit 7", 7), ("kill -9 $$", 137), ("true", 0)):
        ended = subprocess.run([*PORTCALL, "plant", "run", "--", "sh", "-c", command], timeout=30)
        assert ended.returncode == code
    wrong = subprocess.run(
        [*PORTCALL, "plant", "run", "--", "no-such-program"], capture_output=True, text=True
    )
    assert wrong.returncode == 3
    assert wrong.stderr == "portcall: no-such-program: cannot be run: No such file or directory\n"


def test_plugs_power_and_the_list(plant):
    states = {d["name"]: d for d in plant.run("portcall plant list --json").json["devices"]}
    assert states["dryer-plc"]["address"] == "10.61.20.10/24"
    assert states["fan-drive-1"]["state"] == "asks by BOOTP"
    plant.run("portcall match dryer-plc --no-probe")
    plant.run("portcall plant unplug dryer-plc")
    assert plant.run("portcall reach dryer-plc --count 1").code == 1
    plant.run("portcall plant plug dryer-plc")
    assert plant.run("portcall reach dryer-plc --count 3").code == 0
    again = plant.run("portcall plant power-cycle dryer-plc")
    assert "started again, with 10.61.20.10/24" in again.out
    page = "import urllib.request as u; print(u.urlopen('http://203.0.113.40/').read().decode())"
    plant.run("portcall match 203.0.113.40 --no-probe")
    shown = plant.run(f'{sys.executable} -c "{page}"')
    assert "<h1>Narrows 2 serial gateway</h1>" in shown.out
    assert "C0E72B90" in shown.out


def test_outside_a_plant_its_inner_commands_say_so():
    ended = subprocess.run([*PORTCALL, "plant", "list"], capture_output=True, text=True)
    assert ended.returncode == 3
    assert "not inside a practice plant; start one: portcall plant shell" in ended.stderr


@pytest.mark.parametrize(
    ("change", "complaint"),
    [
        (("mac = ", "mac = 5 #"), "mac: 5 is not text"),
        (('speaks = ["cip"]', 'speaks = ["morse"]'), "speaks: ['morse'] is not a list out of cip"),
        (('"198.51.100.1/24"', '"198.51.100.0/24"'), "is the network number"),
        (("[[devices]]\nname", "[[devices]]\ncolour = 1\nname"), "devices 1: colour: is not a key"),
        (("firmware", "firmware = 1\n#"), "firmware: 1 is not text"),
        (('serial = "5A20170F"', 'serial = "xyz"'), "serial: xyz: a serial number is up to 8"),
        (('name = "fan-drive-2"', 'name = "fan-drive-1"'), "name fan-drive-1 stands twice"),
        (("[[devices]]", "[devices"), "is not TOML"),
    ],
)
def test_a_wrong_scenario_names_entry_and_key(tmp_path, change, complaint):
    shipped = SOURCE / "portcall/plant/scenarios/tern-point.toml"
    file = tmp_path / "own.toml"
    shutil.copy(shipped.with_name("skerry-40.eds"), tmp_path)
    text = shipped.read_text().replace('site = "tern-point"\n', "").replace(*change, 1)
    file.write_text(text)
    ended = subprocess.run(
        [*PORTCALL, "plant", "run", "--scenario", str(file), "--", "true"],
        capture_output=True,
        text=True,
    )
    assert (ended.returncode, complaint in ended.stderr) == (2, True), ended.stderr


def python_for_everyone():
    """A Python that an ordinary user may run with this one's packages, as (program, path)."""
    packages = sysconfig.get_paths()["purelib"]
    for program in (sys.executable, "/usr/bin/python3"):
        # The second interpreter is started by the ordinary user; the first still by root's leave.
        again = "import subprocess as s, sys; s.run([sys.executable, '-c', sys.argv[1]])"
        version = "import sys; print(*sys.version_info[:2], sep='.')"
        tried = subprocess.run(
            [*AS_NOBODY, program, "-c", again, version], capture_output=True, text=True, cwd="/"
        )
        if tried.stdout.strip() == f"{sys.version_info.major}.{sys.version_info.minor}":
            if subprocess.run([*AS_NOBODY, "test", "-r", packages], check=False).returncode:
                pytest.skip("others may not read what is installed here")
            return program, f"{SOURCE}{os.pathsep}{packages}"
    return None


@pytest.mark.long
def test_the_demo_tells_the_whole_story_also_to_an_ordinary_user():
    found = python_for_everyone() if os.geteuid() == 0 else None
    command, environment = [*PORTCALL, "demo"], dict(os.environ)
    if found is not None:
        program, path = found
        command = [*AS_NOBODY, program, "-B", "-m", "portcall", "demo"]
        environment = {"PYTHONPATH": path, "PATH": os.environ["PATH"], "HOME": "/nonexistent"}
    told = subprocess.run(
        command, env=environment, cwd="/", capture_output=True, text=True, timeout=180
    )
    assert told.returncode == 0, told.stdout + told.stderr
    for line in ("portcall adapters", "portcall find", "portcall match dryer-plc"):
        assert f"tern-point$ {line}" in told.stdout
    assert "differs in one digit from fan-drive-2" in told.stdout
    assert "io-island-1, 02-77-B1-90-00-3D: is at 10.61.20.31/24" in told.stdout
    assert "fan-drive-2 has started again, without an address" in told.stdout
    assert "That was the job" in told.stdout
    assert "portcall plant shell" in told.stdout
    assert "Traceback" not in told.stdout + told.stderr


def test_a_real_ping_gets_through_and_nothing_gets_out():
    if shutil.which("ping") is None:
        pytest.skip("not installed: ping")
    with Plant() as plant:
        assert plant.run("ping -c 1 -W 2 198.51.100.1").code == 0
        assert plant.run("ping -c 1 -W 1 192.0.2.1").code != 0
        assert "eth0" not in plant.run("ip link").out
        assert plant.run("cat /etc/resolv.conf").out.startswith("# The practice plant")
