"""Situations made by the kernel's own means, healthy and broken: what is said of each is so.

None of these is a fault of the practice plant: routes, rules, filters and ARP tables are set by the
programs that an administrator has for that, on both sides. ``reach`` does not say otherwise.
"""

import shlex
import sys
from collections.abc import Iterator

import pytest
from inside import Plant

SCENARIO = """
name = "made"
site = "site"
[[workstation]]
adapter = "lan0"
wire = "office"
mac = "02-1A-40-7C-00-05"
address = "198.51.100.77/24"
gateway = "198.51.100.1"
[[workstation]]
adapter = "usb0"
wire = "plant"
mac = "02-1A-40-7C-00-06"
address = "10.61.20.200/24"
"""


def device(name: str, number: int, *more: str, wire: str = "plant", kind: str = "bare") -> str:
    lines = (f'name = "{name}"', f'kind = "{kind}"', f'wire = "{wire}"', *more)
    return "\n".join(("[[devices]]", *lines, f'mac = "02-5A-1D-20-00-{number:02X}"', ""))


def leg(number: int, wire: str, address: str) -> str:
    lines = (f'wire = "{wire}"', f'mac = "02-5A-1D-21-00-{number:02X}"', f'address = "{address}"')
    return "\n".join(("[[devices.forwards]]", *lines, ""))


SPEAKS = ('speaks = ["cip", "web"]', 'product = "Skerry 40 controller"')

DEVICES = (
    device("office", 1, 'address = "198.51.100.1/24"', wire="office", kind="router"),
    leg(1, "beyond", "192.0.2.1/24"),
    device("host", 2, 'address = "192.0.2.10/24"', 'gateway = "192.0.2.1"', wire="beyond"),
    *(
        device(f"plc-{n}", 16 + n, f'address = "10.61.20.{n}/24"', f'serial = "{n:08X}"', *SPEAKS)
        for n in (10, 11, 12)
    ),
    device("bare", 3, 'address = "10.61.20.13/24"'),
    device("twin", 4, 'address = "10.61.20.20/24"', *SPEAKS),
    leg(4, "plant", "10.61.20.21/24"),
    device("near-router", 5, 'address = "10.61.20.1/24"', kind="router"),
    leg(5, "middle", "10.61.40.1/24"),
    device("far-router", 6, 'address = "10.61.40.2/24"', 'gateway = "10.61.40.1"', wire="middle"),
    leg(6, "far", "10.61.50.1/24"),
    device("near", 7, 'address = "10.61.40.10/24"', 'gateway = "10.61.40.1"', wire="middle"),
    device("far", 8, 'address = "10.61.50.10/24"', 'gateway = "10.61.50.1"', wire="far"),
)


@pytest.fixture
def plant(tmp_path) -> Iterator[Plant]:
    scenario = tmp_path / "made.toml"
    (tmp_path / "site").mkdir()
    scenario.write_text(SCENARIO + "".join(DEVICES))
    with Plant(scenario) as made:
        made.run("ip route add 10.61.40.0/24 via 10.61.20.1")
        made.run("ip route add 10.61.50.0/24 via 10.61.20.1")
        made.on("near-router", "ip route add 10.61.50.0/24 via 10.61.40.2")
        yield made


def done(ended) -> None:
    assert ended.code == 0, ended


def rule(hook: str, what: str, family: str = "inet") -> str:
    """A line that adds a rule of the packet filter."""
    chain = "{ type filter hook " + hook + " priority 0; }"
    lines = (f"add table {family} t", f"add chain {family} t {hook} {chain}")
    script = "\n".join((*lines, f"add rule {family} t {hook} {what}"))
    return f"sh -c {shlex.quote(f'printf %s {shlex.quote(script)} | nft -f -')}"


def why(plant, target: str):
    return plant.run(f"portcall why {target} --json", 90).json


def test_what_is_healthy_is_not_called_broken_by_why_or_by_reach(plant):
    # One device with two plugs; a target by the office's default route; one that counts echoes;
    # one that answers no ARP and is in the table; a way that is told to be narrow.
    done(plant.on("plc-10", rule("output", "icmp type echo-reply limit rate over 10/second drop")))
    done(plant.on("plc-11", "ip link set eth0 arp off"))
    done(plant.on("plc-11", "ip neigh replace 10.61.20.200 lladdr 02:1a:40:7c:00:06 dev eth0"))
    done(plant.run("ip neigh replace 10.61.20.11 lladdr 02:5a:1d:20:00:1b dev usb0 nud permanent"))
    done(plant.on("near-router", "ip link set eth1 mtu 1000"))
    healthy = ("10.61.20.20", "192.0.2.10", "10.61.20.10", "10.61.20.11", "10.61.50.10")
    said = {target: why(plant, target) for target in healthy}
    for target, told in said.items():
        assert (told["cause"], told["reachable"]) == (None, True), told
        assert {rung["verdict"] for rung in told["rungs"]} <= {"holds", "not asked"}, told
        assert plant.run(f"portcall reach {target} --count 2").code == 0
    evidence = {t: " ".join(r["evidence"] for r in told["rungs"]) for t, told in said.items()}
    assert "plugs of one device on this wire" in evidence["10.61.20.20"]
    assert "answers come back by lan0" in evidence["192.0.2.10"]
    assert "answers only so many a second" in evidence["10.61.20.10"]
    assert "this computer's own table has 02-5A-1D-20-00-1B for it" in evidence["10.61.20.11"]
    assert "says that the way takes 1000" in evidence["10.61.50.10"]


