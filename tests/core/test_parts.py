"""What is inside a device: found one question at a time, merged, planned, judged, written down."""

from dataclasses import replace
from ipaddress import IPv4Address, IPv4Interface
from itertools import pairwise

import pytest
from drive import Wire
from hypothesis import given
from hypothesis import strategies as st

from portcall.core.address import Mac
from portcall.core.catalog.registers import Description, Meaning, Recognition, Register, Shape
from portcall.core.document import Part
from portcall.core.find import sentences as say
from portcall.core.find.device import Device
from portcall.core.find.devices import merge
from portcall.core.find.inside.belonging import Belonging
from portcall.core.find.inside.merging import together
from portcall.core.find.inside.rack import interfaces_script, rack_script
from portcall.core.find.inside.units import units_script
from portcall.core.find.sighting import Field, FoundPart, Method, PartState, Sighting, said_by
from portcall.core.finding import Name
from portcall.core.part_path import TOP, PartKind, in_words, parse_numbers, parse_path
from portcall.core.plan.reading import PlanError, parse_plan
from portcall.core.record.compare import compare
from portcall.core.record.entry import line_of
from portcall.core.record.look import SeenLook, device_document, read_device, sightings_in
from portcall.core.talk.conversation import StreamBytes
from portcall.core.talk.dialogue import Dialogue
from portcall.core.trouble import BadInput
from portcall.core.verify.judgement import Asked, RowsSeen, Verdict, judge
from portcall.core.verify.parts import judge_parts
from portcall.core.why.facts import ClimbSeen, facts
from portcall.core.why.grounds import weigh
from portcall.core.why.ladder import Cause, Goal
from portcall.core.why.parts import PartSeen, judge_part
from portcall.core.wire import cip, cip_message, cip_route, modbus
from portcall.core.wire.cip_route import Hop

GATEWAY = IPv4Address("10.61.40.20")
MAC = Mac(b"\x02\xc0\xe7\x40\x20\x01")


def unit(number, state=PartState.THERE, **told):
    said = said_by(Method.MODBUS, *((Field(key), value) for key, value in told.items()))
    return FoundPart(TOP.below(PartKind.UNIT, number), state, Method.MODBUS, said)


# Paths.


@pytest.mark.parametrize(
    ("typed", "shown"),
    [
        ("port 2", "port 2"),
        ("UNIT17", "unit 17"),
        ("slot-3/port 1", "slot 3/port 1"),
        ("lan2", "port 2"),
        ("slot 3/at 10.61.42.5/slot 0", "slot 3/at 10.61.42.5/slot 0"),
    ],
)
def test_a_path_is_read_as_people_write_it_and_written_in_one_way(typed, shown):
    path = parse_path(typed)
    assert str(path) == shown
    assert parse_path(path.word) == path


@pytest.mark.parametrize(
    "typed",
    [
        *("", "17", "unit 0", "unit 248", "slot 255", "unit x", "slot 3/at 10.61.42.5", "at 1"),
        # Nobody can be asked for these: each step has to lead to the next.
        *("at 10.61.42.5/slot 0", "slot 3/slot 4", "port 1/slot 3", "unit 1/unit 2"),
        "slot 3/at 10.61.42.5/at 10.61.42.6/slot 1",
    ],
)
def test_what_is_no_path_is_refused_in_words(typed):
    with pytest.raises(BadInput, match=r"is no part|has a number from"):
        parse_path(typed)


@given(st.sets(st.integers(1, 247), min_size=1))
def test_numbers_in_short_are_the_same_numbers(numbers):
    assert set(parse_numbers(in_words(list(numbers)), PartKind.UNIT)) == numbers


# Units, against a gateway whose answers take time.


