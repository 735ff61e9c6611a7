"""Visits: held whatever happens to cable and adapter, along with the device, nothing left."""

from __future__ import annotations

import re
import signal
import time

import pytest
from inside import Plant, Terminal
from test_real_servers import PLANT as CABINET
from test_real_servers import UDHCPD, serve

from conftest import need
from moments import some

STAYS = "sh -c 'until [ -e leave ]; do sleep 0.05; done'"
"""What a person does in a visit: it ends with a file."""

USB0 = "ip -4 -o addr show usb0"


def visit(plant, target, signalled=False):
    plant.run("rm -f leave")
    started = plant.start(f"portcall visit {target} -- {STAYS}", signalled)
    plant.until(started, "visiting")
    return started


def leave(plant, started):
    plant.write("leave", "")
    return plant.finish(started)


def inside(plant, line):
    """Type a line as in the visit's shell: with its variables."""
    return plant.run(f"env PORTCALL_ADAPTER=usb0 PORTCALL_VISIT={visit_of(plant)} {line}")


def visit_of(plant):
    (number,) = re.findall(r"(\d+)\.json", plant.run("sh -c 'ls $PORTCALL_STATE/visits'").out)
    return number


def nothing_is_left(plant):
    assert plant.run("portcall restore --show").out == "nothing is open\n"
    assert plant.run(USB0).out == ""
    assert plant.run("sh -c 'ls $PORTCALL_STATE/visits'").out == ""


def test_a_visit_says_who_it_is_with_runs_the_line_and_leaves_nothing(plant):
    line = f"sh -c '{USB0}; portcall reach --count 1; portcall why web; exit 7'"
    ended = plant.run(f"portcall visit dryer-plc -- {line}")
    assert ended.code == 7
    assert "10.61.20.200/24" in ended.out
    assert re.search(r"10\.61\.20\.10 +dryer-plc +1 of 1", ended.out)
    assert "dryer-plc (10.61.20.10) is reachable at web (port 80)" in ended.out
    card = ended.err[ended.err.index("dryer-plc  10.61.20.10") :].splitlines()[:5]
    assert card[0] == "dryer-plc  10.61.20.10  02-5A-1D-20-7F-10"
    assert card[1].split()[:4] == ["is", "Sandlark", "Controls,", "Skerry"]
    assert card[2] == "  open  80 web, 4840 OPC UA, 44818 CIP"
    assert card[3] == "  plan  dryer-plc, 10.61.20.10/24: where it is planned"
    assert card[4] == "  here  usb0 10.61.20.200/24"
    assert "still matched" not in ended.err
    assert "usb0: 10.61.20.200/24 removed, as it was before: no address" in ended.err
    nothing_is_left(plant)


@pytest.mark.parametrize(
    ("target", "code", "words"),
    [
        ("nosuch -- true", 2, "nosuch: is no address, no MAC, and not in the plan"),
        ("dryer-plc -- nosuchprogram", 2, "nosuchprogram: there is no such program here"),
        ("dryer-plc", 2, "there is no terminal for one; name a COMMAND after --"),
        ("fan-drive-1 -- true", 3, "portcall assign fan-drive-1 --keep"),
        ("02-77-B1-90-00-99 -- true", 3, "was not heard on this wire"),
        ("-- true", 3, "devices have an address here, and nobody is there to choose one"),
        ("--dhcp -- true", 3, "nobody on usb0 hands out addresses"),
        ("99 -- true", 2, "99: there is no list yet in which this is a row: portcall find"),
        ("198.51.100.0/24 -- true", 3, "overlaps 198.51.100.0/24 on lan0"),
    ],
)
def test_a_visit_that_cannot_be_is_refused_and_changes_nothing(quiet_plant, target, code, words):
    quiet_plant.run("sh -c 'rm -rf logbook'")
    ended = quiet_plant.run(f"portcall visit {target}")
    assert (ended.code, words in ended.err) == (code, True), ended.err
    nothing_is_left(quiet_plant)


def test_what_something_takes_off_is_put_on_once_and_no_line_claims_what_is_not_so(plant):
    started = visit(plant, "dryer-plc")
    plant.run("ip addr del 10.61.20.200/24 dev usb0")
    plant.until(started, r"something took 10\.61\.20\.200/24 off; it is put on again, this once")
    plant.until_true(f"{USB0} | grep -q 10.61.20.200/24")
    plant.run("ip addr del 10.61.20.200/24 dev usb0")
    plant.until(started, r"took 10\.61\.20\.200/24 off again, and it stays off: nothing in 10\.61")
    assert plant.run(USB0).out == ""
    assert "still matched" not in plant.run("portcall adapters").err
    assert "nothing of this visit is left on this computer" in leave(plant, started).err
    nothing_is_left(plant)


