"""Bad input, and what cannot be done here: one sentence, the right exit code, nothing changed."""

import pytest
from inside import Plant

HEADER = "name,mac,address,mask,gateway\n"

BAD_PLANS = {
    "octet over 255": ("x,,10.61.20.300,24,", "line 2, column address: 10.61.20.300: octet 4"),
    "three octets": ("x,,10.61.20,24,", "line 2, column address: 10.61.20: has 3 octets"),
    "mask not contiguous": ("x,,10.61.20.5,255.0.255.0,", "line 2, column mask: 255.0.255.0: is"),
    "network number": ("x,,10.61.20.0,24,", "line 2, column address: 10.61.20.0: is the network"),
    "broadcast": ("x,,10.61.20.255,24,", "line 2, column address: 10.61.20.255: is the broadcast"),
    "gateway outside": ("x,,10.61.20.5,24,10.1.1.1", "line 2, column gateway: 10.1.1.1: is outs"),
    "address twice": ("x,,10.61.20.5,24,\ny,,10.61.20.5,24,", "line 3, column address"),
    "MAC twice": (
        "x,02-60-D1-00-5E-01,10.61.20.5,24,\ny,0260d1005e01,10.61.20.6,24,",
        "line 3, column mac: 02-60-D1-00-5E-01: is on line 2 too (x)",
    ),
    "MAC digits": ("x,02-60-D1-00-5E,10.61.20.5,24,", "line 2, column mac: 02-60-D1-00-5E: has 10"),
}


@pytest.fixture(scope="module")
def place():
    with Plant() as made:
        made.run("portcall match 10.61.20.0/24 --no-probe")
        yield made


@pytest.mark.parametrize("case", BAD_PLANS)
def test_a_bad_plan_is_refused_by_the_commands_that_live_by_it(place, case):
    rows, complaint = BAD_PLANS[case]
    place.write("plan.csv", HEADER + rows + "\n")
    before = place.run("ip addr").out
    lines = ("plan check", "assign --for 5", "verify", "match 203.0.113.9 --no-probe")
    for line in lines if case == "address twice" else lines[:2]:
        ended = place.run(f"portcall {line}")
        assert ended.code == 2, line
        assert complaint in ended.err
        assert ended.out == ""
        assert "Traceback" not in ended.err
    assert place.run("ip addr").out == before


@pytest.mark.parametrize(
    ("data", "complaint"),
    [
        (b"", "is empty"),
        (b"\x89PNG\x00", "is not text"),
        (b"PK\x03\x04\x00", "portcall plan import"),
    ],
    ids=["empty", "picture", "workbook"],
)
def test_an_empty_plan_and_one_that_is_not_text(place, data, complaint):
    place.write("plan.csv", data)
    checked = place.run("portcall plan check --json")
    assert checked.code == 2
    assert complaint in checked.json["problems"][0]["problem"]
    assert checked.json["problems"][0]["line"] is None


