"""What is said is so: nothing is judged that was not asked, and no answer is this computer's own.

On two plants: the shipped one, and the packing line, which has 25 devices in two subnets.
"""

import re
import shlex
import signal
from pathlib import Path

import pytest
from inside import PORTCALL, Plant, Terminal

PACKING = Path(__file__).parents[2] / "docs/plants/packing-line.toml"


@pytest.fixture(scope="module")
def packing():
    with Plant(PACKING) as made:
        yield made


def row(verified, name):
    return next(each for each in verified.json["rows"] if each["name"] == name)


def test_this_computer_with_a_devices_address_is_never_taken_for_the_device(plant):
    plant.run("portcall plant unplug dryer-plc")
    plant.run("ip addr add 10.61.20.10/24 dev usb0")
    judged = plant.run("portcall verify dryer-plc --json")
    assert (judged.code, judged.json["not_judged"], judged.json["right"]) == (3, 1, 0)
    (only,) = judged.json["rows"]
    assert only["verdict"] == "not judged"
    assert "10.61.20.10 is this computer's own address on usb0" in only["findings"][0]
    told = plant.run("portcall verify dryer-plc")
    assert told.out.splitlines()[-1] == "0 right, 0 wrong, 1 not judged"
    for line in ("portcall reach dryer-plc", "portcall reach dryer-plc --door cip"):
        asked = plant.run(f"{line} --json")
        (target,) = asked.json["targets"]
        assert (asked.code, target["sent"], target["received"]) == (3, 0, 0)
        assert "this computer's own address" in target["reason"]
    watched = plant.run("portcall reach dryer-plc --watch --for 1")
    assert (watched.code, "own address" in watched.err) == (3, True)
    # Plugged in again, the device is seen beside this computer; the line that is recommended works.
    plant.run("portcall plant plug dryer-plc")
    both = row(plant.run("portcall verify dryer-plc --json"), "dryer-plc")
    assert "02-5A-1D-20-7F-10 answers for 10.61.20.10, too" in both["findings"]
    line = re.search("portcall match .*", both["findings"][0])[0]
    assert plant.run("portcall match dryer-plc").code == 3
    assert plant.run(line).code == 0
    assert plant.run("portcall verify dryer-plc").code == 0


def test_what_is_in_another_subnet_is_asked_from_there_or_not_judged(plant):
    asked = plant.run("portcall verify dryer-plc weigh-gateway --json")
    plc = row(asked, "dryer-plc")
    assert (plc["verdict"], plc["findings"]) == ("right", [])
    assert plc["identity"] == "Skerry 40 controller, serial 5A20170F, firmware 20.013"
    assert row(asked, "weigh-gateway")["verdict"] == "elsewhere"
    assert plant.run("ip -4 -o addr show usb0").out == ""
    plant.run("sysctl -w net.ipv4.conf.usb0.forwarding=1")
    asked = plant.run("portcall verify dryer-plc fan-drive-1 --json")
    assert (asked.code, asked.json["not_judged"]) == (1, 1)
    plc = row(asked, "dryer-plc")
    assert (plc["verdict"], plc["identity"]) == ("not judged", None)
    assert plc["findings"] == [
        "not asked: usb0 is not in its subnet, and no address could be borrowed there: "
        "portcall match 10.61.20.10"
    ]
    # What is heard is judged all the same.
    assert row(asked, "fan-drive-1")["verdict"] == "asking"


def test_where_nothing_is_heard_the_adapter_is_asked_about(plant):
    plant.run("portcall plant unplug mill-cell")
    plant.run("portcall plant plug usb0 --wire cell")
    asked = plant.run("portcall verify dryer-plc")
    assert asked.code == 1
    assert "nothing at all was heard on usb0: is it the right adapter" in asked.err


def test_who_is_behind_a_router_is_reached_and_not_said_to_be_without_arp(plant):
    plant.run("portcall match dryer-plc --no-probe")
    plant.run("ip route add 10.61.30.0/24 via 10.61.20.1")
    plant.write("plan.csv", "name,mac,address\nwasher-plc,,10.61.30.10\n")
    judged = row(plant.run("portcall verify --json"), "washer-plc")
    assert judged["verdict"] == "right"
    assert judged["findings"][0] == "MAC not seen: it is behind the router 10.61.20.1"


def test_without_a_site_everybody_is_found_and_each_with_its_mac(packing):
    packing.run("mkdir -p nowhere")
    found = packing.run(f"sh -c 'cd /dev/shm && {PORTCALL[0]} -m portcall find --json'").json
    assert len(found["devices"]) == 25
    assert all(device["mac"] for device in found["devices"])
    assert found["incomplete"] == []
    pair = [d for d in found["devices"] if "10.61.20.41" in d["addresses"]]
    assert [d["product"] for d in pair] == ["Reed 3 moisture probe"] * 2
    assert "10.61.20.41 is the address of 2 devices" in found["faults"][0]
    assert "one of them says" not in found["faults"][0]


