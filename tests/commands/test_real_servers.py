"""DHCP servers that others wrote, in bare devices: found in time, taken from, and given back to."""

from __future__ import annotations

import re
import signal

import pytest
from inside import Plant

from conftest import need

PLANT = """
site = "site"

[[workstation]]
adapter = "usb0"
wire = "plant"
mac = "02-1A-40-7C-00-06"

[[devices]]
name = "cabinet"
wire = "plant"
mac = "02-1A-40-7C-00-99"
address = "10.61.20.1/24"

[[devices]]
name = "colleague"
wire = "plant"
mac = "02-1A-40-7C-00-98"
"""

# A service port that has one address to give. Both look first whether the address is in use.
UDHCPD = """
interface eth0
start 10.61.20.91
end 10.61.20.91
max_leases 1
lease_file leases
pidfile udhcpd.pid
option subnet 255.255.255.0
option lease 120
"""
SERVERS = {
    "dnsmasq": "dnsmasq -k -C /dev/null --user=root --port=0 --interface=eth0 --bind-interfaces"
    " --log-facility=- --pid-file=dnsmasq.pid --dhcp-leasefile=leases"
    " --dhcp-range=10.61.20.91,10.61.20.91,255.255.255.0,120 --dhcp-option=3",
    "udhcpd": "udhcpd -f -I 10.61.20.1 udhcpd.conf",
}
ASKS = "udhcpc -f -n -q -t 3 -T 4 -i eth0 -s /bin/true"
"""A colleague's computer: it asks three times, and ends with 0 when it was given an address."""


@pytest.fixture
def wire(tmp_path):
    need("dnsmasq", "udhcpd", "udhcpc")
    (tmp_path / "site").mkdir()
    (tmp_path / "site" / "leases").write_text("")
    (tmp_path / "site" / "udhcpd.conf").write_text(UDHCPD)
    (tmp_path / "plant.toml").write_text(PLANT)
    with Plant(tmp_path / "plant.toml") as plant:
        yield plant


def serve(plant, program):
    started = plant.start(f"portcall plant on cabinet -- {SERVERS[program]}")
    plant.on("cabinet", "timeout 60 sh -c 'until grep -q :0043 /proc/net/udp; do sleep 0.05; done'")
    return started


@pytest.mark.parametrize("program", sorted(SERVERS))
def test_the_one_address_of_a_service_port_is_taken_and_given_back(wire, program):
    serve(wire, program)
    matched = wire.run("portcall match --dhcp --json")
    assert matched.code == 0, matched.err
    assert matched.json["address"] == "10.61.20.91"
    # Typed again, the lease is longer, and it is the same match.
    first = _seconds_left(wire)
    wire.run("sleep 2")
    assert wire.run("portcall match --dhcp").code == 0
    assert _seconds_left(wire) >= first - 1
    assert wire.on("colleague", ASKS).code != 0
    # The clock of this computer was set forward by nine hours meanwhile.
    wire.write("jump.py", JUMP)
    assert wire.run("python3 jump.py").code == 0
    told = wire.run("portcall restore")
    assert told.code == 0
    assert "10.61.20.91/24 removed and given back to 10.61.20.1, as it was before" in told.out
    assert wire.on("colleague", ASKS).code == 0


JUMP = """
import datetime, glob, json, os
(name,) = glob.glob(os.environ["PORTCALL_STATE"] + "/open-matches/*.json")
entry = json.load(open(name))
for moment in (entry, entry["lease"]):
    at = datetime.datetime.fromisoformat(moment["at"]) - datetime.timedelta(hours=9)
    moment["at"] = at.isoformat()
json.dump(entry, open(name, "w"))
"""


def _seconds_left(plant):
    shown = plant.run("ip -4 addr show usb0").out
    (valid,) = re.findall(r"valid_lft (\d+)sec", shown)
    return int(valid)


def test_an_address_that_proves_taken_is_declined(wire):
    """Somebody typed it in by hand; this server does not look before it offers."""
    server = wire.start(f"portcall plant on cabinet -- {SERVERS['dnsmasq']} --no-ping --log-dhcp")
    wire.until(server, "IP range")
    wire.on("colleague", "ip addr add 10.61.20.91/24 dev eth0")
    told = wire.run("portcall match --dhcp")
    assert told.code == 3
    assert "10.61.20.1 gives 10.61.20.91, and somebody has it; declined" in told.err
    assert "DHCPDECLINE(eth0) 10.61.20.91 02:1a:40:7c:00:06" in wire.until(server, "DHCPDECLINE")
    assert wire.run("ip -4 -o addr show usb0").out == ""


@pytest.mark.parametrize("program", sorted(SERVERS))
def test_a_server_that_looks_first_is_noticed_before_serving(wire, program):
    serve(wire, program)
    wire.run("ip addr add 10.61.20.200/24 dev usb0")
    refused = wire.run("portcall assign 02-60-D1-00-5E-01=10.61.20.71/24 --for 5")
    assert refused.code == 3
    assert "another DHCP server is here: 10.61.20.1 at 02-1A-40-7C-00-99" in refused.err


def test_a_server_that_answers_only_macs_it_knows_is_noticed_from_its_clients(wire):
    known = "--dhcp-host=02:1a:40:7c:00:98,10.61.20.95 --dhcp-range=10.61.20.0,static"
    only = SERVERS["dnsmasq"].replace(
        "--dhcp-range=10.61.20.91,10.61.20.91,255.255.255.0,120", known
    )
    server = wire.start(f"portcall plant on cabinet -- {only}")
    wire.until(server, "static leases only")
    wire.run("ip addr add 10.61.20.200/24 dev usb0")
    serving = wire.start("portcall assign 02-60-D1-00-5E-01=10.61.20.71/24 --json", signalled=True)
    wire.until_serving()
    assert wire.on("colleague", ASKS).code == 0
    wire.until(serving, '"notice"')
    ended = wire.finish(serving, signal.SIGINT)
    notices = [each for each in ended.json_lines if each["event"] == "notice"]
    assert [each["detail"] for each in notices] == ["another DHCP server is here: 10.61.20.1"]