@pytest.mark.parametrize(
    ("line", "code", "complaint"),
    [
        ("match 10.61.20.300", 2, "octet 4 is 300; an octet is 0 to 255"),
        ("find 10.61.20.7/24", 2, "write the subnet as 10.61.20.0/24"),
        ("match pump-9", 2, "pump-9: is no address, and not in the plan: portcall plan show"),
        ("match 203.0.113.9 --address 203.0.113.9/24", 2, "is the device's own address"),
        ("match 203.0.113.9 --address 203.0.114.5/24", 2, "203.0.113.9 is not in 203.0.114.0/24"),
        ("match 203.0.113.9 --address 203.0.113.5", 2, "no mask; write it as 203.0.113.5/24"),
        ("match 198.51.100.9", 3, "198.51.100.0/24 overlaps 198.51.100.0/24 on lan0"),
        ("find 10.61.20.9-5", 2, "ends below where it starts"),
        ("find 10.0.0.0/8", 2, "has 16,777,214 addresses; one sweep takes at most 65,536"),
        ("find --method smoke", 2, "'smoke' is not one of"),
        ("find --pace 0", 2, "0"),
        ("find --adapter usb7", 3, "no adapter is called 'usb7'; here are: lan0"),
        ("reach pump-9", 2, "pump-9: is no address or range"),
        ("reach", 2, "which TARGET?"),
        ("assign fan --for 0", 2, "--for"),
        ("assign pump-9", 2, "pump-9: is not in the plan: portcall plan show"),
        ("assign 02-60=10.61.20.5", 2, "has 4 hex digits; a MAC has 12"),
        ("assign 02-60-D1-00-5E-01=10.61.20.200/24", 2, "and this computer has it on usb0"),
        (
            "keep pump-9",
            2,
            "pump-9: is no address, no MAC, and not in the plan: portcall plan show",
        ),
        ("keep 10.61.20.300", 2, "octet 4 is 300"),
        ("keep fan --undo --name x", 2, "--name is for one TARGET, and not for --undo"),
        ("move", 2, "name a DEVICE, --group GROUP, or --series ADDRESS"),
        ("move fan --to 10.61.20.255/24", 2, "is the broadcast address of 10.61.20.0/24"),
        ("move fan --to 10.61.20.200/24", 2, "10.61.20.200: this computer has it on usb0"),
        ("move fan --wait soon", 2, "--wait soon: is a number of seconds over 0, or forever"),
        ("move fan --name Fan_1", 2, "is no station name: F is no lower-case letter"),
        ("move 02-60-D1-00-5E-02", 2, "is not in the plan; say where to with --to ADDRESS/N"),
        ("move --series 203.0.113.47 fan", 2, "--series needs a person at a terminal"),
        ("move --series 203.0.113.47 10.61.20.71", 2, "takes the names of planned devices"),
        ("verify fan --read colour=red", 2, "write what you read as COLUMN=VALUE"),
        ("verify fan --read mask=255.0.255.0", 2, "255.0.255.0: is not contiguous"),
        ("verify --read mask=24", 2, "--read tells what was read at one device"),
        ("verify --power-cycle 10.61.20.99", 2, "is not in the plan, so no address is known"),
        ("blink pump-9", 2, "pump-9: is no address, no MAC"),
        ("plan check nowhere.csv", 2, "nowhere.csv"),
        ("plant power-cycle pump-9", 2, "pump-9: nothing here is called that; there are lan0"),
        ("plant unplug pump-9", 2, "nothing here is called that"),
        ("plant on spare-1 -- no-such-program", 3, "no-such-program: cannot be run"),
        ("sail", 2, "sail: is no command; see portcall --help"),
    ],
)
def test_bad_words_are_told_why_and_change_nothing(place, line, code, complaint):
    place.write("plan.csv", HEADER + "fan,02-60-D1-00-5E-01,10.61.20.71,24,\n")
    before = place.run("ip addr").out
    ended = place.run(f"portcall {line}")
    assert (ended.code, complaint in ended.err) == (code, True), ended.err
    assert "Traceback" not in ended.err
    assert place.run("ip addr").out == before


def test_a_broken_site_file_names_the_key(place):
    for text, complaint in (
        ("pace = 1e9", "pace: 1e+09: is 1 to 2000 packets a second"),
        ("pace = true", "pace: True is not a number"),
        ('workstation = "10.61.20.299"', "workstation: 10.61.20.299: octet 4 is 299"),
        ("[[subnets]]\nnetwork = 5", "subnets network: 5 is not text in quotes"),
        ('[makers]\n"02-5A" = "x"', "makers: 02-5A: a MAC prefix is 6 hex digits"),
        ("colour = 1", "colour: is no setting"),
        ("= =", "is not TOML"),
    ):
        place.write("site.toml", text)
        ended = place.run("portcall find")
        assert ended.code == 2
        assert complaint in ended.err
    place.write("site.toml", "")


def test_an_adapter_without_link_or_a_choice_between_two(plant):
    plant.run("portcall plant unplug usb0")
    listed = plant.run("portcall adapters")
    assert "usb0: no link: nothing can be heard; check the cable" in listed.out
    gone = plant.run("portcall find --adapter usb0")
    assert gone.code == 3
    assert "usb0 has no link: check that the cable is in" in gone.err
    none = plant.run("portcall verify")
    assert none.code == 3
    assert "no wired adapter has a link and no default route" in none.err
    plant.run("portcall plant plug usb0")
    assert plant.run("portcall find --method listen").code == 0
    plant.run("ip route del default")
    both = plant.run("portcall find")
    assert both.code == 3
    assert "lan0 or usb0: which one has the plant's cable?" in both.err
    plant.run("ip link set usb0 down")
    assert "usb0 is switched off" in plant.run("portcall match dryer-plc --adapter usb0").err
    assert plant.run("portcall plant list").out.count(" in ") >= 7