def test_a_list_that_is_incomplete_says_so_first_with_the_line_to_type(packing):
    speak = (
        "import socket\n"
        "for n in range(50, 56):\n"
        " s = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)\n"
        " s.setsockopt(socket.SOL_SOCKET, socket.SO_BROADCAST, 1)\n"
        " s.bind((f'10.61.{n}.9', 0)); s.sendto(b'x', ('255.255.255.255', 9999))\n"
    )
    packing.write("speak.py", speak)
    for n in range(50, 56):
        packing.on("guest", f"ip addr add 10.61.{n}.9/24 dev eth0")
    packing.on("guest", "ip route add default dev eth0")
    started = packing.start("portcall find")
    packing.until_sent(20)
    packing.on("guest", "python3 speak.py")
    first = packing.finish(started).out.splitlines()[0]
    named = re.search(r"^! INCOMPLETE: (.*) (?:was|were) heard, and not searched: (.*)$", first)
    line = named[2]
    assert line.startswith("portcall find 10.61.5")
    assert packing.run(line + " --method arp").code == 0
    packing.on("guest", "ip addr flush dev eth0")


def test_a_match_does_not_go_on_when_its_cable_was_pulled_meanwhile(plant):
    started = plant.start("portcall match dryer-plc")
    plant.until(started, "asking on usb0 which address is free")
    plant.run("portcall plant unplug usb0")
    plant.run("portcall plant plug usb0")
    ended = plant.finish(started)
    assert (ended.code, ended.out) == (3, "")
    assert "usb0 lost its link meanwhile" in ended.err
    assert "nothing is changed" in ended.err
    assert plant.run("ip -4 -o addr show usb0").out == ""
    assert plant.run("portcall restore --show --json").json["open"] == []


def test_a_tunnel_that_takes_the_route_is_named_and_the_adapter_is_asked(plant):
    plant.run("portcall match dryer-plc --no-probe")
    if plant.run("ip tuntap add mode tun name tun0").code:
        # Where there is no tunnel device, any other adapter that takes the route does.
        assert plant.run("ip link add tun0 type veth peer name far0").code == 0
        assert plant.run("ip link set far0 up").code == 0
    assert plant.run("ip link set tun0 up").code == 0
    plant.run("ip route add 10.61.20.0/25 dev tun0")
    for line in ("portcall reach dryer-plc --count 1", "portcall verify dryer-plc"):
        asked = plant.run(line)
        assert asked.code == 0
        assert "other programs do not use usb0 for 10.61.20.10: what they send leaves by tun0" in (
            asked.err
        )
    told = plant.run("portcall reach dryer-plc --count 1 --json").json["targets"][0]
    assert told["other_programs_leave_by"] == "tun0"


def test_an_unplanned_device_keeps_its_name_unless_one_is_typed(plant):
    radio = "02-D0-11-5C-10-21"
    plant.run("portcall plant unplug shore-radio")
    plant.run("rm plan.csv")
    plant.run(f"portcall move {radio} --to 10.61.20.70/24 --name pier")
    for to, name, expected in (("71", "", "pier"), ("72", " --name pier-2", "pier-2")):
        moved = plant.run(f"portcall move {radio} --to 10.61.20.{to}/24{name}")
        assert moved.code == 0, moved
        said = plant.run(f"portcall find 10.61.20.{to} --method dcp --json").json
        assert said["devices"][0]["name"] == expected


def test_an_edit_in_the_first_seconds_of_assign_is_taken(plant):
    plant.run("portcall match dryer-plc --no-probe")
    started = plant.start("portcall assign --until-done --for 25")
    plant.until(started, "another DHCP server is here")
    plant.run("sed -i -e s/02-77-B1-4C-0E-53/02-77-B1-4C-0E-58/ -e /weigh/d -e /island/d plan.csv")
    plant.run("sed -i -e /radio/d plan.csv")
    ended = plant.finish(started)
    assert ended.code == 0, ended
    assert "assigned   fan-drive-2" in ended.out


def test_a_typed_pair_serves_that_device_only(plant):
    plant.run("portcall match dryer-plc --no-probe")
    line = "portcall assign 02-77-B1-4C-0E-58=10.61.20.22 --until-done --for 25 --json"
    served = plant.run(line)
    assert served.code == 0
    assert {e["name"] for e in served.json_lines if e["event"] == "assigned"} == {"fan-drive-2"}
    given = plant.run("portcall plant list --json").json["devices"]
    assert [d["address"] for d in given if d["name"] == "fan-drive-1"] == [None]


