"""Writing to devices: what is sent, what is made of the answers, and how a device is followed."""

from dataclasses import replace
from ipaddress import IPv4Address, IPv4Interface

import pytest
from drive import Wire
from hypothesis import given
from hypothesis import strategies as st

from portcall.core.address import BROADCAST, UNSPECIFIED, Mac
from portcall.core.cip.identity_object import controls
from portcall.core.cip.interface_object import CipSettings
from portcall.core.finding import Name
from portcall.core.plan.rows import Plan, PlannedDevice
from portcall.core.setting import cip_settings
from portcall.core.setting.cip_settings import Answered
from portcall.core.setting.dcp_set import DcpSet, SetAnswer
from portcall.core.setting.had import had_by_cip
from portcall.core.setting.names import check_host_name, check_station_name
from portcall.core.setting.power_cycle import ASKING_TIME, PowerCycle, Return
from portcall.core.setting.series import Occupants, Progress, Turn, call
from portcall.core.setting.whereabouts import Asks, At, Left, Other, Whereabouts
from portcall.core.talk.conversation import Frame, StreamBytes
from portcall.core.talk.dialogue import Dialogue
from portcall.core.trouble import BadInput
from portcall.core.wire import arp, bootp, cip, cip_message, cip_tcpip, dcp, udp

OWN = Mac(b"\x02\x1a\x40\x7c\x00\x06")
ISLAND = Mac(b"\x02\x77\xb1\x90\x00\x3d")
OTHER = Mac(b"\x02\x77\xb1\x90\x00\x3e")
OLD, NEW = IPv4Address("203.0.113.47"), IPv4Address("10.61.20.31")
GOAL = IPv4Interface((NEW, 24))


def says(mac, address):
    packet = arp.Arp(arp.Operation.REPLY, mac, address, OWN, UNSPECIFIED)
    return Frame(OWN + mac + b"\x08\x06" + arp.encode(packet))


@pytest.mark.parametrize(
    ("name", "rule"),
    [
        ("", "it has 0 characters"),
        ("a" * 241, "it has 241 characters"),
        ("Island", "I is no lower-case letter"),
        ("is_land", "_ is no lower-case letter"),
        ("is land", "a space"),
        ("dryer..2", "1 to 63 characters, not 0"),
        ("a" * 64, "1 to 63 characters, not 64"),
        ("-island", "-island starts or ends with a hyphen"),
        ("dryer.island-", "island- starts or ends with a hyphen"),
        ("10.61.20.31", "it looks like an address"),
        ("port-001", "means a port"),
        ("port-001-00002.dryer", "means a port"),
    ],
)
def test_a_station_name_is_refused_with_the_rule_that_it_breaks(name, rule):
    with pytest.raises(BadInput, match="is no station name: ") as refused:
        check_station_name(name)
    assert rule in str(refused.value)


def test_names_that_devices_take():
    for name in ("io-island-1", "1", "dryer-2.io-island-1", "port-1", "a" * 63 + "." + "b" * 63):
        check_station_name(name)
    for name in ("fan-drive-1", "Fan-1.dryer"):
        check_host_name(name)
    for name in ("fan_1", "", "-fan", "f" * 65):
        with pytest.raises(BadInput):
            check_host_name(name)


def test_a_dcp_set_octet_by_octet():
    # IEC 61158-6-10: FrameID, ServiceID and -Type, Xid, reserved, length; blocks of option,
    # suboption, length, BlockQualifier 1 (for good); the name's odd octet is padded.
    sent = dcp.encode_set_request(
        OWN,
        ISLAND,
        0x51,
        (dcp.encode_ip_block(GOAL, IPv4Address("10.61.20.1")), dcp.encode_name_block("io1")),
    )
    assert sent == bytes.fromhex(
        "0277b190003d 021a407c0006 8892 fefd 04 00 00000051 0000 001c"
        "01 02 000e 0001 0a3d141f ffffff00 0a3d1401  02 02 0005 0001 696f31 00"
    ).ljust(60, b"\0")
    blink = dcp.encode_set_request(OWN, ISLAND, 1, (dcp.encode_signal_block(),))
    assert blink[24:34] == bytes.fromhex("0008 05 03 0004 0000 0100")


def answer_to(message, *errors, sender=ISLAND):
    return Frame(dcp.encode_frame(OWN, sender, dcp.set_reply(message, errors)))