class Gateway:
    """What answers on the serial line behind: ``units`` by number, each a function of a PDU."""

    def __init__(self, units, takes=0.1, own=None):
        self.units, self.takes, self.own = units, takes, own
        self.asked = []

    def answer(self, octets):
        message = modbus.parse(octets)
        self.asked.append((message.unit, message.pdu[0]))
        at = self.own if message.unit == 255 else self.units.get(message.unit)
        pdu = bytes((message.pdu[0] | 0x80, 0x0B)) if at is None else at(message.pdu)
        return modbus.encode(message._replace(pdu=pdu)) if pdu is not None else None


def named(product):
    def answer(pdu):
        if pdu[:2] == b"\x2b\x0e":
            said = modbus.Identification(((4, product.encode()),))
            return modbus.encode_identification(said, pdu[2])
        return bytes((pdu[0] | 0x80, 2))

    return answer


def with_registers(registers):
    def answer(pdu):
        first, count = int.from_bytes(pdu[1:3], "big"), int.from_bytes(pdu[3:5], "big")
        if pdu[0] != 3 or any(n not in registers for n in range(first, first + count)):
            return bytes((pdu[0] | 0x80, 1 if pdu[0] != 3 else 2))
        octets = b"".join(registers[n].to_bytes(2, "big") for n in range(first, first + count))
        return modbus.encode_registers(pdu[0], octets)

    return answer


def ask(gateway, script, cut_after=None):
    """Go through a script; its facts, and when each question was asked.

    ``cut_after`` so many questions the gateway ends the connection, each time.
    """
    facts_told, times, first = [], [], None
    while True:
        wire = Wire()
        wire.now = times[-1] if times else 0.0
        dialogue = Dialogue(script, lambda fact, now: fact, 5000, resumes=True, first=first)
        party = wire.join(dialogue)
        done = 0
        while not dialogue.over:
            fresh = party.sent[done:]
            if not fresh:
                wire.pass_time(dialogue.wake_at - wire.now)
                continue
            done += 1
            (at, packet) = fresh[0]
            times.append(at)
            wire.now = max(wire.now, at)
            answer = gateway.answer(packet.data)
            if cut_after and done == cut_after:
                answer = b""
            if answer is None:
                wire.pass_time(5.0)
                continue
            wire.pass_time(min(gateway.takes, 4.9))
            wire.say(StreamBytes(answer))
        facts_told += party.facts
        first = dialogue.left_over
        if first is None:
            return facts_told, times


def states(parts):
    return {part.path.number: part.state for part in parts}


def test_each_unit_is_told_of_and_the_line_is_left_alone_between_two_questions():
    gateway = Gateway({1: named("Float 2"), 3: with_registers({}), 4: lambda pdu: None})
    parts, times = ask(gateway, units_script(range(1, 6), rest=6.0))
    assert states(parts) == {
        1: PartState.THERE,
        2: PartState.NOT_THERE,
        3: PartState.THERE,
        4: PartState.SILENT,
        5: PartState.NOT_THERE,
    }
    assert parts[0].value(Field.PRODUCT) == "Float 2"
    assert parts[1].evidence.values == {"unit": 2, "exception": 0x0B}
    # Nothing but reading, and identity.
    assert {function for _, function in gateway.asked} <= {3, 17, 43}
    gaps = [later - earlier for earlier, later in pairwise(times)]
    assert min(gaps) == pytest.approx(7 * gateway.takes)
    # After the one that was silent for five seconds, as much longer.
    assert max(gaps) == pytest.approx(5.0 + 6 * 5.0, abs=0.2)


@pytest.mark.parametrize("cut_after", [1, 2, 3])
def test_a_gateway_that_ends_the_connection_is_asked_on_over_another_one(cut_after):
    gateway = Gateway({n: named(f"Float {n}") for n in (1, 2, 3)})
    parts, _ = ask(gateway, units_script((1, 2, 3, 4), rest=0), cut_after)
    assert [part.path.number for part in parts] == [1, 2, 3, 4]
    if cut_after > 1:
        # With every answer cut, nobody is there; with every second one, what came is kept.
        assert PartState.THERE in states(parts).values()