def test_a_plan_without_macs_can_be_filled_in_by_asking_from_its_own_subnet():
    plan = "name,mac,address\\nfan-drive-1,,10.61.20.21\\n"
    person = Terminal(
        f"cd $PRACTICE_SITE && printf {shlex.quote(plan)} > plan.csv && "
        f"{PORTCALL[0]} -m portcall assign --ask --match --until-done --for 40; echo ended $?"
    )
    person.until("which row is it")
    person.type("1\n")
    person.end()
    assert re.search("fan-drive-1 is in the plan.*ended [01]", person.plain, re.DOTALL)
    assert "usb0: 10.61.20.200/24 added until this ends" in person.plain


def test_lost_echoes_are_a_no_unless_they_are_accepted_and_ctrl_c_shows_what_there_is(plant):
    plant.run("portcall match dryer-plc --no-probe")
    plant.run("portcall plant fault dryer-plc lossy 30%")
    asked = "portcall reach dryer-plc --count 40 --interval 0.05"
    some = plant.run(asked)
    assert some.code == 1
    assert re.search(r" [1-3]?\d of 40", some.out)
    assert plant.run(f"{asked} --accept 30").code == 0
    plant.run("portcall plant mend")
    started = plant.start(
        "portcall reach dryer-plc --count 1000 --interval 0.1 --json", signalled=True
    )
    plant.until_sent(20)
    plant.run("portcall plant unplug usb0")
    plant.run("portcall plant plug usb0")
    ended = plant.finish(started, signal.SIGINT)
    assert ended.code == 130
    assert 3 <= ended.json["targets"][0]["received"] < 1000
    assert "usb0 lost its link once meanwhile: what is lost may be lost for that" in ended.err


SERVER = "a DHCP server is on this wire: 203.0.113.201"


def test_who_gives_out_addresses_is_named_by_asking(plant):
    plant.run("portcall plant plug usb0 --wire cell")
    found = plant.run("portcall find --json")
    (fault,) = [each for each in found.json["faults"] if each.startswith(SERVER)]
    assert fault.startswith(f"{SERVER} (02-5A-1D-33-01-C4)")
    assert fault.endswith(": portcall match --dhcp")
    # A leftover address of its own is no reason: the line is for that very case.
    plant.run("ip addr add 192.168.99.5/24 dev usb0")
    why = plant.run("portcall why 203.0.113.201").out
    assert "or have an address that 203.0.113.201 hands out here: portcall match --dhcp" in why
    other = plant.run("portcall match 203.0.113.201")
    assert "201 hands out addresses of 203.0.113.200/29; to have one that it kno" in other.err
    assert plant.run("portcall restore").code == 0
    assert plant.run("portcall match --dhcp --replace").code == 0
    assert "192.168.99.5" not in plant.run("ip addr show usb0").out
    assert plant.run("portcall restore").code == 0
    assert "192.168.99.5" in plant.run("ip addr show usb0").out
    server = next(d for d in found.json["devices"] if d["serves"] == "DHCP")
    assert "dhcp" in server["methods"]


def test_who_gives_out_addresses_is_named_by_listening_to_who_takes_one(plant):
    plant.run("portcall plant plug usb0 --wire cell")
    plant.run("portcall plant plug spare-1 --wire cell")
    started = plant.start("portcall listen --for 8")
    plant.until_true("grep -q usb0 /proc/net/packet || ss -0 -l | grep -q usb0")
    plant.write("empty.sh", "#!/bin/sh\n")
    plant.run("chmod +x empty.sh")
    plant.on("spare-1", "timeout 5 udhcpc -f -n -q -t 2 -T 1 -i eth0 -s ./empty.sh")
    heard = plant.finish(started)
    assert SERVER in heard.out
    assert "2 devices heard" in heard.err


def test_on_a_terminal_rows_come_while_it_looks_and_the_list_is_put_in_order_at_the_end():
    person = Terminal(f"cd $PRACTICE_SITE && {PORTCALL[0]} -m portcall find; echo ended $?")
    person.until(r"02-C0-E7-05-2B-90[\s\S]*so far, about \d+ s left: .*ARP sweep")
    assert "ended" not in person.plain
    person.end()
    assert "ended 0" in person.plain
    last = person.plain.rsplit("so far, about", 1)[1]
    assert last.index("10.61.20.10 ") < last.index("10.61.20.60 ") < last.index("203.0.113.40 ")
    assert last.index("is the address of 2 devices") < last.index("ADDRESS") < last.index("\nnext")
    assert re.search("15 devices on usb0", last)


