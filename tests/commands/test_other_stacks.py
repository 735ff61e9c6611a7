"""One find over forty devices, each of them run by a stack that others wrote.

The simulated devices share the tool's codecs, and so its misunderstandings; these share nothing
with it. Python stacks are in ``tests/stacks``; the rest are services from Debian.
"""

from __future__ import annotations

import sys
from collections.abc import Iterator
from pathlib import Path

import pytest
from inside import Plant

from conftest import need, need_stacks

STACKS = Path(__file__).parents[1] / "stacks" / "device.py"
PEM = Path(__file__).parents[2] / "src/portcall/plant/scenarios/device.pem"

PYTHON = {"modbus": "pymodbus", "opcua": "asyncua", "bacnet": "bacpypes3", "mdns": "zeroconf"}
PYTHON["cip"] = "cpppo"

NGINX = """
daemon off;
pid nginx.pid;
error_log stderr;
events {{}}
http {{ access_log off; server_tokens off; {server} }}
"""
PAGE = 'default_type "text/html; charset={charset}"; return 200 "<title>{title}</title>";'
WEB = {
    "page": "server { listen 80; location / { "
    + PAGE.format(charset="utf-8", title="Reach 8")
    + " } }",
    "latin": "server { listen 80; location / { "
    + PAGE.format(charset="windows-1252", title="D\\xe9bit 5").replace("\\xe9", "\udce9")
    + " } }",
    "login": "server { listen 80; location / { return 302 there/login; } location /there/ { "
    + PAGE.format(charset="utf-8", title="Log in to Reach 8")
    + " } }",
    "elsewhere": "server { listen 80; return 301 http://$server_addr:8081/gale; }"
    " server { listen 8081; location / { " + PAGE.format(charset="utf-8", title="Gale 7") + " } }",
    "realm": 'server { listen 80; auth_basic "Fetch 5 radio"; auth_basic_user_file none; '
    "location / { root /; } }",
    "secure": f"server {{ listen 443 ssl; ssl_certificate {PEM}; ssl_certificate_key {PEM}; "
    "location / { " + PAGE.format(charset="utf-8", title="Reach 16") + " } }",
}
SNMP = {
    "v2c": "rocommunity public\n",
    "v1": "com2sec sec default public\ngroup g v1 sec\nview all included .1\n"
    'access g "" v1 noauth exact all none none\n',
    "v3": "",
}
SYSTEM = "sysDescr Ebb 2 gauge\nsysName {name}\nsysLocation panel A1\nengineID {name}\n"
NMBD = """
[global]
netbios name = {name}
workgroup = KELPMILL
interfaces = eth0
bind interfaces only = yes
private dir = {folder}
state directory = {folder}
lock directory = {folder}
cache directory = {folder}
pid directory = {folder}
ncalrpc dir = {folder}
log file = {folder}/log
"""
AVAHI = """
[server]
host-name={name}
use-ipv6=no
enable-dbus=no
[publish]
publish-workstation=yes
"""

KINDS = {
    **dict.fromkeys(PYTHON, 2),
    "modbus": 3,
    **dict.fromkeys(WEB, 1),
    "page": 3,
    "v2c": 4,
    "v1": 2,
    "v3": 2,
    "netbios": 3,
    "avahi": 4,
    "tls": 2,
    "lldp": 4,
}
NAMES = [f"{kind}-{n}" for kind, count in KINDS.items() for n in range(count)]

EXPECTED = {
    "modbus": {"maker": "Curlew Gateways", "product": "Ebb 2 scale", "firmware": "2.004"},
    "opcua": {"description": "OPC UA server {name} (urn:freeopcua.github.io:python:server)"},
    "bacnet": {
        "maker": "Godwit Instruments",
        "product": "Draught 3 controller",
        "firmware": "4.001",
        "place": "dryer hood",
        "name": "{name}",
    },
    "mdns": {"name": "{name}", "description": "offers printer, web"},
    "cip": {
        "product": "Skerry 41 controller",
        "kind": "controller",
        "firmware": "20.003",
        "name": "{name}",
        "mask": "255.255.255.0",
    },
    "page": {"description": 'http page "Reach 8", server nginx'},
    "latin": {"description": 'http page "Débit 5", server nginx'},
    "login": {"description": 'http page "Log in to Reach 8", server nginx'},
    "elsewhere": {"description": 'http at port 8081 page "Gale 7", server nginx'},
    "realm": {"description": 'http wants a password for "Fetch 5 radio", server nginx'},
    "secure": {"description": 'https page "Reach 16", server nginx'},
    "v2c": {"description": "Ebb 2 gauge", "name": "{name}", "place": "panel A1"},
    "v1": {"description": "Ebb 2 gauge", "name": "{name}", "place": "panel A1"},
    "v3": {"remark": "answers SNMP version 3 only, for which it wants a user"},
    "netbios": {"name": "{NAME}", "description": "in the workgroup KELPMILL"},
    "avahi": {"name": "{name}", "description": "offers computer"},
    "tls": {"description": "https"},
    "lldp": {"name": "{name}", "description": "Ebb 2 gauge"},
}


def address(name: str) -> str:
    return f"10.61.20.{101 + NAMES.index(name)}"


