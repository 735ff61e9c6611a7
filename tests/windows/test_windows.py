"""What is Windows' own: names, consoles, the firewall, a computer without a capture driver.

The command tests that have the mark ``windows`` are typed there too, in the same lane.
"""

from __future__ import annotations

import base64
import re
import shlex
import signal
from pathlib import Path

import laptop
import pytest
from inside import PORTCALL, Plant
from ordinary import the_stick

NAME = "Ethernet 2 [B\xfcro] (USB)"
ROOT = Path(__file__).parents[2]


@pytest.fixture(scope="module")
def there():
    with Plant() as plant:
        yield plant


def without_driver(line):
    """A line of ours on a computer that has no capture driver."""
    return f"env PORTCALL_WINDOWS_NO_DRIVER=1 {shlex.join(PORTCALL)} {line}"


def python(plant, words, **variables):
    """A line of the Python for Windows itself, and not of ours; Wine wants real handles."""
    changed = shlex.join(f"{name}={value}" for name, value in variables.items())
    line = f"env {changed} wine {shlex.quote(laptop.python())} {words} </dev/null"
    return plant.run(f"sh -c {shlex.quote(line)}", timeout=120)


@pytest.fixture
def alone(there):
    """What Wine has in its environment, for a line that is not typed by the plant's other end."""
    all_of_them = there.run('sh -c \'cat /proc/[0-9]*/environ | tr "\\0" "\\n"\'').out
    (folder,) = set(re.findall("^WINEPREFIX=(.*)", all_of_them, re.MULTILINE))
    return {**laptop.VARIABLES, "WINEPREFIX": folder}


def addresses(there):
    return there.run("ip -br -4 addr show usb0").out.split()[2:]


HELP = """
import click
from click.testing import CliRunner
from portcall.cli.main import portcall
def each(group, words):
    yield words
    if isinstance(group, click.Group):
        for name in group.list_commands(click.Context(group)):
            command = group.get_command(click.Context(group), name)
            yield from each(command, [*words, name])
for words in each(portcall, []):
    ended = CliRunner().invoke(portcall, [*words, "--help"])
    assert ended.exit_code == 0 and "Usage" in ended.output, (words, ended)
print("all")
"""


def test_every_page_of_help_can_be_had(there, alone):
    there.write("help.py", HELP)
    assert python(there, "help.py", **alone).out.split() == ["all"]


def test_the_tests_of_plan_files_pass_there(there, alone):
    tests = ROOT / "tests" / "cli" / "test_plan_files.py"
    more = {"PYTHONPATH": f"{alone['PYTHONPATH']};Z:{ROOT / 'tests'};Z:{tests.parent}"}
    words = f"-m pytest --noconftest -q -p no:cacheprovider {tests}"
    ran = python(there, words, **{**alone, **more})
    assert (ran.code, "100%" in ran.out) == (0, True), ran


def test_a_plan_keeps_its_lines_and_its_letters_and_paths_are_windows_own(there):
    kept = there.run("cat plan.csv").out
    spreadsheets = "name;mac;address\r\nTrockner;;10.61.20.10\r\nL\xfcfter;;10.61.20.21\r\n"
    there.write("plan.csv", spreadsheets.encode("cp1252"))
    assert there.run("portcall plan set Trockner mac=02-5A-1D-20-7F-10").code == 0
    seen = base64.b64decode(there.run("base64 plan.csv").out)
    assert seen.splitlines(keepends=True)[1:] == [
        b"Trockner;02-5A-1D-20-7F-10;10.61.20.10\r\n",
        b"L\xfcfter;;10.61.20.21\r\n",
    ]
    there.write("plan.csv", kept)
    there.run("mkdir -p 'Anlage 3'")
    folder = f"Z:{there.site}".replace("/", "\\")
    whole = shlex.quote(f"{folder}\\Anlage 3\\Liste.xlsx")
    assert there.run(f"portcall plan export {whole}").code == 0
    compared = there.run("portcall plan import 'Anlage 3\\Liste.xlsx' --dry-run")
    assert compared.code == 0, compared


