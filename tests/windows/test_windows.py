"""The built program in a CPython for Windows, under Wine, on the practice plant's real frames."""

from __future__ import annotations

import base64
import os
import re
import shlex
from pathlib import Path

import pytest
from inside import Plant

from conftest import INTERPRETER

HERE = Path(__file__).parent
SOURCE = HERE.parents[1] / "src"
PORT = 7007


class Windows:
    """A person at a Windows computer in a practice plant."""

    def __init__(self, plant: Plant, prefix: Path) -> None:
        self.plant = plant
        python = Path(os.environ[INTERPRETER]) / "python.exe"
        variables = {
            "WINEPREFIX": prefix,
            "WINEDEBUG": "-all",
            "WINEDLLOVERRIDES": "mscoree,mshtml=",
            "PYTHONPATH": f"Z:{HERE};Z:{SOURCE}",
            "PYTHONUTF8": "1",
            "PORTCALL_WINDOWS_HELPER": PORT,
        }
        words = shlex.join(f"{name}={value}" for name, value in variables.items())
        self.python = f"env {words} wine {shlex.quote(str(python))}"

    def line(self, typed):
        return typed.replace("portcall", f"{self.python} -m portcall", 1)

    def run(self, typed, timeout=120):
        # A program under Wine wants handles that are real.
        return self.plant.run(f"sh -c {shlex.quote(self.line(typed) + ' </dev/null')}", timeout)


@pytest.fixture(scope="module")
def there(tmp_path_factory):
    prefix = tmp_path_factory.mktemp("wine")
    with Plant() as plant:
        helper = plant.start(f"python3 {HERE / 'helper.py'} {PORT}")
        plant.until(helper, "ready")
        windows = Windows(plant, prefix)
        assert windows.run("portcall --version").out.startswith("portcall ")
        yield windows
        plant.run(f"env WINEPREFIX={prefix} wineserver -k")


def addresses(there):
    return there.plant.run("ip -br -4 addr show usb0").out.split()[2:]


def test_every_page_of_help_can_be_had(there):
    script = (
        "import click\n"
        "from click.testing import CliRunner\n"
        "from portcall.cli.main import portcall\n"
        "def each(group, words):\n"
        "    yield words\n"
        "    if isinstance(group, click.Group):\n"
        "        for name in group.list_commands(click.Context(group)):\n"
        "            command = group.get_command(click.Context(group), name)\n"
        "            yield from each(command, [*words, name])\n"
        "for words in each(portcall, []):\n"
        "    ended = CliRunner().invoke(portcall, [*words, '--help'])\n"
        "    assert ended.exit_code == 0 and 'Usage' in ended.output, (words, ended)\n"
        "print('all')\n"
    )
    there.plant.write("help.py", script)
    ended = there.plant.run(f"sh -c {shlex.quote(there.python + ' help.py </dev/null')}")
    assert ended.out.strip().endswith("all"), ended


def test_adapters_are_the_systems_own(there):
    found = there.run("portcall adapters --json").json["adapters"]
    usb0 = next(each for each in found if each["name"] == "usb0")
    assert (usb0["kind"], usb0["link"], usb0["mac"]) == ("wired", True, "02-1A-40-7C-00-06")
    assert usb0["addresses"] == []
    lan0 = next(each for each in found if each["name"] == "lan0")
    assert {"to": "0.0.0.0/0", "gateway": "198.51.100.1"} in lan0["routes"]
    there.plant.run("portcall plant unplug usb0")
    refused = there.run("portcall match dryer-plc")
    assert (refused.code, "no wired adapter has a link" in refused.err) == (3, True)
    there.plant.run("portcall plant plug usb0")


def test_a_plan_keeps_its_lines_and_its_letters(there):
    kept = there.plant.run("cat plan.csv").out
    there.plant.write(
        "plan.csv",
        "name;mac;address\r\nTrockner;;10.61.20.10\r\nL\xfcfter;;10.61.20.21\r\n".encode("cp1252"),
    )
    assert there.run("portcall plan set Trockner mac=02-5A-1D-20-7F-10").code == 0
    seen = base64.b64decode(there.plant.run("base64 plan.csv").out)
    assert seen.splitlines(keepends=True)[1:] == [
        b"Trockner;02-5A-1D-20-7F-10;10.61.20.10\r\n",
        b"L\xfcfter;;10.61.20.21\r\n",
    ]
    there.plant.write("plan.csv", kept)


