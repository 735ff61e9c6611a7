"""The built find, listen, watch and catalogue, on the practice plant and real services."""

import json
import signal
import time

import pytest
from inside import Plant

from conftest import need


def by_mac(devices):
    return {device["mac"]: device for device in devices}


@pytest.fixture(scope="module")
def looked():
    """One look at the whole scenario from a workstation in none of its subnets."""
    with Plant() as plant:
        # Nothing of it needs the tunnel device, which is closed to ordinary users on many systems.
        plant.run("mount --bind /dev/null /dev/net/tun")
        before = plant.run("sh -c 'ip -d addr show usb0; ip route; ip neigh'").out
        found = plant.run("portcall find --json --listen 6 --capture found.pcapng")
        after = plant.run("sh -c 'ip -d addr show usb0; ip route; ip neigh'").out
        yield found, before, after, plant


# What the protocols of each device can tell; the radios share an address, so only that is certain.
EXPECTED = {
    "02-5A-1D-20-7F-10": {
        "addresses": ["10.61.20.10"],
        "maker": "Sandlark Controls",
        "product": "Skerry 40 controller",
        "kind": "controller",
        "serial": "5A20170F",
        "firmware": "20.013",
        "mask": "255.255.255.0",
        "obtains": "stored in the device",
        "ports": ["80 web", "4840 OPC UA", "44818 CIP"],
    },
    "02-D0-11-3E-20-01": {"addresses": ["10.61.20.1"], "maker": "Dunlin Networks"},
    "02-5A-1D-04-40-3B": {"product": "Skerry 5 controller", "serial": "5A04403B"},
    "02-60-D1-40-55-E2": {
        "maker": "Godwit Instruments",
        "product": "Draught 2 controller",
        "firmware": "4.000",
        "name": "hood-vent",
        "place": "dryer hood",
    },
    "02-C0-E7-05-2B-90": {
        "addresses": ["203.0.113.40"],
        "product": "Narrows 2 serial gateway",
        "firmware": "3.008",
    },
    "02-60-D1-2A-31-0C": {"product": "Reed 3 moisture probe", "firmware": "1.018"},
    "02-D0-11-24-00-08": {
        "addresses": ["203.0.113.44"],
        "name": "line-switch",
        "place": "panel A1",
        "description": "Reach 8 managed switch, firmware 6.002",
        "ports": ["80 web", "443 secure web"],
    },
    "02-D0-11-5C-10-21": {"addresses": ["203.0.113.47"], "maker": "Dunlin Networks"},
    "02-D0-11-5C-10-22": {"addresses": ["203.0.113.47"], "maker": "Dunlin Networks"},
    "02-77-B1-90-00-3D": {"addresses": [], "product": "Islet 16", "kind": "I/O device"},
    "02-D0-11-77-4A-90": {"addresses": ["fe80::d0:11ff:fe77:4a90"]},
    "02-60-D1-12-08-77": {"addresses": [], "name": "dryer-panel"},
    "02-77-B1-4C-09-21": {"addresses": [], "name": "fan-drive-1"},
    "02-77-B1-4C-0E-58": {"addresses": []},
    "02-77-B1-61-13-A4": {"addresses": [], "name": "belt-drive"},
}

REMARKS = {
    "02-5A-1D-04-40-3B": ["answers CIP only when asked directly", "not in the plan"],
    "02-C0-E7-05-2B-90": [
        "maker's default address",
        "answers Modbus as unit 1: portcall find 203.0.113.40 --inside",
        "planned at 10.61.20.40: portcall move weigh-gateway",
        "outside this adapter's subnets: portcall match 203.0.113.40",
    ],
    "02-D0-11-5C-10-21": ["203.0.113.47 is shared with 02-D0-11-5C-10-22"],
    "02-D0-11-24-00-08": ["its port at this cable: port 3"],
    "02-77-B1-90-00-3D": ["has no address", "has no station name"],
    "02-77-B1-4C-0E-58": ["differs in one digit from fan-drive-2 in the plan (02-77-B1-4C-0E-53)"],
}