def test_adapters_go_by_any_name_and_are_the_same_under_another(there):
    there.run(f"ip link set usb0 alias {shlex.quote(NAME)}")
    matched = there.run(f"portcall match dryer-plc --no-probe --adapter {shlex.quote(NAME)}")
    assert (matched.code, f"{NAME} now has 10.61.20.200/24" in matched.out) == (0, True), matched
    asks = "_PORTCALL_COMPLETE=powershell_complete 'COMP_WORDS=portcall\nfind\n--adapter'"
    told = there.run(f"env {asks} COMP_CWORD=Eth {shlex.join(PORTCALL)}")
    assert told.out == f"{NAME}\t\n"
    there.run("ip link set usb0 alias Werk")
    assert "Werk: 10.61.20.200/24 removed" in there.run("portcall restore").out
    there.run("ip link set usb0 alias ''")
    written = there.run("portcall completion powershell --install").err
    assert re.search(r'once its settings have: \. ".*completion.ps1"', written)
    script = there.run("portcall completion powershell").out
    assert "Register-ArgumentCompleter -Native" in script


@pytest.mark.parametrize("how", [signal.SIGINT, signal.SIGTERM, signal.SIGHUP])
def test_ctrl_c_ctrl_break_and_a_closed_window_put_back_what_was_matched(there, how):
    serving = there.start("portcall assign fan-drive-2 --match --for 60", signalled=True)
    there.until(serving, "Ctrl-C ends it")
    assert addresses(there) == ["10.61.20.200/24"]
    there.finish(serving, how)
    there.until_true("! ip -br -4 addr show usb0 | grep -q 10.61")
    assert there.run("portcall restore --show").out == "nothing is open\n"


def test_two_lines_at_once_both_stand_in_the_logbook(there):
    rows = [f"lamp-{number}" for number in range(6)]
    started = [
        there.start(f"portcall plan add {row} 10.61.20.{70 + number}")
        for number, row in enumerate(rows)
    ]
    assert [there.finish(each).code for each in started] == [0] * len(rows)
    told = there.run("portcall logbook show --json").json["entries"]
    assert set(rows) <= {name for entry in told for name in re.findall(r"lamp-\d", str(entry))}
    assert there.run(f"portcall plan remove {' '.join(rows)}").code == 0


def test_without_a_capture_driver_the_system_is_asked(there):
    bare = there.run(without_driver("find"))
    assert (bare.code, "portcall help windows" in bare.err) == (3, True)
    # Windows asks by itself whether somebody has an address, when that is added.
    taken = there.run(without_driver("match dryer-plc --address 10.61.20.15/24"))
    assert (taken.code, "10.61.20.15 is taken; nothing is changed" in taken.err) == (3, True)
    assert addresses(there) == []
    assert there.run(without_driver("match dryer-plc")).code == 0
    found = there.run(without_driver("find --json")).json
    who = {device["addresses"][0]: device["mac"] for device in found["devices"]}
    assert (
        who.items()
        >= {
            "10.61.20.1": "02-D0-11-3E-20-01",
            "10.61.20.10": "02-5A-1D-20-7F-10",
            "10.61.20.15": "02-5A-1D-04-40-3B",
        }.items()
    )
    assert {"lldp", "dcp", "listen"} <= {each["method"] for each in found["not_run"]}
    assert there.run(without_driver("why dryer-plc")).code == 0
    assert there.run(without_driver("keep dryer-plc")).code == 0
    moved = there.run(without_driver("move dryer-plc --to 10.61.20.11"))
    assert (moved.code, "is at 10.61.20.11/24" in moved.out) == (0, True), moved
    assert there.run(without_driver("move dryer-plc --undo")).code == 0
    given = there.run(without_driver("assign fan-drive-1 --keep --until-done --for 40"))
    assert (given.code, given.out.count("answering  fan-drive-1")) == (0, 1), given
    assert "kept       fan-drive-1" in given.out
    served = there.run(without_driver("verify fan-drive-1 dryer-plc --json"))
    assert (served.code, served.json["right"]) == (0, 2), served
    for line in (
        "listen --for 1",
        "blink io-island-1",
        "swap belt-drive --yes",
        "find --capture seen.pcapng",
    ):
        refused = there.run(without_driver(line))
        assert (refused.code, "a capture driver" in refused.err) == (3, True), (line, refused)
    assert there.run("portcall restore").code == 0
    there.run("portcall plant power-cycle fan-drive-1")