def test_the_cable_and_the_adapter_may_go_and_come_back_under_another_name(plant):
    started = visit(plant, "dryer-plc")
    plant.run("portcall plant unplug usb0")
    plant.until(started, "usb0 lost its link; when it is back, the visit goes on")
    plant.run("portcall plant plug usb0")
    plant.until(started, "usb0 has its link again")
    # Pulled out of the computer, it takes the address with it: another MAC is another adapter.
    plant.run("ip link set usb0 down")
    plant.run("ip link set usb0 address 02:00:00:00:00:77")
    plant.until(started, "usb0 is gone from this computer; when it is back, the visit goes on")
    plant.run("ip addr flush dev usb0")
    for line in ("address 02:1a:40:7c:00:06", "name usb7", "up"):
        plant.run(f"ip link set {'usb7' if line == 'up' else 'usb0'} {line}")
    plant.until(started, r"usb\d: 10\.61\.20\.200/24 is put on again")
    plant.until_true("ip -4 addr show usb7 | grep -q 10.61.20.200/24")
    assert inside(plant, "portcall reach --count 1").code == 0
    assert "usb7: 10.61.20.200/24 removed, as it was before" in leave(plant, started).err
    assert plant.run("ip -4 -o addr show usb7").out == ""


def test_after_the_cable_was_out_an_address_that_is_somebody_elses_is_given_up(plant):
    started = visit(plant, "dryer-plc")
    plant.run("portcall plant unplug usb0")
    plant.until(started, "lost its link")
    plant.on("spare-1", "ip addr add 10.61.20.200/24 dev eth0")
    plant.run("portcall plant plug usb0")
    plant.until(started, r"10\.61\.20\.200 is another device's there: another address is taken")
    plant.until(started, r"10\.61\.20\.254/24 added until this ends")
    leave(plant, started)
    nothing_is_left(plant)


def test_who_visits_an_address_is_with_whoever_is_connected_there_next(plant):
    for spare in ("spare-1", "spare-2"):
        plant.on(spare, "ip addr add 192.168.1.1/24 dev eth0")
    plant.run("portcall plant unplug spare-2")
    started = visit(plant, "192.168.1.1")
    plant.run("portcall plant unplug usb0")
    plant.run("portcall plant unplug spare-1")
    plant.until(started, "lost its link")
    plant.run("portcall plant plug spare-2")
    plant.run("portcall plant plug usb0")
    plant.until(started, "at 192.168.1.1 is another device now: 02-60-D1-00-5E-02, before it was")
    # Set to another address and reset, it is back where it starts: that is followed, too.
    plant.on("spare-2", "ip addr add 10.61.20.88/24 dev eth0")
    plant.on("spare-2", "ip addr del 192.168.1.1/24 dev eth0")
    plant.until(started, "is at 10.61.20.88 now")
    plant.on("spare-2", "ip addr del 10.61.20.88/24 dev eth0")
    plant.on("spare-2", "ip addr add 192.168.1.1/24 dev eth0")
    plant.until(started, "is at 192.168.1.1 now")
    leave(plant, started)
    nothing_is_left(plant)


def test_restore_ends_what_a_visit_holds_and_the_visit_says_so(plant):
    started = visit(plant, "dryer-plc")
    assert "10.61.20.200/24 removed" in plant.run("portcall restore").out
    plant.until(started, r"portcall restore took 10\.61\.20\.200/24 off: nothing in 10\.61\.20\.0")
    assert plant.run(USB0).out == ""
    leave(plant, started)
    nothing_is_left(plant)