def test_every_device_is_in_the_list_with_what_its_protocols_can_tell(looked):
    found, *_ = looked
    assert found.code == 0
    devices = by_mac(found.json["devices"])
    assert set(devices) == set(EXPECTED)
    for mac, expected in EXPECTED.items():
        assert {key: devices[mac][key] for key in expected} == expected
    for mac, expected in REMARKS.items():
        assert [line for line in expected if line not in devices[mac]["remarks"]] == []
    # Two radios at one address: each was asked alone, and it is known which of them says what.
    for mac in ("02-D0-11-5C-10-21", "02-D0-11-5C-10-22"):
        assert {"snmp", "web", "dcp"} <= set(devices[mac]["methods"])
        assert not any("one of those" in line for line in devices[mac]["remarks"])
    assert found.json["not_run"] == []


def test_and_the_workstation_is_as_it_was(looked):
    found, before, after, _ = looked
    assert after == before
    borrowed = ["10.61.20.200/24", "169.254.254.255/16", "203.0.113.254/24"]
    assert sorted(found.json["borrowed"]) == borrowed


def test_what_was_sent_decodes_without_complaint_in_a_packet_analyser(looked):
    need("tshark")
    plant = looked[3]
    sent = "eth.src == 02:1a:40:7c:00:06"
    wrong = plant.run(
        f"tshark -r found.pcapng -Y '{sent} && (_ws.malformed || _ws.expert.severity >= error)'"
    )
    assert wrong.out == ""
    protocols = plant.run(f"tshark -r found.pcapng -Y '{sent}' -T fields -e frame.protocols").out
    for protocol in (
        "arp",
        "pn_dcp",
        "icmpv6",
        "enip",
        "cip",
        "bacapp",
        "mdns",
        "snmp",
        "nbns",
        "mbtcp",
        "opcua",
        "http",
        "tls",
    ):
        assert f":{protocol}" in protocols, protocol


def test_a_capture_can_be_listened_to_again(looked):
    plant = looked[3]
    again = plant.run("portcall listen --from found.pcapng --json")
    heard = by_mac(again.json["devices"])
    assert {"02-77-B1-4C-09-21", "02-D0-11-24-00-08"} <= set(heard)
    assert any("asked for one by BOOTP" in r for r in heard["02-77-B1-4C-09-21"]["remarks"])
    assert not any("outside" in r for r in heard["02-D0-11-24-00-08"]["remarks"])


def test_listening_sends_nothing_and_says_which_subnets_are_spoken(looked):
    plant = looked[3]
    heard = plant.run("portcall listen --for 4 --json --capture heard.pcapng")
    assert "02-D0-11-24-00-08" in by_mac(heard.json["devices"])
    subnets = {each["network"]: each for each in heard.json["subnets"]}
    assert subnets["203.0.113.0/24"]["devices"] >= 1
    assert subnets["203.0.113.0/24"]["mask_assumed"] is True
    need("tshark")
    own = plant.run("tshark -r heard.pcapng -Y 'eth.src == 02:1a:40:7c:00:06'")
    assert own.out == ""


def test_one_method_alone_and_what_cannot_run_is_named(looked):
    plant = looked[3]
    only = plant.run("portcall find --method dcp --json")
    radios = {"02-D0-11-5C-10-21", "02-D0-11-5C-10-22"}
    assert set(by_mac(only.json["devices"])) == {"02-77-B1-90-00-3D", *radios}
    # An address that was named is asked also where nothing looks for who is there.
    (probe,) = plant.run("portcall find 203.0.113.42 --method modbus --json").json["devices"]
    assert (probe["product"], probe["mac"]) == ("Reed 3 moisture probe", "02-60-D1-2A-31-0C")
    csv = plant.run("portcall find --method dcp --csv").out.splitlines()
    assert csv[0].startswith("address,mac,name,maker,product")
    assert csv[-1].split(",")[1:5] == [
        "02-77-B1-90-00-3D",
        "io-island-1",
        "Whimbrel Drives",
        "Islet 16",
    ]
    forwards = plant.run("sysctl -w net.ipv4.conf.usb0.forwarding=1")
    assert forwards.code == 0
    refused = plant.run("portcall find 203.0.113.42 --method arp --method modbus --json")
    plant.run("sysctl -w net.ipv4.conf.usb0.forwarding=0")
    (reason,) = refused.json["not_run"]
    assert reason["method"] == "modbus"
    assert "forwarding=0" in reason["reason"]