@pytest.fixture(scope="module")
def looked(tmp_path_factory: pytest.TempPathFactory) -> Iterator[tuple[Plant, dict, list]]:
    """The forty of them, running, and what one find said of each."""
    need("nginx", "snmpd", "nmbd", "avahi-daemon", "gnutls-serv", "lldpd")
    need_stacks(*PYTHON.values())
    folder = tmp_path_factory.mktemp("stacks")
    (folder / "site").mkdir()
    text = 'site = "site"\n[[workstation]]\nadapter = "usb0"\nwire = "plant"\n'
    text += 'mac = "02-1A-40-7C-00-06"\naddress = "10.61.20.200/24"\n'
    for n, name in enumerate(NAMES):
        text += f'[[devices]]\nname = "{name}"\nwire = "plant"\nmac = "02-60-D1-00-02-{n:02X}"\n'
        text += f'address = "{address(name)}/24"\n'
    (folder / "plant.toml").write_text(text)
    with Plant(folder / "plant.toml") as plant:
        started = [
            plant.start(f"portcall plant on {name} -- {prepared(plant, name)}") for name in NAMES
        ]
        # Each device notes itself when it serves: to ask for it would start a program for each.
        plant.until_true(f"[ $(ls */up | wc -l) -eq {len(NAMES)} ]", timeout=120)
        found = plant.run("portcall find 10.61.20.0/24 --listen 10 --json", timeout=120)
        devices = {}
        for device in found.json["devices"]:
            number = int(device["mac"][-2:], 16)
            devices.setdefault(NAMES[number], []).append(device)
        yield plant, devices, found.json["not_run"]
        for each in started:
            plant.finish(each, 15, timeout=5)


def prepared(plant: Plant, name: str) -> str:
    """Its configuration written; what runs it."""
    kind = name.rsplit("-", 1)[0]
    folder = plant.site / name
    plant.run(f"mkdir -m 755 {name}")
    if kind in PYTHON:
        line = f"exec {sys.executable} {STACKS} {kind} {name} {address(name)}/24"
    elif kind in WEB:
        text = NGINX.format(server=WEB[kind])
        plant.write(f"{name}/nginx.conf", text.encode("utf-8", "surrogateescape"))
        plant.write(f"{name}/none", "")
        line = f"exec nginx -p {folder} -c nginx.conf"
    elif kind in SNMP:
        text = SYSTEM.format(name=name) + SNMP[kind] + f"agentAddress udp:{address(name)}:161\n"
        plant.write(f"{name}/snmpd.conf", text)
        line = "exec env SNMP_PERSISTENT_DIR=. snmpd -f -Lo -C -c snmpd.conf -p pid"
    elif kind == "netbios":
        plant.write(f"{name}/smb.conf", NMBD.format(name=name, folder=folder))
        line = (
            "mount -t tmpfs none /run && mkdir -p /run/samba && "
            "exec nmbd -F --debug-stdout --no-process-group -s smb.conf"
        )
    elif kind == "avahi":
        plant.write(f"{name}/avahi.conf", AVAHI.format(name=name))
        line = (
            "mount -t tmpfs none /run && exec avahi-daemon --no-drop-root --no-chroot "
            f"--no-rlimits -f {folder}/avahi.conf"
        )
    elif kind == "tls":
        line = (
            f"exec gnutls-serv --http -p 443 --x509certfile {PEM} --x509keyfile {PEM} "
            "--priority NORMAL:-VERS-ALL:+VERS-TLS1.2:%DISABLE_SAFE_RENEGOTIATION"
        )
    else:
        plant.write(f"{name}/lldpd.conf", "configure lldp tx-interval 2\n")
        line = (
            f"mount -t tmpfs none /run && mkdir -p /run/lldpd && hostname {name} && "
            f"exec lldpd -d -S 'Ebb 2 gauge' -u /run/s -I eth0 -O {folder}/lldpd.conf"
        )
    note = f"(until {ready(name)}; do sleep 0.3; done; touch {folder}/up) &"
    plant.write(f"{name}/run.sh", f"cd {folder}\n{note}\n{line}\n")
    # What they keep below /run, and what the computer is called, is each device's own.
    return f"unshare --mount --uts sh {folder}/run.sh"


LISTENS = {"modbus": "01F6", "opcua": "12E8", "cip": "AF12", "secure": "01BB", "tls": "01BB"}
HEARS = {"bacnet": "BAC0", "mdns": "14E9", "avahi": "14E9", "netbios": "0089"}


def ready(name: str) -> str:
    """A line of shell that is true once it serves."""
    kind = name.rsplit("-", 1)[0]
    if kind in HEARS or kind in SNMP:
        return f"grep -q :{HEARS.get(kind, '00A1')} /proc/net/udp"
    if kind == "lldp":
        return "true"
    return f"cat /proc/net/tcp /proc/net/tcp6 | grep -q ':{LISTENS.get(kind, '0050')} .* 0A '"


@pytest.mark.long
def test_every_device_is_read_and_says_what_it_is(looked):
    _, devices, not_run = looked
    assert not_run == []
    wrong = {}
    for name in NAMES:
        kind = name.rsplit("-", 1)[0]
        (device,) = devices[name]
        assert device["addresses"] == [address(name)]
        for key, expected in EXPECTED[kind].items():
            value = expected.format(name=name, NAME=name.upper())
            got = device["remarks"] if key == "remark" else (device[key] or "")
            if value not in got:
                wrong[name] = (key, value, device)
    assert wrong == {}


@pytest.mark.long
def test_a_device_of_another_stack_is_told_to_hold_its_address(looked):
    plant, devices, _ = looked
    assert devices["cip-1"][0]["obtains"] == "by BOOTP"
    kept = plant.run(f"portcall keep {address('cip-1')} --json")
    assert kept.code == 0, kept.out + kept.err
    (device,) = kept.json["devices"]
    assert device["before"] == f"{address('cip-1')}/24 by BOOTP"
    assert device["after"] == f"{address('cip-1')}/24 stored in the device"