def test_a_visit_goes_along_when_the_page_or_move_gives_the_device_another_address(plant):
    started = visit(plant, "weigh-gateway")
    moving = plant.start(
        "sh -c 'export PORTCALL_ADAPTER=usb0 PORTCALL_VISIT=$(ls $PORTCALL_STATE/visits"
        " | cut -d. -f1); portcall move && portcall reach --count 1'"
    )
    plant.until(moving, "watching for 02-C0-E7-05-2B-90")
    set_to = "sh -c 'ip addr del {} dev eth0; ip addr add {} dev eth0'"
    plant.on("weigh-gateway", set_to.format("203.0.113.40/24", "10.61.20.40/24"))
    plant.until(started, r"weigh-gateway is at 10\.61\.20\.40 now, and this visit is with it there")
    moved = plant.finish(moving)
    assert moved.code == 0, moved
    assert re.search(r"10\.61\.20\.40 +weigh-gateway +1 of 1", moved.out)
    # By hand, without a word on the wire: it is asked for where it may be.
    plant.on("weigh-gateway", set_to.format("10.61.20.40/24", "10.61.20.77/24"))
    plant.until(started, "weigh-gateway does not answer at 10.61.20.40 any more")
    plant.until(started, r"weigh-gateway is at 10\.61\.20\.77 now")
    assert "10.61.20.77" in inside(plant, "portcall reach --count 1").out
    wrong = inside(plant, "portcall verify")
    assert "it is at 10.61.20.77: portcall move weigh-gateway" in wrong.out
    ended = leave(plant, started)
    assert "setting weigh-gateway: done, 10.61.20.40" in ended.err
    for own in ("203.0.113.254/24", "10.61.20.254/24"):
        assert f"usb0: {own} removed, as it was before: no address" in ended.err
    nothing_is_left(plant)


def test_two_visits_and_an_open_match_each_take_off_their_own(plant):
    assert plant.run("portcall match dryer-plc").code == 0
    first = visit(plant, "203.0.113.42")
    ended = plant.run(f"portcall visit weigh-gateway -- {USB0}")
    assert len(ended.out.splitlines()) == 3
    assert "removed, as it was before: 10.61.20.200/24" in ended.err
    assert "10.61.20.200/24" in plant.run("portcall restore --show").out
    assert "removed, as it was before: 10.61.20.200/24" in leave(plant, first).err
    # A visit where the match is already adds nothing.
    there = plant.run("portcall visit dryer-plc -- true")
    assert (there.code, "added until" in there.err) == (0, False)
    assert "10.61.20.200/24" in plant.run(USB0).out
    assert plant.run("portcall restore").code == 0
    nothing_is_left(plant)