def test_a_device_that_answers_for_every_number_alike_is_one_device():
    gateway = Gateway({n: named("Reed 3") for n in range(1, 248)}, own=named("Reed 3"))
    parts, _ = ask(gateway, units_script(range(1, 248), rest=0))
    assert states(parts) == dict.fromkeys((1, 2, 3), PartState.ITSELF)
    assert not any(part.is_there for part in parts)


SCALE = Description(
    "Ebb 3 scale",
    "Curlew Gateways",
    recognition=Recognition(Register(3, 0, 1, Shape.U16), 0x0E31),
    values=(
        (Meaning.SERIAL, Register(3, 10, 2, Shape.U32, low_first=True)),
        (Meaning.BATTERY, Register(3, 12, 1, Shape.I16, scale=0.5, unit="%")),
        (Meaning.MODEL, Register(3, 20, 2, Shape.TEXT)),
        (Meaning.FIRMWARE, Register(3, 90, 1, Shape.U16)),
    ),
)


def test_a_description_reads_what_an_instrument_keeps_in_registers_and_is_known_by_one_of_them():
    held = {0: 0x0E31, 10: 0xA120, 11: 0x0007, 12: 174, 20: 0x4562, 21: 0x6200}
    other = {0: 7, **{n: held[n] for n in held if n}}
    gateway = Gateway({5: with_registers(held), 6: with_registers(other)})
    (five, six), _ = ask(gateway, units_script((5, 6), (SCALE,), rest=0))
    told = {field: five.value(field) for field in (Field.SERIAL, Field.BATTERY, Field.PRODUCT)}
    assert told == {Field.SERIAL: "500000", Field.BATTERY: "87 %", Field.PRODUCT: "Ebb"}
    assert five.value(Field.FIRMWARE) is None
    assert six.said == ()
    # What is planned as that product, and is another one by that register, is not read as it.
    (planned,), _ = ask(gateway, units_script((6,), (SCALE,), {6: "EBB 3 Scale"}, rest=0))
    assert planned.said == ()
    # Without such a register the plan's word is enough.
    plain = replace(SCALE, recognition=None)
    (planned,), _ = ask(gateway, units_script((6,), (plain,), {6: "EBB 3 Scale"}, rest=0))
    assert planned.value(Field.SERIAL) == "500000"


def test_only_the_answers_of_a_unit_itself_say_how_fast_it_is():
    def ignores_its_identity(pdu):
        return bytes((3 | 0x80, 2)) if pdu[0] == 3 else bytes((pdu[0] | 0x80, 0x0B))

    gateway = Gateway({1: ignores_its_identity}, takes=2.0)
    wire = Wire()
    dialogue = Dialogue(units_script((1,), rest=0), lambda fact, now: (fact, dialogue.slowest))
    party = wire.join(dialogue)
    while not dialogue.over:
        answer = gateway.answer(party.packets[-1].data)
        # The gateway gives up late; the unit itself answers at once.
        wire.pass_time(2.0 if answer[-1] == 0x0B else 0.1)
        wire.say(StreamBytes(answer))
    ((part, slowest),) = party.facts
    assert (part.state, slowest) == (PartState.THERE, pytest.approx(0.1))


# Racks and interfaces. Octets written down by hand from the standard: no stack from the registry
# has a rack, or two interfaces. That one understands the question is in test_inside_stacks.py.

UNCONNECTED_SEND_TO_SLOT_3 = bytes.fromhex(
    "52 02 20 06 24 01"  # Unconnected_Send, connection manager, instance 1
    "07 08"  # tick of 128 ms, eight of them
    "06 00 01 02 20 01 24 01"  # six octets: Get_Attributes_All of the identity object
    "01 00 01 03"  # route of one word: port 1, link 3
)
IDENTITY_OF_A_MODULE = (
    bytes.fromhex("81 00 00 00 65 fa 07 00 60 02 01 02 30 00 11 08 4a 5a 05") + b"AI 8x"
)
NOBODY_IN_THE_SLOT = bytes.fromhex("d2 00 01 01 04 02 02")  # 0x0204, two words of path left
NO_SUCH_PORT = bytes.fromhex("d2 00 01 01 11 03 01")
TO_ITSELF = bytes.fromhex("d2 00 01 01 18 03 01")