POLICY = r"HKLM\SYSTEM\CurrentControlSet\Services\SharedAccess\Parameters\FirewallPolicy"


def test_the_firewall_of_windows_is_named_where_it_keeps_devices_out(there, alone):
    def register(key, name, kind, value):
        words = ["reg", "add", rf"{POLICY}\{key}", "/v", name, "/t", kind, "/d", value, "/f"]
        changed = [f"{name}={value}" for name, value in alone.items()]
        line = f"{shlex.join(['env', *changed, 'wine', *words])} </dev/null"
        assert there.run(f"sh -c {shlex.quote(line)}").code == 0

    def told():
        return there.run(without_driver("assign fan-drive-2 --for 1")).out

    assert there.run("portcall match dryer-plc --no-probe").code == 0
    register("PublicProfile", "EnableFirewall", "REG_DWORD", "1")
    assert "where the Windows firewall asks about Python, allow it" in told()
    program = f"Z:{laptop.python()}".replace("/", "\\")
    rule = f"v2.30|Action=Block|Active=TRUE|Dir=In|Protocol=17|App={program}|Name=Python|"
    register("FirewallRules", "{1}", "REG_SZ", rule)
    assert "the Windows firewall has a rule that keeps out what comes to" in told()
    allowed = rule.replace("Block", "Allow")
    register("FirewallRules", "{1}", "REG_SZ", f"{allowed}Profile=Private|LPort=67|LPort=68|")
    assert "where the Windows firewall asks about Python, allow it" in told()
    register("FirewallRules", "{1}", "REG_SZ", f"{allowed}Profile=Public|LPort=67|LPort=68|")
    assert "firewall" not in told()
    assert there.run("portcall restore").code == 0


def test_the_one_file_and_the_wheel_run_there(there, alone):
    there.run("mkdir -p 'Stick 1' wheel")
    for file in (the_stick(), the_stick().with_suffix(".cmd")):
        there.run(f"cp {file} 'Stick 1'")
    folder = str(Path(laptop.python()).parent)
    changed = shlex.join(f"{name}={value}" for name, value in alone.items() if name != "PYTHONPATH")
    clean = f"env -u PYTHONPATH {changed} WINEPATH=Z:{folder} wine cmd /c portcall.cmd"
    for line, code in (("--version", 0), ("find 300.1.1.1", 2)):
        typed = f"cd 'Stick 1'; {clean} {line} </dev/null"
        ended = there.run(f"sh -c {shlex.quote(typed)}", timeout=120)
        assert ended.code == code, ended
    (wheel,) = (ROOT / "dist").glob("portcall-*.whl")
    assert python(there, f"-m zipfile -e {wheel} wheel", **alone).code == 0
    shown = python(there, "-m portcall --version", **{**alone, "PYTHONPATH": "wheel"})
    assert shown.out.startswith("portcall "), shown


def test_what_cannot_be_on_windows_says_so_in_a_sentence(there):
    for line, words in (
        ("portcall demo", "the practice plant is made of private networks, which only Linux has"),
        ("portcall setup", "a program has rights by its file on Linux only"),
        ("portcall reach 203.0.113.40 --count 1", "on Windows no address can be borrowed there"),
    ):
        refused = there.run(line)
        assert (refused.code, words in refused.err) == (3, True), (line, refused)
        assert "Traceback" not in refused.err
