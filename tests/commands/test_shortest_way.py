"""The shortest way: what is remembered, completed, guessed at, and said first."""

import json
import re
import shlex
import sys
from pathlib import Path
from subprocess import run

import pytest
from inside import PORTCALL, Plant, _words

from portcall import __version__
from portcall.cli import completing
from portcall.core.catalog.catalog import USUAL_DOORS
from portcall.core.catalog.doors import parse_door
from portcall.core.find.protocols import PROTOCOLS, WIRE_METHODS
from portcall.plant.join import place_to_write


@pytest.fixture(scope="module")
def prepared():
    with Plant() as made:
        yield made


def shell(plant, line):
    return plant.run(f"sh -c {shlex.quote(line)}")


def test_the_nearest_word_names_the_adapter_and_no_other_one_is_used(plant):
    portcall = f"{PORTCALL[0]} -m portcall"
    told = plant.run("portcall reach 10.61.20.99 --count 1")
    assert "using usb0: the only wired adapter that has a link" in told.err
    assert plant.run("portcall match dryer-plc --no-probe").code == 0
    # A second adapter that fits makes the choice a guess; the matched one is still used.
    plant.run("ip link add more0 up type veth peer name more1")
    plant.run("ip link set more1 up")
    told = plant.run("portcall reach dryer-plc --count 1")
    assert (told.code, "using usb0, which is matched until: portcall restore" in told.err) == (
        0,
        True,
    )
    plant.run("sed -i '1i adapter = \"lan0\"' site.toml")
    told = plant.run("portcall reach dryer-plc --count 1")
    assert "using lan0, as site.toml says" in told.err
    told = shell(plant, f"PORTCALL_ADAPTER=more0 {portcall} reach dryer-plc --count 1")
    assert "using more0, as PORTCALL_ADAPTER says" in told.err
    told = plant.run("portcall reach dryer-plc --count 1 --adapter usb0")
    assert (told.code, "using" in told.err) == (0, False)
    plant.run("portcall plant unplug lan0")
    gone = plant.run("portcall reach dryer-plc --count 1 --json")
    assert gone.code == 3
    assert gone.json["error"].startswith("lan0 has no link: check that the cable is in")
    plant.run("sed -i 1d site.toml")
    plant.run("portcall restore")
    assert plant.run("portcall reach dryer-plc --count 1").code == 3


def test_a_slip_in_a_name_is_answered_with_the_nearest_and_not_with_the_whole_plan(prepared):
    for line, said in (
        ("portcall fnd", "fnd: is no command; did you mean find?"),
        ("portcall reach fan-drive1", "did you mean fan-drive-1 or fan-drive-2?"),
        ("portcall verify DRYER-PCL", "not in the plan; did you mean dryer-plc?"),
        ("portcall assign belt-driv", "is not in the plan; did you mean belt-drive?"),
        (
            "portcall move xyz",
            "xyz: is no address, no MAC, and not in the plan: portcall plan show",
        ),
    ):
        told = prepared.run(line)
        assert (told.code, said in told.err) == (2, True), told
        assert "weigh-gateway" not in told.err


def test_an_error_is_json_where_json_was_asked_for_and_documents_say_what_they_are(prepared):
    told = prepared.run("portcall reach 10.61.20.300 --json")
    assert (told.code, told.json) == (
        2,
        {"error": "10.61.20.300: octet 4 is 300", "hint": "an octet is 0 to 255"},
    )
    assert told.err == "portcall: 10.61.20.300: octet 4 is 300; an octet is 0 to 255\n"
    told = prepared.run("portcall find --adapter usb9 --json")
    assert (told.code, told.json["error"]) == (3, "no adapter is called 'usb9'")
    told = prepared.run("portcall find --no-such --json")
    assert (told.code, told.json["hint"]) == (2, "see portcall find --help")
    document = prepared.run("portcall reach 10.61.20.99 --count 1 --json")
    assert document.code == 1
    prepared.run("portcall match dryer-plc --no-probe")
    document = prepared.run("portcall reach dryer-plc --count 1 --json").json
    prepared.run("portcall restore")
    assert document["site"] == "Tern Point kelp mill, dryer line 2"
    assert (document["adapter"], document["portcall"]) == ("usb0", __version__)
    assert re.fullmatch(r"\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d\.\d{3}\+00:00", document["at"])


def test_one_device_is_shown_with_who_said_what_and_when(prepared):
    card = prepared.run("portcall find dryer-plc")
    assert card.code == 0
    assert card.out.startswith("dryer-plc  10.61.20.10  02-5A-1D-20-7F-10\n")
    assert re.search(r"serial +5A20170F +CIP +(now|\d s ago)", card.out)
    assert re.search(r"name +dryer-plc +the plan +–", card.out)
    assert "weigh-gateway" not in card.out
    assert re.search(r"\d+ other devices were heard meanwhile", card.out)
    nobody = prepared.run("portcall find 10.61.20.99")
    assert (nobody.code, "portcall why 10.61.20.99" in nobody.err) == (1, True)
    # One that has no address yet is found by the MAC that is planned.
    assert "has no address" in prepared.run("portcall find fan-drive-1").out


