"""Real BOOTP/DHCP clients in bare namespaces, and the wire as a capture program saw it."""

import json
import re
import signal
import stat
from pathlib import Path

import pytest
from inside import PORTCALL, SERVES, Plant

from conftest import need

PLAN = """name,mac,address,mask,gateway
spare-1,02-60-D1-00-5E-01,10.61.20.71,255.255.255.192,10.61.20.65
spare-2,02-60-D1-00-5E-02,10.61.20.72,26,
"""
SERVER = "02:1a:40:7c:00:06"
CAPTURE = "wire.pcap"

# What the clients call to put an address in force; it writes nothing but to the adapter.
UDHCPC_SCRIPT = """#!/bin/sh
[ "$1" = bound ] || [ "$1" = renew ] || exit 0
ip addr flush dev $interface
ip addr add $ip/$mask dev $interface
[ -z "$router" ] || ip route add default via $router
"""
DHCLIENT_SCRIPT = """#!/bin/sh
case "$reason" in
  PREINIT) ip link set $interface up ;;
  BOUND|RENEW|REBIND|REBOOT)
    ip addr flush dev $interface
    ip addr add $new_ip_address/$new_subnet_mask dev $interface
    [ -z "$new_routers" ] || ip route add default via $new_routers ;;
  RELEASE|EXPIRE) ip addr flush dev $interface ;;
esac
exit 0
"""

# dhclient ends only by going to the background; -d keeps it here, and timeout ends it.
CLIENTS = {
    "udhcpc": "udhcpc -f -n -q -t 4 -T 2 -i eth0 -s ./udhcpc.sh",
    "dhclient": "dhclient -1 -d -sf ./dhclient.sh -lf leases -pf pid eth0",
    # It sends a client identifier, and looks itself whether the address is in use. Its notes are
    # below /run, which is not to be shared with another test's.
    "dhcpcd": "unshare --mount sh -c 'mount -t tmpfs none /run && "
    "exec dhcpcd -1 -B -4 -p -L -t 10 -C resolv.conf eth0'",
}


@pytest.fixture
def served(plant):
    need("udhcpc", "dhclient", "dhcpcd", "tcpdump")
    plant.write("plan.csv", PLAN)
    for name, script in (("udhcpc.sh", UDHCPC_SCRIPT), ("dhclient.sh", DHCLIENT_SCRIPT)):
        plant.write(name, script)
        plant.run(f"chmod {stat.S_IRWXU:o} {name}")
    plant.write("leases", "")
    plant.run("portcall match 10.61.20.64/26 --no-probe")
    capture = plant.start(
        f"tcpdump -i usb0 -U -w {CAPTURE} udp port 67 or udp port 68 or arp", signalled=True
    )
    plant.until(capture, "listening on usb0")
    yield plant
    ended = plant.finish(capture, signal.SIGINT)
    assert re.search(r"[1-9]\d* packets? captured", ended.err), ended.err
    assert "\n0 packets dropped by kernel" in ended.err


def wire(plant, expression):
    """The lines of the capture that match, one a packet, once it has what was sent until now."""
    # tcpdump writes in order: what is sent now is written after all that was sent before.
    plant.run("ping -c 1 -W 1 -I usb0 10.61.20.125")
    last = "arp and arp[24:4] = 0x0a3d147d"
    plant.until_true(f"tcpdump -n -r {CAPTURE} '{last}' 2>/dev/null | grep -q 10.61.20.125")
    return plant.run(f"tcpdump -n -e -r {CAPTURE} {expression}").out.splitlines()


@pytest.mark.windows
@pytest.mark.parametrize("client", CLIENTS)
def test_a_planned_client_ends_up_with_exactly_its_address_mask_and_router(served, client):
    server = served.start("portcall assign spare-1 --until-done --for 25 --json")
    served.until_serving()
    asked = served.on("spare-1", f"timeout 12 {CLIENTS[client]}")
    assert "10.61.20.71" in asked.out + asked.err
    address = served.on("spare-1", "ip -4 -o addr show eth0").out
    assert re.findall(r"inet (\S+)", address) == ["10.61.20.71/26"]
    assert "default via 10.61.20.65" in served.on("spare-1", "ip route").out
    ended = served.finish(server)
    assert ended.code == 0, ended.out
    # Others of the plant ask, too, and may be the last that is heard.
    last = [each for each in ended.json_lines if each["name"] == "spare-1"][-1]
    assert (last["event"], last["protocol"]) == ("answering", "DHCP")