def test_a_visit_killed_at_any_moment_is_cleaned_up_by_restore_or_the_next_one(plant):
    """At each of its steps from when it begins to write something down."""
    need("strace")
    from inside import PORTCALL

    calls = "fsync,rename,sendto,execve,unlink"
    line = f"{' '.join(PORTCALL)} visit 203.0.113.42 -- true"
    assert plant.run(f"strace -f --seccomp-bpf -o trace -e trace={calls} {line}").code == 0
    made = re.findall(r"^\d+ +(\w+)\(", plant.run("cat trace").out, re.MULTILINE)
    numbered = [(call, made[: n + 1].count(call)) for n, call in enumerate(made)]
    steps = [each for each in numbered[made.index("fsync") :] if each[0] != "execve"]
    # Each takes as long as a visit: ten from the first to the last are all that there are.
    ten = [steps[n * (len(steps) - 1) // 9] for n in range(10)]
    for call, number in some(ten, 4):
        inject = f"inject={call}:signal=KILL:when={number}"
        plant.run(f"strace -f -o trace -e trace={call} -e {inject} {line}")
        assert plant.run("portcall restore").code == 0, (call, number)
        nothing_is_left(plant)
    plant.run(f"strace -f -o trace -e trace=sendto -e inject=sendto:signal=KILL:when=40 {line}")
    assert plant.run("portcall visit 203.0.113.42 -- true").code == 0
    nothing_is_left(plant)


@pytest.mark.parametrize("name", ["TERM", "HUP"])
def test_a_visit_that_is_told_to_end_takes_its_line_with_it_and_leaves_nothing(plant, name):
    started = visit(plant, "dryer-plc", signalled=True)
    ended = plant.finish(started, getattr(signal, f"SIG{name}"))
    # The line may not have begun yet.
    assert ended.code in (128 + signal.SIGTERM, 130)
    assert "10.61.20.200/24 removed" in ended.err
    nothing_is_left(plant)
    assert plant.run("pgrep -f 'until .. -e leave'").code == 1


def test_in_the_shell_of_a_visit_that_was_killed_a_line_says_that_it_is_over(plant):
    started = visit(plant, "dryer-plc", signalled=True)
    number = visit_of(plant)
    plant.finish(started, signal.SIGKILL)
    told = plant.run(f"env PORTCALL_VISIT={number} PORTCALL_ADAPTER=usb0 portcall reach")
    assert told.code == 2
    assert "the visit of this shell is over; type exit, and visit again" in told.err
    left = plant.run("portcall adapters")
    assert "left by a line that was killed: usb0 10.61.20.200/24: portcall restore" in left.err
    plant.write("leave", "")
    assert plant.run("portcall restore").code == 0


@pytest.fixture
def cabinet(tmp_path):
    need("udhcpd")
    (tmp_path / "site").mkdir()
    (tmp_path / "site" / "leases").write_text("")
    short = UDHCPD.replace("option lease 120", "option lease 16").replace("max_leases 1", "")
    (tmp_path / "site" / "udhcpd.conf").write_text(f"{short}\nmin_lease 10\n")
    (tmp_path / "plant.toml").write_text(CABINET)
    with Plant(tmp_path / "plant.toml") as plant:
        yield plant


def test_a_lease_is_lengthened_and_after_sleep_there_is_a_new_one(cabinet):
    serve(cabinet, "udhcpd")
    started = visit(cabinet, "--dhcp", signalled=True)
    assert "10.61.20.91/24" in cabinet.run(USB0).out
    cabinet.until(started, r"10\.61\.20\.91/24 is leased anew, until")
    # Stopped for longer than the lease: as it is for a program of a computer that sleeps.
    (process,) = cabinet.run("pgrep -f 'portcall visit --dhcp'").out.split()[:1]
    cabinet.run(f"kill -STOP {process}")
    time.sleep(18)
    assert cabinet.run(USB0).out == ""
    cabinet.run(f"kill -CONT {process}")
    cabinet.until(started, r"nothing was looked at for \d+ s: all is looked at again")
    cabinet.until(started, r"the lease of 10\.61\.20\.91/24 has ended; it is asked for again")
    cabinet.until_true(f"{USB0} | grep -q 10.61.20.91/24")
    ended = leave(cabinet, started)
    assert "given back to 10.61.20.1" in ended.err
    nothing_is_left(cabinet)


@pytest.mark.parametrize("shell", ["bash", "dash", "zsh", "fish"])
def test_the_shell_is_the_persons_own_with_a_mark_in_its_prompt(shell, monkeypatch):
    need(shell)
    monkeypatch.setenv("SHELL", shell)
    person = Terminal(f"command -v {shell} || exit 9; cd $PRACTICE_SITE; portcall visit dryer-plc")
    person.until(r"\(dryer-plc\) |exit 9|the plant is down")
    person.type("portcall reach --count 1; echo $PORTCALL_TARGET\r")
    person.until(r"1 of 1[^$]*10\.61\.20\.10")
    person.type("exit\r")
    assert person.end() == 0
    assert "usb0: 10.61.20.200/24 removed, as it was before: no address" in person.plain


def test_at_a_bare_cable_what_is_there_is_looked_for_and_chosen_by_its_number(tmp_path):
    (tmp_path / "site").mkdir()
    (tmp_path / "plant.toml").write_text(BARE)
    person = Terminal("cd $PRACTICE_SITE; portcall visit", tmp_path / "plant.toml")
    person.until("which one.*:")
    assert re.search(r"1 +10\.0\.0\.1 .*\n +at a usual starting address", person.plain)
    person.type("4\r")
    person.until("4: is no number of the list|has no address yet: portcall assign")
    person.type("2\r")
    person.until(r"\(02-5A-1D-00-00-02\) ")
    person.type("portcall move --to 192.168.1.77/24\r")
    person.until("and this visit is with it there")
    person.type("portcall reach --count 1\r")
    person.until("1 of 1")
    person.type("exit\r")
    person.end()
    assert "setting 02-5A-1D-00-00-02: done, CIP, 192.168.1.77/24" in person.plain
    assert "192.168.1.248/24 removed, as it was before: no address" in person.plain


BARE = """
site = "site"
[[workstation]]
adapter = "usb0"
wire = "plant"
mac = "02-1A-40-7C-00-06"
[[devices]]
name = "one"
speaks = ["cip", "web"]
wire = "plant"
mac = "02-5A-1D-00-00-01"
address = "10.0.0.1/8"
[[devices]]
name = "two"
speaks = ["cip", "web"]
wire = "plant"
mac = "02-5A-1D-00-00-02"
address = "192.168.1.1/24"
[[devices]]
name = "three"
speaks = ["dcp"]
wire = "plant"
mac = "02-77-B1-90-00-3D"
"""