def test_a_dcp_set_takes_the_answer_of_the_one_it_asked_and_asks_three_times():
    wire = Wire()
    blocks = (dcp.encode_ip_block(GOAL, None), dcp.encode_name_block("io1"))
    party = wire.join(DcpSet(OWN, ISLAND, 7, blocks))
    _, asked = dcp.parse_frame(party.packets[0].data)
    assert asked.blocks == blocks
    wire.say(answer_to(asked, 0, 0, sender=OTHER))
    wire.say(Frame(party.packets[0].data))
    wire.say(answer_to(dcp.DcpMessage(asked.frame_id, asked.service, 0, 8, 0, blocks), 0, 0))
    assert party.facts == []
    # From the standard, not from our encoder: Control/Response, which block, BlockError 6.
    told = bytes.fromhex(
        "021a407c0006 0277b190003d 8892 fefd 04 01 00000007 0000 0010"
        "05 04 0003 01 02 00 00  05 04 0003 02 02 06 00"
    )
    wire.say(Frame(told.ljust(60, b"\0")))
    assert party.facts == [SetAnswer({dcp.IP_PARAMETER: 0, dcp.STATION_NAME: 6})]
    assert "in operation (DCP block error 6)" in dcp.error_words(6)
    assert party.conversation.over
    silent_wire = Wire()
    silent = silent_wire.join(DcpSet(OWN, ISLAND, 7, blocks))
    silent_wire.pass_time(10)
    assert (len(silent.sent), silent.facts) == (3, [SetAnswer(None)])


CONFIGURATION = cip_tcpip.InterfaceConfiguration(
    OLD, IPv4Address("255.255.255.0"), UNSPECIFIED, IPv4Address("10.61.20.2"), UNSPECIFIED, b"mill"
)
BY_BOOTP = CipSettings(1, 0x15, 0x11, CONFIGURATION, b"gale7")
"""Asks by BOOTP, and name servers for names (bit 4)."""


def test_what_is_left_to_do_is_decided_by_what_was_read():
    control = cip_settings.keeping(BY_BOOTP)
    assert [change.data for change in control] == [b"\x10\0\0\0"]
    name, address, control = cip_settings.moving(BY_BOOTP, GOAL, None, "fan-1")
    assert name.data == b"\x05\0fan-1\0"
    wanted = cip_tcpip.parse_configuration(address.data)
    assert (wanted.address, wanted.gateway) == (NEW, UNSPECIFIED)
    assert (wanted.name_server, wanted.domain) == (IPv4Address("10.61.20.2"), b"mill")
    # What is done already is not done again.
    there = CipSettings(1, 0x15, 0x10, wanted, b"fan-1")
    assert cip_settings.moving(there, GOAL, None, "fan-1") == ()
    assert cip_settings.keeping(there) == ()
    assert [change.data for change in cip_settings.releasing(there)] == [b"\x11\0\0\0"]
    by_dhcp = cip_settings.releasing(there, had_by_cip(CipSettings(1, 0x15, 0x12, wanted)))
    assert [change.data for change in by_dhcp] == [b"\x12\0\0\0"]
    assert cip_settings.releasing(CipSettings(1, 0x10, 0, wanted)) == ()
    assert [
        CipSettings(status, capability, 0, wanted).cannot() is None
        for status, capability in ((1, 0x10), (1, 0), (2, 0x10))
    ] == [True, False, False]


@pytest.mark.parametrize(
    ("status", "idle"),
    [(0x0030, True), (0x0004, True), (0x0070, True), (0x0001, False), (0x0060, False)],
)
def test_a_device_that_controls_something_is_known_by_its_identity(status, idle):
    identity = cip.Identity(OLD, 44818, 1, 2, 3, 4, 5, status, 6, b"Gale 7", 3)
    assert (controls(identity) is None) is idle


def writing(changes, statuses, restart=False):
    """What a device that answers with these statuses was sent, and what was made of it."""
    wire = Wire()
    dialogue = Dialogue(cip_settings.write(changes, restart), lambda fact, now: fact)
    party = wire.join(dialogue)
    opened = cip.Encapsulation(cip_message.REGISTER_SESSION, bytes(4), 0x51)
    wire.say(StreamBytes(cip.encode(opened)))
    for status in statuses:
        response = cip_message.encode_response(cip_message.Response(0x10, status, b""))
        context = cip.parse(party.packets[-1].data).context
        wire.say(StreamBytes(cip_message.encode_unconnected(0x51, response, context)))
    wire.pass_time(5)
    asked = [cip.parse(packet.data) for packet in party.packets]
    requests = [
        cip_message.parse_request(cip_message.parse_unconnected(each))
        for each in asked
        if each.command == cip_message.SEND_RR_DATA
    ]
    return requests, party.facts