def test_a_taken_port_and_a_workstation_that_is_not_matched(plant):
    unmatched = plant.run("portcall assign --for 5")
    assert unmatched.code == 3
    assert "first: portcall match 10.61.20.10" in unmatched.err
    plant.run("portcall match dryer-plc --no-probe")
    holder = (
        "import socket,time;s=socket.socket(2,2);s.bind(('0.0.0.0',67));print(1,flush=True);"
        "time.sleep(30)"
    )
    plant.start(f'python3 -c "{holder}"')
    plant.until_serving()
    taken = plant.run("portcall assign --for 5")
    assert taken.code == 3
    assert "UDP port 67 is taken by another program on this computer" in taken.err


@pytest.mark.parametrize(
    ("line", "reader"),
    [
        # After a line, and before there is any.
        ("assign", "head -1"),
        ("assign --json", "head -1"),
        ("assign --keep", "true"),
        ("find --watch", "head -1"),
        ("find --watch --json", "true"),
        ("listen --for 600", "true"),
        ("adapters --watch --json", "true"),
    ],
)
def test_a_command_whose_reader_has_gone_ends_at_once_and_quietly(quiet_plant, line, reader):
    quiet_plant.run("portcall match dryer-plc --no-probe")
    portcall = " ".join(_words())
    script = f"{portcall} {line} 2>said | {reader} >/dev/null; exit ${{PIPESTATUS[0]}}"
    ended = quiet_plant.run(f"bash -c '{script}'", timeout=40)
    assert ended.code in (0, 1), ended
    said = quiet_plant.run("cat said").out
    assert "Traceback" not in said
    assert "Error" not in said
    assert quiet_plant.run("grep -c :0043 /proc/net/udp").out == "0\n"


def test_who_can_say_nothing_serves_nobody_and_ends_in_no_traceback(plant):
    portcall = " ".join(_words())
    assert plant.run(f"bash -c '{portcall} plan show >&- 2>said'").code in (0, 1)
    assert "Traceback" not in plant.run("cat said").out
    # Nobody would learn whom it serves: it ends, and takes the address back.
    line = f"{portcall} assign --match 2>&- | true; exit ${{PIPESTATUS[0]}}"
    assert plant.run(f"bash -c '{line}'", timeout=40).code == 1
    assert plant.run("ip -4 -o addr show usb0").out == ""


def test_without_privilege_what_can_be_shown_is_shown_and_the_rest_is_named(plant):
    plant.run("portcall match dryer-plc --no-probe")
    bare = "setpriv --bounding-set=-all --inh-caps=-all"
    portcall = " ".join(_words())
    found = plant.run(f"{bare} {portcall} find --json")
    assert found.code == 0
    # Those that answer a broadcast; the kernel's own table tells who they are on the link, for
    # those that were spoken to.
    devices = {device["addresses"][0]: device for device in found.json["devices"]}
    assert {"10.61.20.10", "10.61.20.60"} <= set(devices)
    assert devices["10.61.20.10"]["serial"] == "5A20170F"
    assert devices["10.61.20.10"]["mac"] == "02-5A-1D-20-7F-10"
    not_run = [entry["method"] for entry in found.json["not_run"]]
    assert not_run == ["listen", "lldp", "dhcp", "arp", "ipv6", "dcp"]
    assert "run this with sudo" in found.json["not_run"][0]["reason"]
    for line, need in (
        ("match 203.0.113.40", "changing an adapter's addresses and raw Ethernet needs privilege"),
        ("assign --for 3", "listening on port 67 and raw Ethernet needs privilege"),
        ("restore", "CAP_NET_ADMIN"),
        ("reach dryer-plc", "ping needs root or CAP_NET_RAW"),
    ):
        ended = plant.run(f"{bare} {portcall} {line}")
        assert ended.code == 3, line
        assert need in ended.err
        assert "sudo" in ended.err
    assert plant.run(f"{bare} {portcall} adapters").code == 0


def _words():
    from inside import PORTCALL

    return PORTCALL