def test_verify_of_some_names_judges_those_and_no_other(packing):
    some = packing.run("portcall verify packer-plc label-panel --json")
    assert [each["name"] for each in some.json["rows"]] == ["packer-plc", "label-panel"]
    assert (some.code, some.json["right"], some.json["unplanned"]) == (3, 1, [])
    # It answers, and tells its mask by none of these: nobody has seen that it is right.
    panel = row(some, "label-panel")
    unread, answers = panel["findings"]
    line = "portcall verify label-panel --read mask=MASK"
    assert (panel["verdict"], unread.rpartition(": ")[2]) == ("not judged", line)
    standing = packing.run("portcall status").out
    assert re.search(r"label-panel +10\.61\.20\.30 +not all read [^\n]*\n[^\n]*" + line, standing)
    read = packing.run(line.replace("MASK", "24"))
    assert (read.code, "its mask is 255.255.255.0, read by hand" in read.out) == (0, True)
    assert packing.run("portcall verify label-panel").code == 0
    assert re.search(
        r"label-panel +10\.61\.20\.30 +verified right", packing.run("portcall status").out
    )
    assert packing.run("portcall report r.html").code == 1
    assert packing.run("grep -c '255.255.255.0 (read by hand)' r.html").out == "1\n"
    assert packing.run(line.replace("MASK", "255.0.255.0")).code == 2
    assert answers == "ping: no reply; it answers NetBIOS, mDNS, OPC UA, its web page"
    told = packing.run("portcall verify packer-plc")
    assert told.out.splitlines()[-1] == "1 right, 0 wrong"
    assert packing.run("portcall verify 10.61.20.99").code == 2


def test_what_is_going_on_survives_an_adapter_that_is_switched_off_and_on_and_ends_when_it_is_gone(
    plant,
):
    plant.run("portcall match dryer-plc --no-probe")
    lines = (
        "portcall find --watch",
        "portcall reach dryer-plc --watch",
        "portcall assign",
        "portcall verify",
        "portcall find",
    )
    watch, reach, assign, verify, find = (plant.start(line, signalled=True) for line in lines)
    plant.until(reach, "dryer-plc up")
    plant.until(watch, "appeared", 8)
    plant.until_serving()
    plant.run("ip link set usb0 down")
    plant.until(assign, "link lost")
    plant.run("ip link set usb0 up")
    plant.until(assign, "link back")
    plant.until(assign, "answering  dryer-plc")
    plant.until(reach, "usb0 has its link again")
    plant.until(watch, "lost its link for a moment")
    for ended in (plant.finish(verify), plant.finish(find)):
        assert ended.code in (0, 1, 3)
        assert "usb0 lost its link once meanwhile" in ended.err
        assert not re.search(r"\bmissing\b", ended.out)
    plant.run("ip link del usb0")
    plant.until(reach, "usb0 is gone from this computer")
    plant.until(watch, "usb0 is gone from this computer")
    gone = plant.finish(assign)
    assert (gone.code, "usb0 is gone; plug it in" in gone.err) == (3, True)
    for started in (reach, watch):
        ended = plant.finish(started, signal.SIGINT, 10)
        assert ended.code in (1, 130)
        assert "Traceback" not in ended.err


def test_a_subnet_too_large_to_be_swept_keeps_no_command_from_its_work(plant):
    plant.run("ip addr add 10.61.20.200/8 dev usb0")
    assert plant.run("portcall find --method listen --adapter usb0").code == 0
    found = plant.run("portcall find dryer-plc --adapter usb0 --json")
    assert found.code == 0, found.err
    assert found.json["devices"][0]["addresses"] == ["10.61.20.10"]
    everything = plant.run("portcall find --adapter usb0 --json")
    (reason,) = (each["reason"] for each in everything.json["not_run"] if each["method"] == "arp")
    assert "10.0.0.0/8 has 16,777,216 addresses, and is not asked address by address" in reason
    verified = plant.run("portcall verify dryer-plc --adapter usb0 --json")
    assert verified.json["rows"][0]["verdict"] == "right", verified.err
    # A subnet that a sweep would take minutes for is not looked through for one device.
    plant.run("sh -c 'ip addr flush dev usb0; ip addr add 10.61.20.200/16 dev usb0; mkdir alone'")
    rows = "dryer-plc,10.61.20.10,,\npier-1,10.61.43.13,02:60:d1:00:00:03,255.255.0.0\n"
    plant.write("alone/plan.csv", f"name,address,mac,mask\n{rows}")
    plant.write("alone/site.toml", "")
    why = plant.run("sh -c 'cd alone && portcall why pier-1 --json --adapter usb0'")
    assert (why.code, why.json["cause"], why.json["between"]) == (1, None, ["nobody-there"])
    assert "others in that subnet answer; or it is at another address" in why.json["sentence"]
    line = why.json["do"][0].partition(" looks ")[0]
    assert line == "portcall find 10.61.43.0/24"
    assert plant.run(f"{line} --adapter usb0").code == 0
    moved = plant.run("sh -c 'cd alone && portcall move pier-1 --adapter usb0'")
    assert "was not heard on this wire" in moved.out
    assert "10.61.0.1-10.61.255.254: only the planned addresses are asked" in moved.err