def test_changes_are_made_in_order_and_what_the_state_forbids_is_tried_again():
    name, address, control = changes = cip_settings.moving(BY_BOOTP, GOAL, None, "fan-1")
    requests, facts = writing(changes, (0, 0, 0, 0), restart=True)
    assert [each.attribute for each in requests] == [6, 5, 3, None]
    assert [each.service for each in requests] == [0x10, 0x10, 0x10, 0x05]
    assert [fact.status for fact in facts] == [0, 0, 0]
    # Under BOOTP a device may refuse an address until its control is set.
    requests, facts = writing(changes, (0, 0x0C, 0, 0))
    assert [each.attribute for each in requests] == [6, 5, 3, 5]
    assert [fact.change for fact in facts] == [name, control, address]
    # Refused for good: nothing more is asked of it; a name is no reason to stop.
    requests, facts = writing(changes, (0x14, 0x0E))
    assert [each.attribute for each in requests] == [6, 5]
    assert [str(fact) for fact in facts] == [
        "setting the host name fan-1: attribute not supported (CIP general status 0x14)",
        "setting the address 10.61.20.31/24: attribute not settable (CIP general status 0x0e)",
    ]
    _, facts = writing(changes, (0,))
    assert facts[-1] == Answered(address, None)


@given(st.lists(st.sampled_from((0, 5, 0x0C, 0x0E)), max_size=8))
def test_whatever_a_device_answers_each_change_is_asked_twice_at_most(statuses):
    changes = cip_settings.moving(BY_BOOTP, GOAL, None, "fan-1")
    requests, facts = writing(changes, statuses)
    asked = [each.attribute for each in requests]
    assert max(asked.count(attribute) for attribute in asked) <= 2
    assert len({fact.change for fact in facts}) == len(facts)


def following(elsewhere=()):
    wire = Wire()
    party = wire.join(Whereabouts(OWN, ISLAND, (NEW, OLD), elsewhere))
    return wire, party


def asks(protocol_options=b""):
    message = bootp.BootpMessage(bootp.Op.REQUEST, ISLAND, 7, vendor=protocol_options)
    datagram = udp.UdpDatagram(68, 67, bootp.encode(message))
    frame = udp.UdpFrame(ISLAND, BROADCAST, UNSPECIFIED, IPv4Address("255.255.255.255"), datagram)
    return Frame(udp.encode_frame(frame))


def test_a_device_that_moves_is_settled_once_its_old_address_is_silent():
    wire, party = following()
    device = party.conversation
    for _ in range(3):
        wire.say(says(ISLAND, OLD))
        wire.pass_time(0.5)
    assert party.facts == [At(OLD, 0.0)]
    wire.say(says(ISLAND, NEW))
    wire.say(says(ISLAND, OLD))
    for _ in range(3):
        wire.say(says(ISLAND, NEW))
        wire.pass_time(0.5)
        wire.say(says(ISLAND, OLD))
    # It answers at both: only silence at the old address makes it certain.
    assert device.settled_at(NEW, wire.now) is None
    for _ in range(5):
        wire.say(says(ISLAND, NEW))
        wire.pass_time(0.4)
    assert party.facts == [At(OLD, 0.0), At(NEW, 1.5), Left(OLD, 3.0)]
    assert device.settled_at(NEW, wire.now) == 1.5
    assert not device.is_at(OLD)


def test_the_same_mac_is_what_counts_and_what_it_says_unasked():
    wire, party = following((IPv4Address("203.0.113.1"),))
    asked = {str(IPv4Address(packet.data[38:42])) for packet in party.packets}
    assert asked == {str(NEW), str(OLD), "203.0.113.1"}
    wire.say(says(OTHER, NEW))
    wire.say(says(OTHER, NEW))
    wire.say(says(OTHER, IPv4Address("10.61.20.99")))
    wire.say(asks())
    wire.say(asks())
    assert [type(fact) for fact in party.facts] == [Other, Asks]
    assert party.conversation.asks == "BOOTP"
    wire.say(says(ISLAND, IPv4Address("10.61.20.77")))
    assert party.facts[-1].address == IPv4Address("10.61.20.77")
    assert party.conversation.last == (IPv4Address("10.61.20.77"), 0.0)


def test_arriving_is_certain_after_one_more_round_and_counts_from_its_first_word():
    wire, party = following()
    wire.say(says(ISLAND, OLD))
    wire.pass_time(1.0)
    wire.say(says(ISLAND, NEW))
    device = party.conversation
    assert device.settled_at(NEW, wire.now) is None
    wire.pass_time(0.8)
    # A second address of its own does not matter.
    wire.say(says(ISLAND, IPv4Address("10.61.20.77")))
    assert device.settled_at(NEW, wire.now) == 1.0


ASKS, GONE = Asks("BOOTP", 12.0), Left(NEW, 10.0)


