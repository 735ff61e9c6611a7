"""What switches tell of their ports, however they tell it, and which tree that makes."""

import re
from importlib.metadata import files
from ipaddress import IPv4Address

import pytest
from drive import Wire
from hypothesis import given, settings
from hypothesis import strategies as st

from portcall.core.address import Mac
from portcall.core.document import Part
from portcall.core.find.snmp_walk import Walk
from portcall.core.find.switch_tables import (
    Neighbour,
    Port,
    SwitchTables,
    natural,
    read_tables,
    switch_tables,
    tables_document,
)
from portcall.core.sketch.wiring import Plugged, Wiring
from portcall.core.talk.conversation import Datagram, Endpoint
from portcall.core.wire import snmp

SWITCH = IPv4Address("10.61.20.2")
PEER = Endpoint(SWITCH, snmp.PORT)


def mac(n):
    return Mac(b"\x02\x77\xb1" + n.to_bytes(3, "big"))


def row(column, index, value):
    return {f"{column}.{index}": value}


def numbers(key):
    return tuple(map(int, key.split(".")))


def bridge(count, column=snmp.BRIDGE_FORWARDING, prefix=""):
    """A bridge with so many MACs, two at a port."""
    values = row(snmp.BRIDGE_ADDRESS, 0, mac(0).octets)
    for n in range(1, count + 1):
        port = (n + 1) // 2
        values |= row(snmp.BRIDGE_PORT_INTERFACE, port, 100 + port)
        values |= row(snmp.INTERFACE_NAME, 100 + port, f"Gi1/{port}".encode())
        values |= row(column, prefix + ".".join(map(str, mac(n))), port)
    return values


def ask(values, version=snmp.Version.V2C, answers=10_000, odd=None):
    """Drive the conversation against an agent that has these values; what it learnt, and asked."""
    wire = Wire()
    party = wire.join(Walk(SWITCH, switch_tables(SWITCH)))
    ordered = sorted(values, key=numbers)
    done = 0
    while not party.conversation.over and done < 2000:
        done += 1
        packet = party.packets[-1]
        asked = snmp.parse(packet.payload)
        if done > answers or asked.version is not version:
            wire.pass_time(1.0)
            continue
        (after,) = asked.values
        later = [key for key in ordered if numbers(key) > numbers(after)][: asked.repetitions or 1]
        found = {key: values[key] for key in later}
        if odd is not None:
            found = odd(after, found)
        if not found and version is snmp.Version.V1:
            # noSuchName, as RFC 1157 §4.1.3 has it, with the question in it.
            payload = bytearray(packet.payload)
            at = payload.index(b"\x02\x01\x00\x02\x01\x00", 12)
            payload[payload.index(0xA1)] = 0xA2
            payload[at + 2] = 2
            reply = bytes(payload)
        else:
            told = found or {after: None}
            reply = snmp.encode_response(snmp.SnmpMessage(version, b"public", asked.request, told))
        wire.say(Datagram(PEER, reply))
    return party.facts, done


@pytest.mark.parametrize("version", list(snmp.Version))
@pytest.mark.parametrize(
    ("column", "prefix"), [(snmp.BRIDGE_FORWARDING, ""), (snmp.VLAN_FORWARDING, "17.")]
)
def test_a_bridge_tells_who_is_behind_each_port(version, column, prefix):
    (told,), _ = ask(bridge(70, column, prefix), version)
    assert (told.macs, told.whole) == ((mac(0),), True)
    assert [port.name for port in told.ports] == [f"Gi1/{n}" for n in range(1, 36)]
    assert told.ports[1].behind == (mac(3), mac(4))


def test_what_is_no_switch_costs_two_questions_and_one_that_falls_silent_tells_what_it_told():
    assert ask(row(snmp.SYS_NAME, 0, b"valve")) == ([], 2)
    # The names, and then nothing more: what is there is told, and that it is not all. It is waited
    # for twice, not twice for each column that is left.
    (told,), asked = ask(bridge(70), answers=6)
    assert (told.whole, told.macs, asked) == (False, (mac(0),), 8)


@pytest.mark.parametrize(
    "odd",
    [
        lambda after, found: {after: 1},
        lambda after, found: {snmp.BRIDGE_ADDRESS + ".0": b"", **found},
        lambda after, found: {f"{after}.1": 7},
        lambda after, found: dict.fromkeys(found, b"\xff" * 200),
        lambda after, found: dict.fromkeys(found, "1.3"),
    ],
)
def test_an_agent_that_goes_in_circles_or_never_ends_is_left(odd):
    told, asked = ask(bridge(20), odd=odd)
    assert asked < 700
    assert all(isinstance(each, SwitchTables) for each in told)


def test_lldp_tables_name_the_neighbours():
    values = row(snmp.LLDP_CHASSIS, 0, mac(0).octets)
    values |= row(snmp.LLDP_PORT_ID_SUBTYPE, 7, 3) | row(snmp.LLDP_PORT_ID, 7, mac(9).octets)
    values |= row(snmp.LLDP_PORT_DESCRIPTION, 7, b"eth7")
    for column, value in (
        (snmp.LLDP_REMOTE_CHASSIS_SUBTYPE, 4),
        (snmp.LLDP_REMOTE_CHASSIS, mac(5).octets),
        (snmp.LLDP_REMOTE_PORT_SUBTYPE, 5),
        (snmp.LLDP_REMOTE_PORT, b"port 3\x1b[31m"),
        (snmp.LLDP_REMOTE_NAME, b"hall-switch"),
    ):
        values |= row(column, "120.7.1", value)
    (told,), _ = ask(values)
    (port,) = told.ports
    assert port == Port("eth7", (), (Neighbour(mac(5), "hall-switch", "port 3 [31m"),))