def test_ctrl_c_shows_what_was_found_so_far(looked):
    plant = looked[3]
    started = plant.start("portcall find", signalled=True)
    plant.until_sent(300)
    ended = plant.finish(started, signal.SIGINT)
    assert ended.code == 130
    assert "dryer-plc" in ended.out
    assert "so far: interrupted" in ended.err
    assert plant.run("ip -o link").out.count("leg0") == 0


def test_a_look_in_which_the_cable_is_pulled_does_not_pass_for_a_whole_one(plant):
    # Long enough for the cable to be pulled in the middle, however slow this computer is.
    started = plant.start("portcall find --json --listen 12")
    plant.until_sent(300)
    plant.run("portcall plant unplug usb0")
    ended = plant.finish(started)
    assert (ended.code, ended.json["link_losses"]) == (3, 1)
    assert "02-5A-1D-20-7F-10" in by_mac(ended.json["devices"])
    assert "usb0 lost its link meanwhile" in ended.err
    plant.run("portcall plant plug usb0")
    plant.run("portcall match dryer-plc --no-probe")
    started = plant.start("portcall verify")
    plant.until_sent(20)
    plant.run("portcall plant unplug usb0")
    ended = plant.finish(started)
    assert (ended.code, ended.out) == (3, "")
    assert "portcall: check the cable, and type this again\n" in ended.err


def test_the_catalogue_names_what_devices_say_in_numbers(looked):
    plant = looked[3]
    eds = (
        '[Device]\nVendCode = 64101;\nVendName = "Sandlark, of Tern Point";\n'
        'ProdCode = 40;\nProdName = "Skerry 40";\n'
    )
    plant.write("skerry.eds", eds)
    added = plant.run("portcall catalog add skerry.eds --json")
    assert added.json["added"][0]["makers"] == 1
    listed = plant.run("portcall catalog list --json").json["entries"]
    assert {
        "what": "maker",
        "protocol": "cip",
        "code": "64101",
        "name": "Sandlark, of Tern Point",
    } in listed
    plant.write("bad.toml", '[[makers]]\nprotocol = "smoke"\ncode = 1\nname = "x"\n')
    bad = plant.run("portcall catalog add bad.toml")
    assert bad.code == 2
    assert "'smoke' is none of cip, dcp, bacnet, snmp" in bad.err
    plant.run("rm catalog/skerry.toml")