def answered(script, answers):
    """The facts of a CIP script; ``answers`` gives octets for a message router request."""
    wire = Wire()
    party = wire.join(Dialogue(script, lambda fact, now: fact, 5000))
    done = 0
    while not party.conversation.over and done < len(party.packets):
        asked = cip.parse(party.packets[done].data)
        done += 1
        if asked.command == cip_message.REGISTER_SESSION:
            wire.say(StreamBytes(cip.encode(asked._replace(session=7))))
        elif asked.command == cip_message.SEND_RR_DATA:
            reply = answers(cip_message.parse_unconnected(asked))
            if reply is None:
                wire.pass_time(5)
                continue
            message = cip_message.encode_unconnected(7, reply, asked.context)
            wire.say(StreamBytes(message))
    return party.facts


def test_a_rack_is_asked_slot_by_slot_and_each_answer_says_what_is_there():
    asked = []
    slots = {0: TO_ITSELF, 3: IDENTITY_OF_A_MODULE, 4: None}

    def answers(request):
        asked.append(request)
        sent_on, route = cip_route.parse_unconnected_send(cip_message.parse_request(request).data)
        if sent_on.service != cip_message.GET_ATTRIBUTES_ALL:
            return bytes((sent_on.service | 0x80, 0, 5, 0))
        return slots.get(route[0].link, NOBODY_IN_THE_SLOT)

    parts = answered(rack_script((0, 2, 3, 4)), answers)
    assert UNCONNECTED_SEND_TO_SLOT_3 in asked
    assert states(parts) == {
        0: PartState.THERE,
        2: PartState.NOT_THERE,
        3: PartState.THERE,
        4: PartState.SILENT,
    }
    module = parts[2]
    assert (module.value(Field.PRODUCT), module.value(Field.SERIAL)) == ("AI 8x", "5A4A0811")
    assert parts[1].evidence.values["extended"] == 0x0204
    # A device that has no backplane says so once, and is asked no more.
    asked.clear()
    assert answered(rack_script(), lambda request: asked.append(request) or NO_SUCH_PORT) == []
    assert len(asked) == 1


def test_a_further_rack_is_asked_by_the_address_on_the_way():
    routes = []

    def answers(request):
        sent_on, route = cip_route.parse_unconnected_send(cip_message.parse_request(request).data)
        routes.append(route)
        whole = sent_on.service == cip_message.GET_ATTRIBUTES_ALL
        return IDENTITY_OF_A_MODULE if whole and len(route) == 3 else NOBODY_IN_THE_SLOT

    address = IPv4Address("10.61.42.5")
    parts = answered(rack_script((2,), {3: (address,)}), answers)
    assert (Hop(1, 3), Hop(2, address), Hop(1, 2)) in routes
    assert str(parts[-1].path) == "slot 3/at 10.61.42.5/slot 2"
    # Volume 1 §C-1.4.1: an address is text, its length before it, and an even number of octets.
    assert cip_route.encode_route((Hop(2, address),)) == b"\x12\x0a10.61.42.5"
    odd = (Hop(2, IPv4Address("10.61.4.55")), Hop(2, IPv4Address("10.61.42.55")))
    assert cip_route.parse_route(cip_route.encode_route(odd)) == odd


def little(address):
    return IPv4Address(address).packed[::-1]