def test_a_port_that_lldp_names_otherwise_than_the_bridge_is_one_port():
    values = bridge(4) | row(snmp.LLDP_CHASSIS, 0, mac(0).octets)
    values |= row(snmp.LLDP_PORT_ID_SUBTYPE, 2, 5) | row(snmp.LLDP_PORT_ID, 2, b"uplink to hall 2")
    values |= row(snmp.LLDP_REMOTE_CHASSIS_SUBTYPE, "120.2.1", 4)
    values |= row(snmp.LLDP_REMOTE_CHASSIS, "120.2.1", mac(5).octets)
    (told,), _ = ask(values)
    assert [port.name for port in told.ports] == ["Gi1/1", "Gi1/2"]
    assert [each.mac for each in told.ports[1].neighbours] == [mac(5)]


def test_the_numbers_are_those_of_the_modules_that_others_compiled():
    known = {}
    for file in files("pysnmp-mibs") or ():
        if file.name in ("BRIDGE-MIB.py", "Q-BRIDGE-MIB.py"):
            for name, told in re.findall(r"^(\w+) = \w+\(\(([\d, ]+)\)", file.read_text(), re.M):
                known[name] = told.replace(", ", ".")
    ours = (snmp.BRIDGE_ADDRESS, snmp.BRIDGE_PORT_INTERFACE, snmp.BRIDGE_FORWARDING)
    names = ("dot1dBaseBridgeAddress", "dot1dBasePortIfIndex", "dot1dTpFdbPort", "dot1qTpFdbPort")
    assert tuple(known[name] for name in names) == (*ours, snmp.VLAN_FORWARDING)


def test_tables_are_read_as_they_were_written_and_an_odd_port_loses_itself():
    ports = (Port("2", (mac(1), mac(2))), Port("10", (), (Neighbour(None, "x", ""),)))
    told = SwitchTables(SWITCH, (mac(0),), ports)
    document = tables_document(told, [])
    again = read_tables(Part(document))
    assert again == told
    # Behind an uplink there may be thousands: those that nobody here knows are counted.
    crowd = SwitchTables(SWITCH, (), (Port("1", tuple(map(mac, range(40)))),))
    few = read_tables(Part(tables_document(crowd, [mac(3)])))
    assert few is not None
    assert few.ports == (Port("1", (mac(3),), (), 39),)
    document["ports"] += [{"port": 3}, None, {"port": "", "behind": [7]}]
    assert read_tables(Part(document)) == again
    for broken in (None, 7, {}, {"address": "x", "macs": [], "ports": []}):
        assert read_tables(Part(broken)) is None
    assert sorted(("port 10", "port 9", "Gi1/2", ""), key=natural) == [
        *("", "Gi1/2", "port 9", "port 10"),
    ]


@st.composite
def trees(draw):
    """Switches, each plugged into an earlier one or the first, and devices, each into one."""
    count = draw(st.integers(1, 7))
    parents = [draw(st.integers(0, n - 1)) if n else None for n in range(count)]
    hosts = draw(st.lists(st.integers(0, count - 1), max_size=12))
    return parents, hosts


def learnt(parents, hosts):
    """The tables that the switches of a tree come to know: every MAC, by the port that leads to it.

    The workstation is at port 1 of the first switch; port 0 of the others leads up.
    """
    count = len(parents)
    ports = {(n, m): f"to {m}" for m, n in enumerate(parents) if n is not None}
    at = {**{mac(1000 + h): (n, f"host {h}") for h, n in enumerate(hosts)}, mac(9): (0, "port 1")}

    def path(n):
        return [n] if parents[n] is None else [*path(parents[n]), n]

    def towards(n, m):
        way = path(m)
        return ports[n, way[way.index(n) + 1]] if n in way and n != m else "up"

    tables = []
    for n in range(count):
        behind = {}
        for known, (m, port) in at.items():
            behind.setdefault(port if m == n else towards(n, m), []).append(known)
        for m in range(count):
            if m != n:
                behind.setdefault(towards(n, m), []).append(mac(m))
        listed = tuple(Port(name, tuple(macs)) for name, macs in behind.items())
        tables.append(SwitchTables(IPv4Address(int(SWITCH) + n), (mac(m) for m in (n,)), listed))
    return [SwitchTables(t.address, (mac(n),), t.ports) for n, t in enumerate(tables)], ports


@given(trees(), st.booleans())
@settings(max_examples=200)
def test_the_tree_that_was_wired_is_the_tree_that_is_told(tree, announces):
    parents, hosts = tree
    tables, ports = learnt(parents, hosts)
    wiring = Wiring(tables, own=mac(9), beside=0 if announces else None)
    assert wiring.root == 0
    assert wiring.workstation == Plugged(0, "port 1")
    told = [None if each is None else each.switch for each in wiring.parents]
    assert told == parents
    for n, parent in enumerate(parents):
        if parent is not None:
            assert wiring.parents[n].port == ports[parent, n]
    for h, n in enumerate(hosts):
        assert wiring.plugged(mac(1000 + h)) == Plugged(n, f"host {h}")
    assert wiring.plugged(mac(5000)) is None


@given(st.lists(st.lists(st.tuples(st.integers(0, 3), st.integers(0, 9)), max_size=8), max_size=6))
def test_tables_that_contradict_each_other_make_no_circle(said):
    tables = [
        SwitchTables(
            IPv4Address(int(SWITCH) + n),
            (mac(n),),
            tuple(Port(str(port), (mac(known),)) for port, known in rows),
        )
        for n, rows in enumerate(said)
    ]
    wiring = Wiring(tables, own=mac(9))
    for n in range(len(tables)):
        way = [n]
        while wiring.parents[way[-1]] is not None:
            way.append(wiring.parents[way[-1]].switch)
            assert len(way) <= len(tables)