@pytest.mark.parametrize("client", CLIENTS)
def test_an_unplanned_client_gets_no_answer_at_all(served, client):
    server = served.start("portcall assign spare-1 --json", signalled=True)
    served.until_serving()
    served.on("spare-2", f"timeout 8 {CLIENTS[client]}")
    planned = served.on("spare-1", f"timeout 10 {CLIENTS['udhcpc']}")
    assert planned.code == 0
    ended = served.finish(server, signal.SIGINT)
    assert served.on("spare-2", "ip -4 -o addr show eth0").out == ""
    asked = wire(served, "udp dst port 67 and ether src 02:60:d1:00:5e:02")
    assert asked
    # Everything the server sent was for the planned client, or the lookout's own question.
    sent = wire(served, f"udp and ether src {SERVER}")
    replies = [line for line in sent if "BOOTP/DHCP, Reply" in line]
    assert len(replies) >= 2
    assert all("> 02:60:d1:00:5e:01" in line for line in replies)
    assert {e["event"] for e in ended.json_lines if e["mac"].endswith("5E-02")} == {"ignored"}


REBOOT = "ip addr flush dev eth0"
CYCLES = {
    # One cycle each: what asks, and what ends it. dhclient goes to the background, and gives its
    # address back; udhcpc just leaves.
    "udhcpc": ("udhcpc -f -n -q -t 4 -T 2 -i eth0 -s ./udhcpc.sh", REBOOT),
    "dhclient": (
        "dhclient -1 -sf ./dhclient.sh -lf leases -pf pid eth0",
        "dhclient -r -sf ./dhclient.sh -lf leases -pf pid eth0",
    ),
}


@pytest.mark.parametrize("client", CYCLES)
def test_twenty_cycles_give_the_same_address_mask_and_router_each_time(served, client):
    need("tshark")
    ask, end = CYCLES[client]
    served.write(
        "cycles.sh",
        f"for n in $(seq 20); do timeout 12 {ask} >>clients.log 2>&1\n"
        "ip -4 -o addr show eth0 | grep -o 'inet [^ ]*'; ip route show default\n"
        f"timeout 12 {end} >>clients.log 2>&1; ip route flush dev eth0; {REBOOT}; done",
    )
    server = served.start(
        "portcall assign spare-1 --for 300 --capture cycles.pcapng --json", signalled=True
    )
    served.until_serving()
    lines = served.on("spare-1", "sh cycles.sh").out.splitlines()
    assert lines == 20 * ["inet 10.61.20.71/26", "default via 10.61.20.65 dev eth0 "]
    ended = served.finish(server, signal.SIGINT)
    assert ended.code == 130
    given = [e for e in ended.json_lines if e["event"] == "assigned"]
    assert len(given) == 20
    if client == "dhclient":
        assert sum(e["detail"] == "gives its address back" for e in ended.json_lines) == 20
    # The same, as an analyser reads the wire: every answer, and nothing wrong with any frame.
    fields = "-T fields -e dhcp.option.dhcp -e dhcp.ip.your -e dhcp.option.subnet_mask"
    acks = served.run(f"tshark -r cycles.pcapng -Y dhcp.type==2 {fields}").out.splitlines()
    assert len(acks) == 40
    assert {tuple(line.split()) for line in acks} == {
        (kind, "10.61.20.71", "255.255.255.192") for kind in ("2", "5")
    }
    wrong = "_ws.malformed || _ws.expert.severity >= warn"
    complaints = served.run(f"tshark -r cycles.pcapng -Y '({wrong}) && eth.src=={SERVER}'")
    assert complaints.out == ""


@pytest.mark.long
def test_a_short_lease_is_renewed_and_a_wrong_wish_is_denied(served):
    server = served.start("portcall assign --lease 10 --for 60 --json", signalled=True)
    served.until_serving()
    # What dhclient remembers from another network: it asks for that, and is told to ask anew.
    served.write(
        "leases",
        'lease { interface "eth0"; fixed-address 10.61.20.99; '
        "option dhcp-server-identifier 10.61.20.99; option dhcp-lease-time 864000; "
        "renew 4 2037/12/31 00:00:00; rebind 4 2037/12/31 00:00:00; "
        "expire 4 2037/12/31 00:00:00; }\n",
    )
    held = served.start(f"portcall plant on spare-1 -- {CLIENTS['dhclient']}")
    other = served.start(
        "portcall plant on spare-2 -- udhcpc -f -i eth0 -s ./udhcpc.sh", signalled=True
    )
    served.until(held, "DHCPNAK")
    served.until(held, "bound to 10.61.20.71", 2)
    served.until(other, "lease of 10.61.20.72 obtained", 2)
    address = served.on("spare-1", "ip -4 -o addr show eth0").out
    assert re.findall(r"inet (\S+)", address) == ["10.61.20.71/26"]
    served.finish(held, signal.SIGKILL)
    served.finish(other, signal.SIGKILL)
    events = served.finish(server, signal.SIGINT).json_lines
    told = [(e["event"], e["name"]) for e in events]
    assert ("refused", "spare-1") in told
    assert told.count(("assigned", "spare-1")) >= 2
    assert told.count(("assigned", "spare-2")) >= 2