def test_every_interface_tells_its_address_and_its_plug():
    first = little("10.61.40.10") + little("255.255.255.0") + bytes(14)
    second = little("10.61.41.10") + little("255.255.0.255") + bytes(14)
    values = {
        (0xF5, 1, 5): first,
        (0xF5, 1, 3): bytes(4),
        (0xF5, 1, 4): bytes.fromhex("02 00 20 f6 24 02"),
        (0xF6, 2, 3): bytes.fromhex("02 5a 1d 40 10 01"),
        (0xF6, 2, 2): bytes.fromhex("0f 00 00 00"),
        (0xF6, 2, 10): b"\x02X1",
        (0xF5, 2, 5): second,
        (0xF6, 2 + 1, 3): b"",
    }

    def answers(request):
        asked = cip_message.parse_request(request)
        data = values.get((asked.class_number, asked.instance, asked.attribute))
        status = 0x14 if data is None else 0
        return bytes((asked.service | 0x80, 0, status, 0)) + (data or b"")

    (told,) = merge(
        Sighting(0.0, part.method, MAC, GATEWAY, part=part)
        for part in answered(interfaces_script(), answers)
    )
    one, two = told.parts
    assert (str(one.path), one.macs, one.value(Field.NAME)) == (
        "port 1",
        (Mac(b"\x02\x5a\x1d\x40\x10\x01"),),
        "X1",
    )
    assert one.interfaces == (IPv4Interface("10.61.40.10/24"),)
    # A mask that is none loses itself alone.
    assert (two.interfaces, two.macs) == ((IPv4Interface("10.61.41.10/32"),), ())


# Merging.


def port(number, method, address=None, mac=None):
    return FoundPart(
        TOP.below(PartKind.PORT, number),
        PartState.THERE,
        method,
        said_by(method, (Field.NAME, f"{method}-{number}")),
        (IPv4Interface(address),) if address else (),
        (Mac(bytes((2, 0, 0, 0, 0, mac))),) if mac else (),
    )


def test_an_interface_that_two_protocols_tell_is_one_and_no_two_have_one_number():
    parts = together(
        (
            port(2, Method.SNMP, "10.61.40.10/24", 1),
            port(1, Method.SNMP, "10.61.43.1/24", 9),
            port(1, Method.CIP, "10.61.40.10/32"),
            port(2, Method.CIP, "10.61.41.10/24", 2),
        )
    )
    assert [(str(p.path), [str(i) for i in p.interfaces]) for p in parts] == [
        ("port 1", ["10.61.40.10/24"]),
        ("port 2", ["10.61.41.10/24"]),
        ("port 3", ["10.61.43.1/24"]),
    ]
    assert parts[0].macs == (Mac(bytes((2, 0, 0, 0, 0, 1))),)


def test_a_device_is_an_interface_of_another_that_tells_its_mac_and_is_asked_about_when_alike():
    plate = {"product": "Skerry 60", "serial": "5A401001"}
    said = dict.fromkeys(said_by(Method.CIP, *((Field(k), v) for k, v in plate.items())), 0.0)
    first, second, third = (Mac(bytes((2, 0, 0, 0, 0, n))) for n in (1, 2, 3))
    teller = Device(first, parts=(port(2, Method.CIP, "10.61.41.10/24", 2),), said=said)
    told, alike = Device(second), Device(third, said=said)
    belonging = Belonging((teller, told, alike))
    assert belonging.owner_of(told) == (teller, teller.parts[0])
    (remark,) = belonging.remarks(alike)
    assert remark.whole.code == "same-plate"
    # A number that three have is no serial number.
    fourth = Device(Mac(bytes((2, 0, 0, 0, 0, 4))), said=said)
    assert list(Belonging((teller, alike, fourth)).remarks(alike)) == []


# Written down.


def device(*parts):
    sightings = [Sighting(0.0, Method.ARP, MAC, GATEWAY)]
    sightings += [Sighting(0.0, part.method, MAC, GATEWAY, part=part) for part in parts]
    (made,) = merge(sightings)
    return made


