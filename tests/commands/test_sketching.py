"""The drawing of a site from what is on the wire, and the real switch that tells its ports."""

import json
import re
from xml.etree import ElementTree

from conftest import need

SWITCH = """
ip addr add 10.61.20.91/24 dev eth0
cat > /dev/shm/switch.conf <<END
rocommunity public
sysName quay-switch
master agentx
agentXSocket /dev/shm/agentx
override .1.3.6.1.2.1.17.1.1.0 octet_str 0x0260D1005E01
override .1.3.6.1.2.1.17.1.4.1.2.3 integer 1003
override .1.3.6.1.2.1.17.1.4.1.2.4 integer 1004
override .1.3.6.1.2.1.31.1.1.1.1.1003 octet_str "Gi1/3"
override .1.3.6.1.2.1.31.1.1.1.1.1004 octet_str "Gi1/4"
override .1.3.6.1.2.1.17.4.3.1.2.2.90.29.32.127.16 integer 3
override .1.3.6.1.2.1.17.4.3.1.2.2.26.64.124.0.6 integer 4
override .1.3.6.1.2.1.17.4.3.1.2.2.238.1.2.3.4 integer 3
END
/usr/sbin/snmpd -C -c /dev/shm/switch.conf -Lf /dev/shm/snmpd.log -p /dev/shm/snmpd.pid udp:161
mkdir -p /run/lldpd
(timeout 90 /usr/sbin/lldpd -dd -x -X /dev/shm/agentx -u /dev/shm/lldpd.socket >/dev/null 2>&1 &)
"""


def test_a_real_snmpd_tells_the_ports_and_a_real_lldpd_the_neighbours(plant):
    need("snmpd", "lldpd", "tcpdump")
    plant.write("switch.sh", SWITCH)
    announced = plant.start(
        "tcpdump -i usb0 -c 2 ether proto 0x88cc and ether src 02:d0:11:24:00:08"
    )
    started = plant.on("spare-1", "sh switch.sh")
    assert started.code == 0, started.err
    assert plant.finish(announced).code == 0
    plant.run("portcall match dryer-plc --no-probe")
    line = "portcall find 10.61.20.91 10.61.20.10 --method arp --method snmp --json"
    told = plant.run(line).json
    (switch,) = (each for each in told["switches"] if each["address"] == "10.61.20.91")
    assert (switch["macs"], switch["whole"]) == (["02-60-D1-00-5E-01"], True)
    ports = {port["port"]: port for port in switch["ports"]}
    assert ports["Gi1/3"]["behind"] == ["02-5A-1D-20-7F-10", "02-EE-01-02-03-04"]
    assert ports["Gi1/4"]["behind"] == [told["workstation"]["mac"]]
    assert ports["eth0"]["neighbours"] == [
        {"mac": "02-D0-11-24-00-08", "name": "line-switch", "port": "port 3"}
    ]
    drawn = plant.run("portcall sketch").out
    assert re.search(r"quay-switch, 10\.61\.20\.91.*this workstation is behind Gi1/4", drawn)
    assert re.search(r"Gi1/3 +dryer-plc +10\.61\.20\.10", drawn)
    assert "quay-switch knows 1 more MAC, not heard here" in drawn
    plant.on("spare-1", "sh -c 'kill $(cat /dev/shm/snmpd.pid)'")


def test_the_site_is_drawn_from_the_last_look_and_from_one_afresh(plant):
    nothing = plant.run("portcall sketch")
    assert (nothing.code, "the logbook has no look" in nothing.err) == (2, True)
    plant.run("portcall match dryer-plc --no-probe")
    plant.run("portcall find")
    tree = plant.run("portcall sketch").out
    switch, loose = tree.index("── line-switch"), tree.index("── plugged in somewhere")
    assert switch < tree.index("port 1  dryer-plc") < loose < tree.index("pier-radio")
    assert "address twice" in tree
    told = plant.run("portcall sketch --json").json
    assert [branch["title"] for branch in told["branches"]] == [
        *("line-switch", "plugged in somewhere on this wire"),
    ]
    assert re.search(r"fan-drive-2 .*not there", tree)
    assert "3 devices are behind port 2 of line-switch" in tree
    for name in ("a.svg", "a.pdf", "a.png"):
        made = plant.run(f"portcall sketch {name} --paper a3")
        assert (made.code, "A3, 1 sheet" in made.err) == (0, True), made.err
        first = plant.run(f"sha256sum {name}").out
        assert plant.run(f"portcall sketch {name}").code == 2
        plant.run(f"portcall sketch {name} --paper a3 --overwrite")
        assert plant.run(f"sha256sum {name}").out == first
    picture = ElementTree.fromstring(plant.run("cat a.svg").out)
    assert picture.tag == "{http://www.w3.org/2000/svg}svg"
    assert "%   P   D   F" in plant.run("od -A n -c -N 4 a.pdf").out
    assert "P   N   G" in plant.run("od -A n -c -N 4 a.png").out
    assert plant.run("portcall sketch a.txt").code == 2
    assert plant.run("portcall sketch --adapter usb0").code == 2
    plant.run("portcall plant unplug hood-vent")
    # One look did not ask for it: it is not said to be gone, and one that did, says so.
    plant.run("portcall plan take --from last --only 02-60-D1-40-55-E2")
    plant.run("portcall find 10.61.20.10")
    # The switch still knows at which port it was.
    assert re.search(r"port 6 +hood-vent.*not looked for", plant.run("portcall sketch").out)
    assert re.search(r"port 6 +hood-vent.*not there", plant.run("portcall sketch --now").out)
    looks = plant.run("portcall logbook show --kind look --json").json["entries"]
    assert looks[-1]["command"] == "portcall sketch --now"
    earlier = plant.run(f"portcall sketch --look {looks[0]['number']}").out
    assert re.search(r"port 6 +hood-vent +10\.61\.20\.60", earlier)
    assert json.dumps(looks[-1]["body"]["switches"]).count("02-5A-1D-20-7F-10") == 1