@pytest.mark.long
def test_watching_says_what_vanished_came_back_or_was_replaced(plant):
    plant.run("portcall match dryer-plc --no-probe")
    plant.on("spare-1", "ip addr add 10.61.20.19/24 dev eth0")
    page = plant.start("portcall plant on spare-2 -- python3 -m http.server 80")
    watching = plant.start(
        "portcall find 10.61.20.1-20 --watch --json --method arp --method web", signalled=True
    )
    plant.until(watching, '"appeared".*02-5A-1D-04-40-3B')
    plant.until(watching, '"appeared".*02-60-D1-00-5E-01')
    # The next look has begun: the first device was asked what it is.
    plant.until_sent(60)
    plant.run("portcall plant unplug old-feeder")
    plant.on("spare-1", "ip addr del 10.61.20.19/24 dev eth0")
    plant.on("spare-2", "ip addr add 10.61.20.19/24 dev eth0")
    plant.until(watching, '"vanished".*02-5A-1D-04-40-3B')
    plant.until(watching, "http page.*02-60-D1-00-5E-02|02-60-D1-00-5E-02.*http page")
    plant.run("portcall plant plug old-feeder")
    plant.until(watching, '"returned".*02-5A-1D-04-40-3B')
    plant.run("portcall plant unplug usb0")
    plant.until(watching, '"link lost"')
    time.sleep(3)  # Longer than a look and its pause: time enough to vanish, if anybody did.
    plant.run("portcall plant plug usb0")
    plant.until(watching, '"link back"')
    plant.until_sent(100)
    ended = plant.finish(watching, signal.SIGINT)
    plant.finish(page, signal.SIGKILL)
    lines = ended.json_lines

    def events(mac):
        return [line for line in lines if line["device"] and line["device"]["mac"] == mac]

    feeder = events("02-5A-1D-04-40-3B")
    assert [line["event"] for line in feeder] == ["appeared", "vanished", "returned"]
    assert feeder[1]["last_heard"] < feeder[1]["at"]
    assert ended.code == 130
    # The computer's own cable: nobody vanishes with it.
    assert [line["event"] for line in lines[-2:]] == ["link lost", "link back"]
    # Another device at the same address: not shared, and asked what it is, as the first was.
    first, second = events("02-60-D1-00-5E-01"), events("02-60-D1-00-5E-02")
    assert [line["event"] for line in first] == ["appeared", "vanished"]
    assert all(line["device"]["addresses"] == ["10.61.20.19"] for line in (*first, *second))
    assert second[0]["event"] == "appeared"
    # What it is may be known when it is first told of, or follow as a change.
    said = [*second[-1]["details"], second[-1]["device"]["description"] or ""]
    assert any("http page" in line for line in said)
    assert not any("shared" in remark for remark in second[-1]["device"]["remarks"])


REAL = """
ip addr add 10.61.20.91/24 dev eth0
printf 'rocommunity public\\nsysName tide-gauge\\nsysLocation quay\\nsysDescr Ebb 2 gauge\\n' \
    > /dev/shm/snmpd.conf
/usr/sbin/snmpd -C -c /dev/shm/snmpd.conf -Lf /dev/shm/snmpd.log -p /dev/shm/snmpd.pid udp:161
mkdir -p /run/lldpd
(timeout 60 /usr/sbin/lldpd -dd -u /dev/shm/lldpd.socket -S 'Ebb 2 gauge' >/dev/null 2>&1 &)
"""


def test_a_real_snmpd_and_a_real_lldpd_are_read(plant):
    need("snmpd", "lldpd", "tcpdump")
    plant.write("real.sh", REAL)
    listening = plant.start("portcall listen --for 60 --json", signalled=True)
    seen = plant.start("tcpdump -i usb0 -c 2 ether proto 0x88cc and ether src 02:60:d1:00:5e:01")
    started = plant.on("spare-1", "sh real.sh")
    assert started.code == 0, started.err
    assert plant.finish(seen).code == 0
    announced = by_mac(plant.finish(listening, signal.SIGINT).json["devices"])["02-60-D1-00-5E-01"]
    assert announced["description"] == "Ebb 2 gauge"
    assert "lldp" in announced["methods"]
    plant.run("portcall match dryer-plc --no-probe")
    found = plant.run("portcall find 10.61.20.91 --method arp --method snmp --json")
    (gauge,) = (d for d in found.json["devices"] if d["addresses"] == ["10.61.20.91"])
    assert (gauge["name"], gauge["place"]) == ("tide-gauge", "quay")
    assert gauge["description"] == "Ebb 2 gauge"
    # Its mask leaves the workstation out: it tells that to who is nearer.
    narrow = "ip addr flush dev eth0; ip addr add 10.61.20.91/29 dev eth0"
    assert plant.on("spare-1", f"sh -c '{narrow}'").code == 0
    why = plant.run("portcall why 10.61.20.91 --json").json
    assert why["cause"] == "mask"
    assert "its mask is 255.255.255.248, by SNMP" in why["rungs"][4]["evidence"]
    plant.on("spare-1", "sh -c 'kill $(cat /dev/shm/snmpd.pid)'")


