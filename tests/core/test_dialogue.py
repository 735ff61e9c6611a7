"""A reply belongs to its question: late, coalesced and split ones, with numbers and without."""

from functools import partial
from ipaddress import IPv4Address, IPv4Interface

import messages
import pytest
from drive import alone
from hypothesis import given
from hypothesis import strategies as st

from portcall.core.cip.interface_object import CipSettings
from portcall.core.find import cip_interface, modbus_identity
from portcall.core.find.sentences import MODBUS_AS_UNIT
from portcall.core.find.sighting import Field, Method, sighting_of
from portcall.core.setting import cip_settings
from portcall.core.talk.conversation import StreamBytes
from portcall.core.talk.dialogue import ANSWER_WAIT, Dialogue, Exchange
from portcall.core.wire import cip, cip_message, cip_tcpip, modbus, opcua
from portcall.core.wire.modbus import Identification, ModbusMessage

PLC = IPv4Address("10.61.20.10")
MASK = IPv4Address("255.255.255.0")
NOBODY = IPv4Address(0)
CONFIGURATION = cip_tcpip.InterfaceConfiguration(PLC, MASK, NOBODY, NOBODY, NOBODY)


def asking(script, method):
    return alone(Dialogue(script(), partial(sighting_of, method, PLC)))


def said_by(party):
    return {said.field: said.value for fact in party.facts for said in fact.said}


def session_answer():
    return cip.encode(cip.Encapsulation(cip_message.REGISTER_SESSION, bytes(4), 0x51))


def cip_answer(asked, data=b"", status=0, service=0x0E):
    response = cip_message.encode_response(cip_message.Response(service, status, data))
    context = cip.parse(asked.data).context
    return cip_message.encode_unconnected(0x51, response, context)


def modbus_answer(asked):
    """What a gateway says behind which only unit 1 is there."""
    message = modbus.parse(asked.data)
    pdu = bytes((message.pdu[0] | 0x80, 0x0B))
    if message.unit == 1 and message.pdu[0] == modbus.ENCAPSULATED:
        pdu = modbus.encode_identification(Identification(((1, b"Ebb 2"),)), 1)
    return modbus.encode(ModbusMessage(message.transaction, message.unit, pdu))


def test_a_late_attribute_is_not_read_as_the_next_one():
    wire, party = asking(partial(cip_interface.script, PLC), Method.CIP)
    wire.say(StreamBytes(session_answer()))
    configuration = party.packets[-1]
    wire.pass_time(ANSWER_WAIT)
    control = party.packets[-1]
    assert control is not configuration
    # Attribute 5, when 3 is asked: its first octets, an address, would be read as 3.
    late = cip_answer(configuration, cip_tcpip.encode_configuration(CONFIGURATION))
    wire.say(StreamBytes(late))
    assert party.facts == []
    wire.say(StreamBytes(cip_answer(control, b"\2\0\0\0")))
    assert said_by(party) == {Field.OBTAINS: "by DHCP"}


def test_a_question_that_is_kept_back_is_waited_for_from_when_it_leaves():
    """A device that several are asking is asked late, and is not given up before it was asked."""
    script = partial(cip_interface.script, PLC)
    wire, party = alone(Dialogue(script(), partial(sighting_of, Method.CIP, PLC)), gap=3.0)
    wire.pass_time(ANSWER_WAIT / 2)
    assert not party.conversation.over
    wire.say(StreamBytes(session_answer()))
    assert len(party.packets) == 2


def test_a_late_yes_to_the_name_is_not_a_yes_to_the_address():
    before = CipSettings(1, 0x15, 0x11, CONFIGURATION, b"gale7")
    goal = IPv4Interface("10.61.20.31/24")
    changes = cip_settings.moving(before, goal, None, "fan-1")
    wire, party = alone(Dialogue(cip_settings.write(changes), lambda fact, now: fact))
    wire.say(StreamBytes(session_answer()))
    name = party.packets[-1]
    wire.pass_time(ANSWER_WAIT)
    address = party.packets[-1]
    yes, no = cip_answer(name, service=0x10), cip_answer(address, b"", 0x0E, service=0x10)
    wire.say(StreamBytes(yes + no))
    assert [(fact.change.what, fact.status) for fact in party.facts] == [
        ("the host name fan-1", None),
        ("the address 10.61.20.31/24", 0x0E),
    ]


@given(st.integers(1, 80), st.sampled_from((0.05, 0.3)))
def test_a_gateway_that_is_slow_for_absent_units_is_identified_all_the_same(cut, tick):
    """It takes two seconds for each unit that is not there, one question after the other.

    What is due in a tick comes together, and in pieces of ``cut`` octets.
    """
    wire, party = asking(modbus_identity.script, Method.MODBUS)
    served, busy_until = 0, 0.0
    while not party.conversation.over and wire.now < 60:
        wire.pass_time(tick)
        due = b""
        while served < len(party.packets):
            sent, asked = party.sent[served]
            at = max(busy_until, sent) + (0.05 if modbus.parse(asked.data).unit == 1 else 2.0)
            if at > wire.now:
                break
            served, busy_until = served + 1, at
            due += modbus_answer(asked)
        for start in range(0, len(due), cut):
            wire.say(StreamBytes(due[start : start + cut]))
    assert said_by(party)[Field.PRODUCT] == "Ebb 2"
    assert said_by(party)[Field.MANNER] == MODBUS_AS_UNIT(unit=1)


@pytest.mark.parametrize("comes", ["late", "behind another"])
def test_where_nothing_numbers_the_replies_a_connection_is_not_used_again(comes):
    def script():
        for word in (b"one", b"two"):
            yield (yield Exchange(word, lambda received: 5 if len(received) >= 5 else None))

    wire, party = alone(Dialogue(script(), lambda fact, now: fact))
    if comes == "late":
        wire.pass_time(ANSWER_WAIT)
    else:
        wire.say(StreamBytes(b"reply what"))
    assert [packet.data for packet in party.packets] == [b"one"]
    assert party.conversation.over
    assert party.facts == ([None] if comes == "late" else [b"reply"])


def test_a_message_that_nobody_asked_for_does_not_lengthen_the_wait_for_ever():
    wire, party = asking(partial(cip_interface.script, PLC), Method.CIP)
    wire.say(StreamBytes(session_answer()))
    stray = cip.encode(replace_context(party.packets[-1]))
    for _ in range(100):
        wire.pass_time(0.1)
        if not party.conversation.over:
            wire.say(StreamBytes(stray))
    assert party.conversation.over
    assert party.facts == []


def replace_context(asked):
    return cip.parse(asked.data)._replace(context=b"somebody")


def test_opc_ua_answers_go_by_their_request_id():
    # Recorded from a server that is not ours, where this client's first question has the ID 1.
    asked, answer = opcua.encode_open_channel(), messages.OPCUA_CHANNEL
    assert opcua.is_answer(asked, answer)
    channel = opcua.Channel(5, 6)
    endpoints = opcua.encode_endpoints(channel, opcua.Application(b"uri", b"product", b"name"))
    assert opcua.is_answer(opcua.encode_get_endpoints(channel, b"opc.tcp://x"), endpoints)
    assert not opcua.is_answer(asked, endpoints)
    later = bytearray(endpoints)
    later[20] += 1
    assert not opcua.is_answer(opcua.encode_get_endpoints(channel, b"opc.tcp://x"), bytes(later))
    assert opcua.is_answer(opcua.encode_hello(b"x"), opcua.encode_acknowledge())
    assert not opcua.is_answer(opcua.encode_hello(b"x"), answer)