@pytest.mark.parametrize(
    ("facts", "now", "judged", "words"),
    [
        ([], 99, None, "was not switched off"),
        ([At(NEW, 1.0), GONE], 99, None, "did not come back"),
        ([GONE, At(NEW, 13.0)], 14, Return.KEPT, "3.0 s after it was last heard"),
        ([GONE, At(OLD, 13.0)], 14, Return.ELSEWHERE, "back at 203.0.113.47"),
        ([GONE, ASKS], 12 + ASKING_TIME - 1, None, "asks for one by BOOTP"),
        ([GONE, ASKS], 12 + ASKING_TIME, Return.ASKING, "asks for one by BOOTP"),
        # It asks first, and takes what it holds when nobody answers.
        ([GONE, ASKS, At(NEW, 20.0)], 21, Return.KEPT, "10.0 s after"),
        # Too quick to be missed: it asks, so it has started.
        ([ASKS], 12 + ASKING_TIME, Return.ASKING, "asks for one"),
    ],
)
def test_how_a_device_comes_back(facts, now, judged, words):
    cycle = PowerCycle(NEW)
    for fact in facts:
        cycle.take(fact)
    assert cycle.judged(now) is judged
    assert words in str(cycle.finding)


def test_when_time_is_up_without_a_word_it_is_missing_or_was_never_off():
    cycle = PowerCycle(NEW)
    assert cycle.judged_at_last() is Return.NOT_OFF
    cycle.take(GONE)
    assert cycle.judged_at_last() is Return.MISSING


PIER = PlannedDevice(Name("pier-radio"), GOAL, None, place="pier mast")
SHORE = PlannedDevice(Name("shore-radio"), IPv4Interface("10.61.20.52/24"), ISLAND)
BACK = Mac(b"\x02\xd0\x11\x5c\x10\x99")
BEFORE = PlannedDevice(Name("old-radio"), IPv4Interface("10.61.20.59/24"), BACK)
ROWS = Plan((PIER, SHORE, BEFORE))
NEARLY = Mac(b"\x02\x77\xb1\x90\x00\x31")


@pytest.mark.parametrize(
    ("row", "there", "turn", "words"),
    [
        (PIER, (), Turn.CONNECT, "connect pier-radio (pier mast)"),
        (SHORE, (), Turn.CONNECT, f"connect shore-radio, {ISLAND}"),
        (PIER, (OTHER,), Turn.ASK, f"{OTHER} is there: is it pier-radio (pier mast)?"),
        (SHORE, (ISLAND,), Turn.READY, f"{ISLAND} is shore-radio"),
        (PIER, (ISLAND,), Turn.WRONG, "that is shore-radio by its MAC"),
        (SHORE, (NEARLY,), Turn.WRONG, "differs in one digit from it: check the label"),
        (SHORE, (OWN,), Turn.WRONG, "that is pump again, done before: connect shore-radio"),
        (PIER, (OTHER, ISLAND), Turn.ASK, f"{OTHER} is there, one of 2 at once: is it pier-radio"),
        (SHORE, (OTHER, ISLAND), Turn.READY, f"{ISLAND} is shore-radio"),
        (PIER, (OWN, ISLAND), Turn.WRONG, "that is pump again"),
        (PIER, (BACK,), Turn.READY, f"{BACK} is old-radio, moved before and back at its start"),
    ],
)
def test_whose_turn_it_is(row, there, turn, words):
    called = call(
        row, frozenset(there), Progress(ROWS, (row.name,), {OWN: "pump", BACK: "old-radio"})
    )
    assert called.turn is turn
    assert words in called.sentence
    assert (called.mac is not None) is (turn in (Turn.READY, Turn.ASK))
    assert set(called.others) == (set(there) - {called.mac} if called.mac else set())


def test_a_device_that_the_plan_knows_goes_first_and_another_one_can_be_meant():
    both = Progress(ROWS, ("pier-radio", "shore-radio"))
    assert call(PIER, frozenset((OTHER, ISLAND)), both).name == "shore-radio"
    there = frozenset((OTHER, NEARLY))
    first = call(PIER, there, both)
    second = call(PIER, there, replace(both, passed=(first.mac,)))
    assert {first.mac, second.mac} == there


def test_who_is_at_the_start_is_told_once_it_has_been_so_for_a_second():
    wire = Wire()
    party = wire.join(Occupants(OWN, OLD))
    wire.pass_time(1.6)
    assert party.facts == [frozenset()]
    wire.say(says(ISLAND, OLD))
    wire.pass_time(0.5)
    wire.say(says(ISLAND, OLD))
    wire.say(says(OTHER, OLD))
    wire.pass_time(0.5)
    for _ in range(4):
        wire.say(says(ISLAND, OLD))
        wire.say(says(OTHER, OLD))
        wire.say(says(NEARLY, NEW))
        wire.pass_time(0.5)
    # Never one of two alone.
    assert party.facts == [frozenset(), frozenset((ISLAND, OTHER))]
    for _ in range(8):
        wire.say(says(OTHER, OLD))
        wire.pass_time(0.5)
    assert party.facts[-1] == frozenset((OTHER,))