def test_parts_come_back_from_a_look_as_they_were_and_changes_of_those_asked_twice_are_told():
    before = device(
        unit(1, product="Float 2", serial="A1"),
        unit(2, PartState.NOT_THERE),
        unit(3, product="Float 2"),
        unit(9),
        port(2, Method.CIP, "10.61.41.10/24", 2),
    )
    document = device_document(before)
    (again,) = merge(sightings_in(Part(document)))
    assert [
        (p.path, p.state, p.interfaces, p.macs, p.value(Field.PRODUCT)) for p in again.parts
    ] == [(p.path, p.state, p.interfaces, p.macs, p.value(Field.PRODUCT)) for p in before.parts]
    after = device(
        unit(1, product="Float 2", serial="A2"),
        unit(2, product="Reed 5"),
        unit(3, PartState.SILENT),
    )
    looks = [SeenLook((line_of(device_document(each)),)) for each in (before, after)]
    told = {(each.what, each.was, each.now) for each in compare(*looks).changed}
    # Unit 9 and the port were not asked for again: nothing is said of them.
    assert told == {
        ("unit 1 serial", "A1", "A2"),
        ("unit 2", "not there", "Reed 5"),
        ("unit 3", "Float 2", "silent"),
    }
    assert (
        read_device({**document, "parts": [7, {"part": "unit x"}], "not_there": [{}]}).parts == {}
    )


# Planned.

HEAD = "name,mac,address,mask,serial,of,part\n"
PLC = "plc,02-5A-1D-40-10-01,10.61.40.10,24,,,\n"


@pytest.mark.parametrize(
    ("rows", "complaint"),
    [
        (PLC + "a,,10.61.40.77,24,,plc,port 2\n", "overlaps that of 10.61.40.10/24 (plc, line 2)"),
        (PLC + "a,,10.61.41.1,16,,plc,port 2\n", "overlaps"),
        (PLC + "a,,,,,plc,port 2\n", "every row needs an address"),
        (PLC + "a,,,,,nobody,unit 2\n", "nobody: is the name of no device"),
        (PLC + "a,,,,,plc,unit 2\nb,,,,,a,unit 3\n", "a: is a part itself"),
        (PLC + "a,,,,,plc,unit 2\nb,,,,,plc,Unit-2\n", "is on line 3 too (a)"),
        (PLC + "a,,,,,plc,unit 2\na,,,,,plc,unit 3\n", "a: is on line 3 too (a)"),
        (PLC + "a,02-5A-1D-40-10-09,,,,plc,unit 2\n", "unit 2 has none of its own"),
        (PLC + "a,,10.61.40.99,24,,plc,unit 2\n", "unit 2 has none of its own"),
        (PLC + "a,,,,,plc,\n", "a part needs both"),
        (PLC + "a,,,,,,unit 2\n", "a part needs both"),
        (PLC + "a,,,,,plc,part 2\n", "is no part of a device"),
    ],
)
def test_every_rule_for_parts_is_named_with_its_line(rows, complaint):
    with pytest.raises(PlanError) as refused:
        parse_plan((HEAD + rows).encode(), "plan.csv")
    assert complaint in str(refused.value)
    assert refused.value.problems[0].line >= 3


def test_a_plan_knows_its_parts_and_a_column_of_article_numbers_is_none():
    plan = parse_plan(
        (
            HEAD
            + PLC
            + "plc.field,02-5A-1D-40-10-02,10.61.41.10,24,,PLC,port 2\n"
            + "ring,02-5A-1D-40-10-03,10.61.40.10,24,,plc,port 3\n"
            + "level,,,,A1,plc,unit 5\n"
        ).encode(),
        "plan.csv",
    )
    # Who goes through a plan goes through what has an address of its own, once.
    assert [row.name for row in plan] == ["plc", "plc.field"]
    assert [row.name for row in plan.rows] == ["plc", "plc.field", "ring", "level"]
    assert (plan.by_name("level").address, plan.by_name("level").where) == (
        IPv4Address("10.61.40.10"),
        "unit 5 of plc",
    )
    other = parse_plan(b"name,address,part\nfan,10.61.20.21,4711-x\n", "plan.csv")
    assert (other.devices[0].part, other.devices[0].extra) == (None, (("part", "4711-x"),))


# Judged.


def judged(rows, *parts, reached=True):
    plan = parse_plan((HEAD + "gw,02-C0-E7-40-20-01,10.61.40.20,24,,,\n" + rows).encode(), "plan")
    found = (device(*parts),) if reached else ()
    seen = RowsSeen(plan, found, {}, Asked())
    return {each.row.name: each for each in judge_parts(seen, judge(seen, plan.rows))}