def test_what_this_computer_does_itself_is_not_laid_at_the_devices_door(plant):
    done(plant.run("ip rule add to 10.61.20.10 ipproto tcp dport 44818 prohibit"))
    told = why(plant, "10.61.20.10 cip")
    assert (told["cause"], "permission denied" in told["sentence"]) == ("route-elsewhere", True)
    assert plant.run(told["do"][0].split(": ")[1].split(";")[0]).code == 0
    # A reset that this computer's own filter makes up is no refusal of the device.
    reject = "ip daddr 10.61.20.12 tcp dport 44818 reject with tcp reset"
    done(plant.run(rule("output", reject)))
    assert why(plant, "10.61.20.12 cip")["cause"] == "firewall-out"
    # What comes back and is dropped here is told as that by every command.
    done(plant.run(rule("prerouting", "ip saddr 10.61.20.11 drop")))
    plant.write("plan.csv", "name,address\nfeeder,10.61.20.11\n")
    assert why(plant, "feeder")["cause"] == "firewall-in"
    dropped = "its answers come to usb0, and this computer's own firewall drops them"
    assert dropped in plant.run("portcall reach feeder --count 2").out
    judged = plant.run("portcall verify feeder --json").json["rows"][0]
    assert judged["verdict"] == "not judged", judged
    assert judged["findings"] == [f"{dropped}: portcall why feeder"]
    # A rule for ARP: whether it is about what goes out or comes in is not seen.
    done(plant.run(rule("input", "arp saddr ip 10.61.20.13 drop", "arp")))
    done(plant.run("ip neigh flush dev usb0"))
    told = why(plant, "10.61.20.13")
    assert (told["cause"], told["between"]) == (None, ["firewall-out", "firewall-in"])
    done(plant.run("ip route add blackhole 10.61.20.20/32"))
    assert why(plant, "10.61.20.20")["cause"] == "route-elsewhere"
    # What is sent by the adapter alone comes back, and that others' programs do not is said.
    reached = plant.run("portcall reach 10.61.20.20 --count 1")
    assert (reached.code, "other programs do not use usb0" in reached.err) == (0, True)


PAGE_AT_502 = """
import socket
heard = socket.create_server(("", 502))
while True:
    connection, _ = heard.accept()
    asked = b""
    while b"\\r\\n\\r\\n" not in asked and (more := connection.recv(2000)):
        asked += more
    if asked:
        connection.sendall(b"HTTP/1.0 200 OK\\r\\n\\r\\n<title>Draught 2</title>")
    connection.close()
"""


def test_what_a_filter_or_a_router_says_is_not_taken_for_the_device(plant):
    done(plant.on("plc-10", rule("input", "tcp dport 44818 reject")))
    told = why(plant, "10.61.20.10 cip")
    assert (told["cause"], told["between"]) == (None, ["door-silent", "door-closed"])
    # No router and no host says "port unreachable" of an echo.
    done(plant.on("near-router", rule("forward", "ip daddr 10.61.40.10 reject")))
    told = why(plant, "10.61.40.10")
    assert (told["cause"], "A filter at 10.61.20.1" in told["sentence"]) == (None, True)
    done(plant.on("far-router", "ip addr del 10.61.50.1/24 dev eth1"))
    told = why(plant, "10.61.50.10")
    assert (told["cause"], "in a circle" in told["sentence"]) == ("stops-at-hop", True)
    # A router that finds nobody: the device, or the next router? This one does not stand there.
    done(plant.on("near-router", "ip route replace 10.61.50.0/24 via 10.61.40.99"))
    told = why(plant, "10.61.50.10")
    assert (told["cause"], told["between"]) == (None, ["nobody-there", "stops-at-hop"])
    assert plant.run(f"portcall {told['do'][0].split(' shows')[0][9:]}").code == 1
    # Without a word to what Modbus says, it answers who asks for a page.
    plant.write("page.py", PAGE_AT_502)
    page = plant.start(f"portcall plant on bare -- {sys.executable} page.py")
    knock = "import socket; socket.create_connection(('10.61.20.13', 502), 1)"
    plant.until_true(f'{sys.executable} -c "{knock}" 2> /dev/null')
    assert why(plant, "10.61.20.13 modbus")["cause"] == "speaks-otherwise"
    plant.finish(page, 9)
