"""Every cause is made in a practice plant and named; nothing healthy is called broken.

The longer form, each at two devices and beside an oddity, is ``benchmarks/diagnosis.py``.
"""

import signal
import subprocess
import sys
from collections.abc import Iterator

import pytest
from advice import advised, type_in
from causes import CASES, HARMLESS, HEALTHY, PREPARED, write_scenario
from inside import PORTCALL, Plant
from laptop import IS_WANTED, otherwise

SIDE_BY_SIDE = 6

ONE_EACH = list({case.cause: case for case in CASES}.values())
"""The last case of each cause."""


TYPED = otherwise(
    {case.cause for case in CASES},
    {
        *("no-link", "no-address", "other-subnet", "own-address-taken", "nobody-there", "asking"),
        *("wrong-device", "address-shared", "ping-ignored", "door-closed", "stops-at-hop"),
    },
)
"""The causes that are made; the lines of Windows' own programs cannot be typed under Wine."""


def ask(plant, case, more=""):
    line = f"-m portcall why {case.target} --json {more}"
    return plant.run(f"env {case.environment} {sys.executable} {line}".replace("  ", " "))


def type_all_that_is_advised(plant, case, sentences):
    """Each line that is advised leads on: it is taken, and after it the complaint is another."""
    for typed in filter(None, map(advised, sentences)):
        if typed.is_for_this_shell:
            line = f"export {case.environment}; {typed.line}; portcall why {case.target}"
            assert plant.run(f"sh -c '{line}'").code == 0, typed
            continue
        type_in(plant, typed)
        if typed.changes:
            assert ask(plant, case).json["cause"] != case.cause, typed
        if typed.back:
            assert plant.run(typed.back).code == 0, typed


@pytest.fixture
def prepared(tmp_path) -> Iterator[Plant]:
    with Plant(write_scenario(tmp_path / "plant.toml")) as plant:
        for line in PREPARED:
            assert plant.run(line).code == 0
        yield plant


@pytest.mark.windows
@pytest.mark.long
@pytest.mark.parametrize("part", range(SIDE_BY_SIDE))
def test_every_cause_is_named_and_nothing_healthy_is(prepared, part):
    for number, case in enumerate(ONE_EACH[part::SIDE_BY_SIDE]):
        if case.cause not in TYPED:
            continue
        oddity = HARMLESS[(part + number) % len(HARMLESS)]
        for line in case.lines(oddity):
            assert prepared.run(line).code == 0, line
        told = ask(prepared, case)
        assert told.code == 1, told.err
        assert told.json["cause"] == case.cause, (case, oddity, told.out)
        assert told.json["sentence"].endswith(".")
        assert told.json["do"] or case.cause == "ping-ignored"
        broken = [each["verdict"] for each in told.json["rungs"]].index("broken")
        below = told.json["rungs"][:broken]
        assert {each["verdict"] for each in below} <= {"holds"}
        if not IS_WANTED:
            type_all_that_is_advised(prepared, case, told.json["do"])
        assert prepared.run("portcall plant mend").code == 0
    for case in HEALTHY[part :: otherwise(SIDE_BY_SIDE, len(HEALTHY))]:
        told = ask(prepared, case)
        assert (told.code, told.json["cause"], told.json["reachable"]) == (0, None, True), told.out


def test_nothing_of_the_workstation_is_changed_and_what_is_mended_is_as_it_was(prepared):
    filters = "cat /proc/sys/net/ipv4/conf/*/rp_filter"
    look = f"sh -c 'ip -d addr; ip route; ip rule; nft list ruleset; {filters}'"
    before = prepared.run(look).out
    for line in ("plant fault dryer-plc mask", "plant fault usb0 firewall-in 10.61.20.10"):
        prepared.run(f"portcall {line}")
        made = prepared.run(look).out
        assert prepared.run("portcall why dryer-plc").code == 1
        assert prepared.run(look).out == made
        prepared.run("portcall plant mend")
    for fault in (
        "usb0 no-address",
        "usb0 other-subnet",
        "usb0 route-elsewhere",
        "usb0 route-elsewhere 10.61.20.10",
        "usb0 no-router",
        "usb0 firewall-out 10.61.20.10",
        "cell-router return-filtered",
    ):
        assert prepared.run(f"portcall plant fault {fault}").code == 0, fault
        assert prepared.run(look).out != before, fault
        assert prepared.run("portcall plant mend").out == f"mended: {fault}\n"
        assert prepared.run(look).out == before, fault