def test_the_shell_completes_what_is_known_without_loading_the_command(prepared):
    def completed(line):
        words = len(line.split()) - (not line.endswith(" "))
        environment = f"_PORTCALL_COMPLETE=bash_complete COMP_WORDS={shlex.quote(line)}"
        told = shell(prepared, f"{environment} COMP_CWORD={words} {PORTCALL[0]} -m portcall")
        return [each.removeprefix("plain,") for each in told.out.split()]

    assert completed("portcall ver") == ["verify"]
    assert completed("portcall find --adapter u") == ["usb0"]
    assert completed("portcall reach fan") == ["fan-drive-1", "fan-drive-2"]
    assert completed("portcall why dryer-plc o") == ["opcua"]
    assert completed("portcall find --method d") == ["dhcp", "dcp"]
    assert completed("portcall plant unplug pie") == ["pier-radio"]
    assert "--accept" in completed("portcall reach --a")
    # The plan has not had this one; the logbook tells of it.
    assert prepared.run("portcall move 02-77-B1-90-00-3D --to 10.61.20.133").code == 0
    prepared.run("portcall logbook show")
    assert completed("portcall logbook show --device 02-77-B1-9") == ["02-77-B1-90-00-3D"]
    script = prepared.run("portcall completion bash")
    assert "_PORTCALL_COMPLETE=bash_complete" in script.out
    prepared.run("mkdir -p home")
    installed = shell(
        prepared, f"HOME=$PWD/home {PORTCALL[0]} -m portcall completion fish --install"
    )
    assert installed.code == 0
    assert "complete" in prepared.run("cat home/.config/fish/completions/portcall.fish").out


def test_what_is_completed_is_what_there_is():
    # What nobody starts would never be asked, and nobody told.
    assert {each for each in PROTOCOLS if not each.is_list} == set(WIRE_METHODS)
    ranks = [each.trust for each in PROTOCOLS.values()]
    assert len(set(ranks)) == len(ranks)
    plain = {name.replace(" ", "").lower() for name in USUAL_DOORS.values()}
    assert plain - set(completing.DOORS) == {"isotransport"}
    assert all(parse_door(door, USUAL_DOORS) for door in completing.DOORS)


def test_an_ordinary_user_is_told_first_what_is_left_out_and_the_line_that_does_it_all(prepared):
    bare = "setpriv --bounding-set=-all --inh-caps=-all"
    found = prepared.run(f"{bare} {' '.join(_words('portcall find'))}")
    first = next(line for line in found.err.splitlines() if not line.startswith("using"))
    assert first.startswith("as an ordinary user: who answers no IP is not found")
    assert first.endswith(f"sudo {sys.executable} -m portcall find")
    # Where nobody could be asked, it is not the plant that is asked about.
    prepared.run("ip addr flush dev usb0")
    for line in ("find", "verify"):
        asked = prepared.run(f"{bare} {' '.join(_words(f'portcall {line}'))}")
        assert (asked.code, "right adapter" in asked.err) == (3, False), asked.err
        assert "not run: listen, lldp, " in asked.err
        reasons = "nobody could be asked from here, for these reasons:\nnot run: "
        assert (reasons in asked.err) == (line == "find")


def test_another_terminal_joins_a_plant_and_what_practice_writes_stays_in_it():
    # The environment of a fork is not what others are told of it.
    with Plant(forked=False) as plant:
        _join(plant)


def _join(plant):
    process = next(
        json.loads(path.read_text())["process"]
        for path in _running_plants()
        if json.loads(path.read_text())["process"] in _children_of(plant.process)
    )
    joined = run(
        [*PORTCALL, "plant", "join", "--process", str(process), "--", "sh", "-c",
         "pwd; ip -br link show usb0; echo $PORTCALL_DATA; touch joined"],
        capture_output=True, text=True, check=False,
    )  # fmt: skip
    assert joined.returncode == 0, joined
    assert joined.stdout.splitlines()[0] == str(plant.site)
    assert "02:1a:40:7c:00:06" in joined.stdout
    assert plant.run("ls joined").code == 0
    eds = '[Device]\nVendCode = 7; VendName = "W"; ProdCode = 1; ProdName = "x"; ProdType = 2;'
    plant.write("x.eds", eds)
    shell(plant, f"cd /dev/shm && {PORTCALL[0]} -m portcall catalog add {plant.site}/x.eds")
    assert plant.run("find /dev/shm/portcall-data/catalog -type f").out.count("\n") == 1


def _running_plants():
    return place_to_write().glob("*.json")


def _children_of(process):

    found = set()
    for task in Path(f"/proc/{process}/task").glob("*/children"):
        for child in map(int, task.read_text().split()):
            found |= {child} | _children_of(child)
    return found