HOSTILE = r"""
import socket, threading, time
def serve(port, talk):
    s = socket.socket(); s.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    s.bind(("0.0.0.0", port)); s.listen(20)
    def loop():
        while True:
            c, _ = s.accept()
            threading.Thread(target=run, args=(c, talk), daemon=True).start()
    threading.Thread(target=loop, daemon=True).start()
def run(c, talk):
    try: talk(c)
    except OSError: pass
    finally: c.close()
def megabytes(c):
    c.recv(500)
    c.sendall(b"HTTP/1.1 200 OK\r\nServer: \x1b]0;owned\x07\x1b[2J\r\n\r\n")
    c.sendall(b"<title>\x1b[31mred\x9b5m</title>")
    while True: c.sendall(b"A" * 65536)
def round_and_round(c):
    n = 0
    while c.recv(500):
        n += 1
        c.sendall(b"HTTP/1.1 302 Found\r\nLocation: /%d\r\nContent-Length: 0\r\n\r\n" % n)
def lies(c):
    c.recv(500); c.sendall(b"\x63\x00\xff\xfe" + bytes(20) + b"\0" * 70000); time.sleep(5)
def endless(c):
    while True:
        data = c.recv(500)
        if not data: return
        c.sendall(data[:4] + b"\x00\x0a" + data[6:7] + b"\x2b\x0e\x01\x01\xff\x09\x01\x09\x00")
serve(80, megabytes); serve(443, round_and_round); serve(8080, round_and_round)
serve(44818, lies); serve(502, endless); serve(4840, megabytes)
flood = socket.socket(socket.AF_PACKET, socket.SOCK_RAW); flood.bind(("eth0", 0))
def noise():
    n = 0
    while True:
        n += 1
        src = b"\x02\xbb" + (n % 65536).to_bytes(4, "big")
        head = b"\xff" * 6 + src + b"\x08\x06\x00\x01\x08\x00\x06\x04\x00\x01" + src
        flood.send(head + (0xCB007100 + n % 200).to_bytes(4, "big") + bytes(10))
        if n % 50 == 0: time.sleep(0.01)
threading.Thread(target=noise, daemon=True).start()
print("hostile", flush=True)
time.sleep(60)
"""


def test_hostile_devices_neither_reach_the_terminal_nor_stop_the_look(plant):
    plant.write("hostile.py", HOSTILE)
    plant.on("spare-2", "ip addr add 10.61.20.99/24 dev eth0")
    hostile = plant.start("portcall plant on spare-2 -- python3 hostile.py")
    plant.run("portcall match dryer-plc --no-probe")
    plant.until(hostile, "hostile")
    found = plant.run(
        "portcall find 10.61.20.10 10.61.20.99 --method arp --method cip"
        " --method web --method modbus --method opcua --method ports --json"
    )
    plant.finish(hostile, signal.SIGKILL)
    devices = by_mac(found.json["devices"])
    assert devices["02-5A-1D-20-7F-10"]["serial"] == "5A20170F"
    page = devices["02-60-D1-00-5E-02"]
    assert "red" in page["description"]
    assert "502 Modbus" in page["ports"]
    # JSON would write control characters as escapes: no value holds one.
    text = json.dumps(found.json)
    assert not any(mark in text for mark in ("\\u001b", "\\u0007", "\\u009b"))
    assert "Traceback" not in found.err


LOST = """
site = "site"
[[workstation]]
adapter = "usb0"
wire = "plant"
mac = "02-1A-40-7C-00-06"

[[devices]]
name = "lost-plc"
speaks = ["cip"]
wire = "plant"
mac = "02-5A-1D-20-7F-10"
address = "169.254.77.255/16"

[[devices]]
name = "asker"
wire = "plant"
mac = "02-5A-1D-20-7F-11"
asks = "dhcp"
"""