def test_the_rungs_are_printed_as_people_read_them(prepared):
    healthy = prepared.run("portcall why dryer-plc cip")
    assert healthy.code == 0
    rungs = [line.split("  ")[0] for line in healthy.out.splitlines()[:9]]
    assert rungs == [
        *("link", "own address", "way out", "neighbour", "way back"),
        *("echo", "door", "word", "programs"),
    ]
    assert "word         holds      CIP: Skerry 40 controller, 5A20170F, 20.013" in healthy.out
    end = "dryer-plc (10.61.20.10) is reachable at CIP (port 44818): nothing is broken."
    assert end in healthy.out
    moved = prepared.run("sh -c 'portcall plant fault dryer-plc moved && portcall why dryer-plc'")
    assert moved.code == 1
    assert "not asked: way back, echo, door, word, programs" in moved.out
    assert "moved: dryer-plc is at 203.0.113.46, not at 10.61.20.10." in moved.out
    assert moved.out.rstrip().endswith("portcall move dryer-plc")
    # Two at once: the lower is the cause, and the other is told.
    prepared.run("portcall plant mend")
    prepared.run("portcall plant fault dryer-plc large-lost")
    prepared.run("portcall plant fault dryer-plc door-closed 44818")
    both = prepared.run("portcall why dryer-plc cip")
    assert "large-lost: Small frames to dryer-plc pass" in both.out
    assert "also door-closed: dryer-plc is there, and refuses CIP" in both.out


def test_a_door_that_the_record_saw_open_is_not_passed_over(prepared):
    assert prepared.run("portcall find dryer-plc").code == 0
    prepared.run("portcall plant fault dryer-plc door-silent 44818")
    told = prepared.run("portcall why dryer-plc --json")
    assert (told.code, told.json["cause"], told.json["reachable"]) == (1, None, True)
    assert "CIP (port 44818) was open on 20" in told.json["rungs"][6]["evidence"]
    (line,) = told.json["do"]
    assert prepared.run(f"{line} --json").json["cause"] == "door-silent"


def test_a_plan_that_leaves_this_computer_out_is_matched_and_not_moved(prepared):
    assert prepared.run("portcall plan set fan-drive-1 mask=28").code == 0
    assert prepared.run("portcall plant fault fan-drive-1 mask 28").code == 0
    told = prepared.run("portcall why fan-drive-1 --json")
    assert (told.json["cause"], "planned is 255.255.255.240" in told.json["sentence"]) == (
        "mask",
        True,
    )
    assert "portcall move" not in told.out
    type_in(prepared, advised(told.json["do"][0]))
    assert prepared.run("portcall why fan-drive-1").code == 0
    # It is asked from the narrower of this computer's subnets, as every program would.
    judged = prepared.run("portcall verify fan-drive-1 --json").json["rows"][0]
    assert (judged["verdict"], judged["mask"]) == ("right", "255.255.255.240")


def test_a_cable_that_is_put_in_just_now_is_not_one_that_comes_and_goes(prepared):
    assert prepared.run("portcall plant fault usb0 no-link").code == 0
    line = "(sleep 1.5; exec portcall plant mend) & portcall why dryer-plc --json; wait"
    told = prepared.run(f'sh -c "{line}"')
    assert '"reachable": true' in told.out, told.out
    assert '"cause": null' in told.out, told.out


def test_a_plant_can_begin_with_faults_and_does_not_tell_unless_asked(tmp_path):
    scenario = write_scenario(tmp_path / "plant.toml")
    begun = scenario.read_text() + '[[faults]]\non = "dryer-plc"\nfault = "mask"\nhow = "28"\n'
    scenario.write_text(begun)
    with Plant(scenario) as plant:
        assert "mask" not in plant.run("portcall plant list").out
        (fault,) = plant.run("portcall plant list --faults --json").json["faults"]
        assert fault == {"on": "dryer-plc", "kind": "mask", "how": "28"}
        plant.run("portcall match 10.61.20.0/24 --no-probe")
        assert plant.run("portcall why dryer-plc --json").json["cause"] == "mask"
        assert plant.run("portcall plant mend").out == "mended: dryer-plc mask 28\n"
        assert plant.run("portcall why dryer-plc").code == 0
    scenario.write_text(begun.replace("mask", "no-such"))
    line = [*PORTCALL, "plant", "run", "--scenario", str(scenario), "--", "true"]
    ended = subprocess.run(line, capture_output=True, text=True)
    assert (ended.returncode, "no-such: is no fault of a device" in ended.stderr) == (2, True)