def test_what_is_on_the_wire_is_found_by_frames_without_an_address(there):
    found = there.run("portcall find --json")
    there_by_mac = {device["mac"]: device for device in found.json["devices"]}
    assert there_by_mac["02-77-B1-90-00-3D"]["product"] == "Islet 16"
    assert there_by_mac["02-77-B1-4C-09-21"]["asks"] == ["BOOTP"]
    assert there_by_mac["02-5A-1D-20-7F-10"]["addresses"] == ["10.61.20.10"]
    assert addresses(there) == []


def test_match_is_read_back_and_restored_also_after_a_kill(there):
    matched = there.run("portcall match dryer-plc --json")
    assert (matched.code, matched.json["in_force"]) == (0, True), matched
    assert addresses(there) == ["10.61.20.200/24"]
    assert there.run("portcall match dryer-plc").code == 0
    assert there.run("portcall reach dryer-plc --count 2 --wait 4").code == 0
    assert there.run("portcall why dryer-plc").code == 0
    assert there.run("portcall trace dryer-plc").code == 0
    assert there.run("portcall open dryer-plc --json").json["open"][0]["port"] == 80
    there.plant.run("portcall plant unplug dryer-plc")
    gone = there.run("portcall why dryer-plc --json")
    assert (gone.code, gone.json["cause"]) == (1, "nobody-there"), gone
    there.plant.run("portcall plant plug dryer-plc")
    assert there.run("portcall restore").code == 0
    assert addresses(there) == []
    # Killed while it is matched for the time of a command, the next one takes it off.
    typed = there.line("portcall move weigh-gateway </dev/null 2>&1 | cat")
    moving = there.plant.start(f"sh -c {shlex.quote(typed)}")
    there.plant.until(moving, "watching for", timeout=90)
    assert len(addresses(there)) == 2
    there.plant.run("pkill -9 -f python.exe")
    there.plant.finish(moving)
    assert len(addresses(there)) == 2
    told = there.run("portcall move io-island-1")
    assert (told.code, told.err.count("from a command that was killed")) == (0, 2), told
    assert addresses(there) == []


def test_devices_that_ask_get_their_address_and_keep_it(there):
    line = "portcall assign fan-drive-1 belt-drive --match --keep --until-done --for 60"
    given = there.run(line)
    assert (given.code, given.out.count(" kept ")) == (0, 2), given
    assert addresses(there) == []
    there.plant.run("portcall plant power-cycle fan-drive-1 belt-drive")
    assert there.run("portcall match dryer-plc --no-probe").code == 0
    judged = there.run("portcall verify fan-drive-1 belt-drive dryer-plc io-island-1 --json")
    assert (judged.code, judged.json["right"]) == (0, 4), judged
    assert "4 of 8 verified right" in there.run("portcall report record.xlsx").err
    assert there.run("portcall restore").code == 0
    told = there.run("portcall logbook show --json").json["entries"]
    assert {"match", "assigned", "setting", "verification"} <= {each["kind"] for each in told}


def test_a_visit_has_this_computer_in_the_devices_subnet_while_a_line_runs(there):
    inner = f"Z:{os.environ[INTERPRETER]}/python.exe -m portcall reach --count 1 --wait 4"
    visited = there.run(f"portcall visit dryer-plc --capture visit.pcapng -- {inner}")
    assert (visited.code, "1 of 1" in visited.out) == (0, True), visited
    assert "10.61.20.200/24 removed, as it was before: no address" in visited.err
    assert addresses(there) == []
    asked = "arp.opcode==1 && eth.src==02:1a:40:7c:00:06"
    seen = there.plant.run(f"tshark -r visit.pcapng -Y '{asked}' -T fields -e arp.dst.proto_ipv4")
    assert "10.61.20.10" in seen.out.split()


def test_what_is_not_built_for_windows_says_so_in_a_sentence(there):
    for line, words in (
        ("portcall demo", "the practice plant is made of private networks, which only Linux has"),
        ("portcall plant list", "the practice plant is made of private networks"),
        ("portcall setup", "a program has rights by its file on Linux only"),
        ("portcall reach 203.0.113.40 --count 1", "on Windows no address can be borrowed there"),
    ):
        refused = there.run(line)
        assert (refused.code, words in refused.err) == (3, True), (line, refused)
        assert "Traceback" not in refused.err
    assert re.search(r"wired +link", there.run("portcall adapters").out)