def test_devices_with_self_assigned_addresses_are_found_and_reached(tmp_path):
    """One subnet of 65,536 (RFC 3927), in which .77.255 is a host like any other."""
    (tmp_path / "site").mkdir()
    (tmp_path / "lost.toml").write_text(LOST)
    with Plant(tmp_path / "lost.toml") as plant:
        found = plant.run("portcall find --json").json
        lost = next(each for each in found["devices"] if "169.254.77.255" in each["addresses"])
        assert lost["product"] == "lost-plc"
        assert lost["remarks"][0].startswith("self-assigned address")
        assert found["borrowed"] == ["169.254.254.255/16"]
        matched = plant.run("portcall match 169.254.77.255 --json")
        assert (matched.code, matched.json["in_force"]) == (0, True)
        assert (matched.json["address"], matched.json["prefix"]) == ("169.254.254.255", 16)
        assert plant.run("ping -c 1 169.254.77.255").code == 0
        found = plant.run("portcall find --json")
        assert found.code == 0
        assert "169.254.0.0/16, where devices give themselves" in found.json["not_run"][0]["reason"]
        assert [each["product"] for each in found.json["devices"]] == ["lost-plc", None]


TALKER = """
import socket, struct
own = bytes.fromhex("0260d1005e01")
def say(to, rest):
    link = socket.socket(socket.AF_PACKET, socket.SOCK_RAW)
    link.bind(("eth0", 0))
    link.send((bytes.fromhex(to) + own + bytes.fromhex(rest)).ljust(60, b"\\0"))
tlvs = "0207040260d1005e01" "0404056c3034" "06020078" "0a05717561792e" "0000"
say("0180c200000e", "88cc" + tlvs)
say("010ecf000001", "8892fefc0600000000010000000c" "0202000800007175617938")
bootp = bytes((1, 1, 6, 0, 0, 0, 0, 7)) + bytes(20) + own + bytes(266)
udp = struct.pack("!HHHH", 68, 67, 8 + len(bootp), 0) + bootp
head = struct.pack("!BBHHHBBH", 0x45, 0, 20 + len(udp), 0, 0, 64, 17, 0) + bytes(4) + b"\\xff" * 4
total = sum(struct.unpack("!10H", head))
total = (total & 0xFFFF) + (total >> 16)
head = head[:10] + struct.pack("!H", 0xFFFF - total) + head[12:]
say("ff" * 6, "81000014" "0800" + (head + udp).hex())
"""


def test_an_adapter_that_filters_groups_hears_announcements_and_tags_are_shown(plant):
    """A macvlan filters as real adapters do; the kernel takes tags off."""
    plant.write("talk.py", TALKER)
    made = plant.run("ip link add link usb0 name mv0 type macvlan mode bridge")
    if made.code != 0:
        pytest.skip(f"no macvlan here: {made.err}")
    plant.run("ip link set mv0 up")
    line = "portcall listen --adapter mv0 --for 6 --json --capture heard.pcapng"
    listening = plant.start(line)
    # The recorder and the listener have their packet sockets, below one line of headings.
    plant.until_true("[ $(wc -l </proc/net/packet) -ge 3 ]")
    assert plant.on("spare-1", "python3 talk.py").code == 0
    heard = by_mac(plant.finish(listening).json["devices"])["02-60-D1-00-5E-01"]
    assert "lldp" in heard["methods"]
    assert heard["name"] in ("quay.", "quay8")
    assert "heard in VLAN 20, by tagged frames" in heard["remarks"]
    assert "asked for one by BOOTP once" in str(heard["remarks"])
    # The same from the capture, whose tags another program reads.
    again = plant.run("portcall listen --from heard.pcapng --json").json["devices"]
    assert by_mac(again)["02-60-D1-00-5E-01"]["remarks"] == heard["remarks"]
    need("tshark")
    read = plant.run("tshark -r heard.pcapng -Y vlan.id==20 -T fields -e dhcp.hw.mac_addr")
    assert read.out.split() == ["02:60:d1:00:5e:01"]