HOSTILE = r"""
import socket, sys, threading, time
own = sys.argv[1]
def serve(port, talk):
    listening = socket.create_server((own, port))
    while True:
        connection, _ = listening.accept()
        threading.Thread(target=talk, args=(connection,), daemon=True).start()
def mute(connection):
    time.sleep(60)
def endless(connection):
    connection.recv(1000)
    connection.sendall(b"HTTP/1.1 200 OK\r\n\r\n<title>")
    try:
        while True:
            connection.sendall(b"x" * 65536)
    except OSError:
        pass
for port in (44818, 502, 4840, 22):
    threading.Thread(target=serve, args=(port, mute), daemon=True).start()
serve(80, endless)
"""


def test_hostile_devices_are_judged_rightly_or_not_at_all_and_in_bounded_time(prepared, tmp_path):
    own, plant = "10.61.20.88", prepared
    plant.write("hostile.py", HOSTILE)
    assert plant.on("spare-1", f"ip addr add {own}/24 dev eth0").code == 0
    hostile = plant.start(f"portcall plant on spare-1 -- {sys.executable} hostile.py {own}")
    knock = f"import socket; socket.create_connection(('{own}', 80), 1)"
    plant.until_true(f'{sys.executable} -c "{knock}" 2> /dev/null')
    # It accepts every connection, and says nothing: that decides nothing.
    mute = plant.run(f"portcall why {own} cip --json", 20).json
    assert (mute["cause"], mute["reachable"]) == (None, False)
    assert "speaks-otherwise" in mute["between"]
    assert "says nothing for" in mute["rungs"][7]["evidence"]
    # A page that never ends has begun: it speaks as it should.
    page = plant.run(f"portcall why {own} web --json", 20)
    assert (page.code, page.json["cause"]) == (0, None), page.out
    plant.finish(hostile, 15)


SLOW = r"""
import socket, struct, sys, threading, time
delay, every = map(float, sys.argv[1:])
open("/proc/sys/net/ipv4/icmp_echo_ignore_all", "w").write("1")
heard = socket.socket(socket.AF_INET, socket.SOCK_RAW, socket.IPPROTO_ICMP)
print("it answers", flush=True)
last = 0
while True:
    packet, peer = heard.recvfrom(70000)
    echo = packet[(packet[0] & 15) * 4 :]
    if echo[0] != 8 or time.time() - last < every:
        continue
    last = time.time()
    total = sum(struct.unpack(f"!{len(echo) // 2}H", b"\0\0\0\0" + echo[4:]))
    total = (total >> 16) + (total & 0xFFFF)
    answer = b"\0\0" + struct.pack("!H", ~(total + (total >> 16)) & 0xFFFF) + echo[4:]
    threading.Timer(delay, heard.sendto, (answer, peer)).start()
"""


@pytest.mark.parametrize(
    ("delay", "every", "words"),
    [
        (2.5, 0, "30 of 30 echoes"),
        (0, 0.1, "5 of 5 at one a second: it answers only so many a second"),
        (0, 1, "5 of 5 at one a second: it answers only so many a second"),
    ],
)
def test_who_answers_late_or_only_so_often_is_told_as_that_and_not_as_broken(
    prepared, delay, every, words
):
    """The kernel of a bare device answers no echoes here; a program of a few lines does."""
    prepared.write("slow.py", SLOW)
    assert prepared.on("spare-1", "ip addr add 10.61.20.88/24 dev eth0").code == 0
    line = f"portcall plant on spare-1 -- {sys.executable} slow.py {delay} {every}"
    answering = prepared.start(line, signalled=True)
    prepared.until(answering, "it answers")
    prepared.until_true(f"ping -c 1 -W {delay + 1} 10.61.20.88")
    told = prepared.run("portcall why 10.61.20.88 --json")
    (echo,) = (each for each in told.json["rungs"] if each["rung"] == "echo")
    assert (told.code, told.json["cause"], echo["verdict"]) == (0, None, "holds"), told.out
    assert words in echo["evidence"]
    assert ("slow, as over a radio" in echo["evidence"]) is bool(delay)
    prepared.finish(answering, signal.SIGTERM)