def test_through_a_relay_agent_by_mac_and_by_place(served):
    need("dhcrelay", "nsenter")
    served.write(
        "plan.csv",
        "name,mac,circuit,address,mask,gateway\n"
        "far-pump,02-4E-07-00-00-21,,10.61.30.21,24,10.61.30.1\n"
        "any-pump,,down0,10.61.30.22,24,10.61.30.1\n",
    )
    script = Path(__file__).with_name("relay.sh").read_text()
    served.write("relay.sh", script.replace("portcall assign", f"{_portcall()} assign"))
    lines = served.run("sh relay.sh").out.splitlines()
    assert [re.search(r"inet (\S+)", lines[n])[1] for n in (0, 2)] == [
        "10.61.30.21/24",
        "10.61.30.22/24",
    ]
    assert [lines[n].split()[:3] for n in (1, 3)] == 2 * [["default", "via", "10.61.30.1"]]
    assert lines[4] == "ended 0"
    events = [json.loads(line) for line in lines[5:]]
    assert [(e["name"], e["mac"][-2:]) for e in events if e["event"] == "answering"] == [
        ("far-pump", "21"),
        ("any-pump", "99"),
    ]
    assert "behind the relay 10.61.30.1; on circuit down0" in events[0]["detail"]


@pytest.mark.long
def test_a_second_server_is_noticed_before_serving(tmp_path):
    """The second server is the tool itself, on another workstation's adapter of the same wire."""
    scenario = tmp_path / "two.toml"
    scenario.write_text(
        """
[[workstation]]
adapter = "usb0"
wire = "plant"
mac = "02-1A-40-7C-00-06"
address = "10.61.20.200/24"
[[devices]]
name = "colleague"
wire = "plant"
mac = "02-1A-40-7C-00-99"
address = "10.61.20.201/24"
"""
    )
    with Plant(_with_site(scenario)) as plant:
        pair = "02-1A-40-7C-00-06=10.61.20.50/24"
        other = plant.start(
            f"portcall plant on colleague -- {_portcall()} assign {pair}", signalled=True
        )
        plant.on("colleague", f"timeout 60 sh -c 'until {SERVES}; do sleep 0.05; done'")
        row = "02-60-D1-00-5E-01=10.61.20.71/24"
        ours = plant.run(f"portcall assign {row} --for 2")
        assert ours.code == 3
        assert (
            "another DHCP server is here: 10.61.20.201 at 02-1A-40-7C-00-99; it offers 10.61.20.50"
            in ours.err
        )
        beside = plant.run(f"portcall assign {row} --for 1 --alongside")
        assert beside.code == 1
        assert "serving 1 device" in beside.err
        assert plant.finish(other, signal.SIGINT).code == 130
        # One that appears while we serve.
        ours = plant.start(f"portcall assign {row} --json", signalled=True)
        plant.until_serving()
        other = plant.start(
            f"portcall plant on colleague -- {_portcall()} assign {pair} --alongside",
            signalled=True,
        )
        plant.until(ours, '"notice"')
        plant.finish(other, signal.SIGINT)
        ended = plant.finish(ours, signal.SIGINT)
        notices = [e for e in ended.json_lines if e["event"] == "notice"]
        assert [(e["mac"], e["address"]) for e in notices] == [
            ("02-1A-40-7C-00-99", "10.61.20.201")
        ]


def _portcall():
    return " ".join(PORTCALL)


def _with_site(scenario):
    site = scenario.parent / "site"
    site.mkdir()
    (site / "note.txt").write_text("practice")
    scenario.write_text('site = "site"\n' + scenario.read_text())
    return scenario


def test_the_tools_frames_decode_without_complaint(served):
    server = served.start("portcall assign --for 8")
    served.until_serving()
    served.on("spare-1", f"timeout 4 {CLIENTS['udhcpc']}")
    served.finish(server)
    served.run("portcall find 10.61.20.64/29 --method arp")
    assert wire(served, "arp")
    seen = served.run(f"tcpdump -n -vvv -r {CAPTURE} ether src {SERVER}").out
    assert seen.count("udp sum ok") >= 4
    assert "Lease-Time" in seen
    assert "who-has" in seen.lower()
    # As a word: a transaction's number in hexadecimal may have these letters, too.
    assert not re.search(r"\bbad\b|\[\||truncated|invalid|unknown", seen, re.IGNORECASE)