def test_a_unit_is_judged_by_what_its_gateway_told_of_it():
    rows = (
        "a,,,,A1,gw,unit 1\nb,,,,,gw,unit 2\nc,,,,,gw,unit 3\nd,,,,,gw,unit 4\ne,,,,E5,gw,unit 5\n"
    )
    told = judged(
        rows,
        unit(1, serial="A1"),
        unit(2, PartState.NOT_THERE),
        unit(3, PartState.SILENT),
        unit(5, serial="A1"),
    )
    verdicts = {name: each.verdict for name, each in told.items() if name != "gw"}
    assert verdicts == {
        "a": Verdict.RIGHT,
        "b": Verdict.MISSING,
        "c": Verdict.SILENT,
        "d": Verdict.NOT_JUDGED,
        "e": Verdict.DIFFERS,
    }
    # The instrument of unit 1 answers as unit 5.
    swapped = judged("a,,,,A1,gw,unit 1\n", unit(1, PartState.NOT_THERE), unit(5, serial="A1"))
    assert [each.code for each in swapped["a"].findings][-1] == "is-other-part"
    assert judged("a,,,,A1,gw,unit 1\n", reached=False)["a"].verdict is Verdict.NOT_JUDGED
    unread = judged("a,,,,A1,gw,unit 1\n", unit(1))["a"]
    assert (unread.verdict, unread.unread) == (Verdict.NOT_JUDGED, ("serial",))


@pytest.mark.parametrize(
    ("has", "verdict"),
    [
        ("10.61.41.10/24", Verdict.RIGHT),
        ("10.61.41.10/16", Verdict.DIFFERS),
        ("10.61.44.9/24", Verdict.DIFFERS),
        (None, Verdict.DIFFERS),
    ],
)
def test_a_second_interface_that_is_not_reached_is_judged_by_what_its_device_says(has, verdict):
    rows = "gw.field,02-00-00-00-00-02,10.61.41.10,24,,gw,port 2\n"
    told = judged(rows, port(2, Method.CIP, has, 2))["gw.field"]
    assert told.verdict is verdict
    assert judged(rows)["gw.field"].verdict is Verdict.MISSING
    out = replace(
        port(2, Method.CIP, has, 2), state=PartState.NO_LINK, evidence=say.PORT_NO_LINK(port=2)
    )
    unplugged = judged(rows, out)["gw.field"].verdict
    assert unplugged is (Verdict.NOT_JUDGED if verdict is Verdict.RIGHT else verdict)


GOAL = Goal(GATEWAY, Name("gw"), 502, "Modbus", parse_path("unit 7"), Name("level"))


@pytest.mark.parametrize(
    ("state", "others", "cause"),
    [
        (PartState.THERE, (), None),
        (PartState.NOT_THERE, (unit(1),), Cause.UNIT_SILENT),
        # Whether it is the unit or the whole line is not decided where no other one answers.
        (PartState.NOT_THERE, (unit(1, PartState.NOT_THERE),), ()),
        (PartState.NOT_THERE, (), ()),
        # Nor is slow told from missing where the gateway says nothing.
        (PartState.SILENT, (unit(1),), ()),
        # Of which nothing was heard, that is not said to be reachable.
        (None, (unit(1),), ()),
    ],
)
def test_a_missing_unit_is_told_from_a_dead_line_by_one_that_answers_beside_it(
    state, others, cause
):
    seen = PartSeen(unit(7, state) if state else None, others, 5.0)
    step = judge_part(GOAL, seen)
    climb = ClimbSeen(GOAL)
    climb.part = seen
    concluded = weigh(step, facts(climb), GOAL).conclusion
    assert (concluded.cause if concluded else None) == (cause or None)
    if cause == ():
        assert Cause.UNIT_SILENT in concluded.between
        assert concluded.do