def test_what_an_ordinary_user_cannot_be_told_is_named(prepared):
    bare = "setpriv --bounding-set=-all --inh-caps=-all"
    line = f"{bare} {sys.executable} -m portcall why"
    # As the kernel has it by default, nobody but root may ping: the doors tell what they can.
    prepared.run("sysctl -q net.ipv4.ping_group_range='1 0'")
    told = prepared.run(f"{line} dryer-plc --json")
    assert (told.code, told.json["reachable"], told.json["cause"]) == (0, True, None), told.err
    (echo,) = (each for each in told.json["rungs"] if each["rung"] == "echo")
    assert echo["verdict"] == "not asked"
    assert "ping needs root" in echo["evidence"]
    verified = prepared.run(f"{line.removesuffix(' why')} verify --json")
    verdicts = {each["name"]: each["verdict"] for each in verified.json["rows"]}
    assert (verdicts["dryer-plc"], verdicts["weigh-gateway"]) == ("right", "not judged")
    prepared.run("sysctl -q net.ipv4.ping_group_range='0 1000000'")
    told = prepared.run(f"{line} dryer-plc cip --json")
    assert (told.code, told.json["cause"]) == (0, None), told.err
    verdicts = {each["rung"]: each for each in told.json["rungs"]}
    assert "whether it is alone was not asked" in verdicts["own address"]["evidence"]
    assert "by this computer's own ARP table" in verdicts["neighbour"]["evidence"]
    assert verdicts["echo"]["verdict"] == "holds"
    # Whether the device refuses it, or a filter, is seen at the adapter alone.
    closed = prepared.run(f"{line} dryer-plc 502 --json")
    assert (closed.json["cause"], closed.json["between"]) == (None, ["door-closed"])
    assert closed.json["do"] == ["sudo portcall why dryer-plc 502"]
    assert prepared.run(f"{sys.executable} -m {closed.json['do'][0][5:]} --json").json["cause"] == (
        "door-closed"
    )
    silent = prepared.run(f"{line} 10.61.20.99 --json").json
    assert (silent["cause"], silent["reachable"]) == ("nobody-there", False)
    assert "was not asked: run this with sudo" in silent["sentence"]
    prepared.run("portcall plant fault dryer-plc wrong-device")
    # What the table remembers is memory; what it did not know was asked just now.
    remembered = prepared.run(f"{line} dryer-plc --json").json
    assert "which may be some minutes old" in remembered["rungs"][3]["evidence"]
    assert remembered["cause"] is None
    prepared.run("ip neigh flush dev usb0")
    assert prepared.run(f"{line} dryer-plc --json").json["cause"] == "wrong-device"
    prepared.run("portcall plant mend")
    prepared.run("portcall plant fault usb0 firewall-in 10.61.20.21")
    dropped = prepared.run(f"{line} fan-drive-1 --json").json
    assert (dropped["cause"], "firewall-in" in dropped["between"]) == (None, True)
    # The kernel tells who said it, also to a socket without privilege.
    prepared.run("portcall plant fault cell-router stops-at-hop")
    assert prepared.run(f"{line} 10.61.30.10 --json").json["cause"] == "stops-at-hop"


@pytest.mark.parametrize(
    ("line", "complaint"),
    [
        ("why 10.61.20.0/24", "10.61.20.0/24: is a subnet; name one device"),
        ("why pump-9", "pump-9: is no address, and not in the plan: portcall plan show"),
        ("why dryer-plc profinet", "profinet: is no port and no door known here; there are cip"),
        ("why dryer-plc 70000", "70000: is no TCP port"),
        ("why 198.51.100.77", "198.51.100.77: is this computer's own address, on lan0"),
        ("why 198.51.100.255", "198.51.100.255: is the broadcast address of 198.51.100.0"),
        ("trace 10.61.20.0/24", "10.61.20.0/24: is a subnet"),
        ("open dryer-plc ssh --user -oX=y", "-oX=y: is no user name"),
        ("plant fault dryer-plc no-such", "no-such: is no fault of a device: no-link, flapping"),
        ("plant fault usb0 mask", "mask: is no fault of the workstation: no-link"),
        ("plant fault pump-9 mask", "pump-9: nothing here is called that"),
        ("plant fault dryer-plc lossy 200%", "200%: is no share to lose; write 20%"),
        ("plant fault dryer-plc door-closed web", "web: is no port, 1 to 65535"),
        ("plant fault usb0 firewall-in", "whose packets? name an address"),
        (
            "plant fault lan0 route-elsewhere 198.51.100.0/24",
            "lan0 route-elsewhere 198.51.100.0/24: c",
        ),
        ("plant fault fan-drive-1 mask", "fan-drive-1 has no address that could be at fault"),
        ("plant fault usb0 own-address-taken", "usb0 has no address that somebody could take"),
    ],
)
def test_what_cannot_be_asked_or_broken_is_said_and_changes_nothing(quiet_plant, line, complaint):
    ended = quiet_plant.run(f"portcall {line}")
    assert ended.code == 2
    assert f"portcall: {complaint}" in ended.err
    assert quiet_plant.run("portcall plant list --faults --json").json["faults"] == []
