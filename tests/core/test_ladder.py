"""The ladder: what each rung's evidence means, and what it does not decide."""

from dataclasses import replace
from ipaddress import IPv4Address, IPv4Interface, IPv4Network
from random import Random

import pytest
from drive import alone
from hypothesis import given
from hypothesis import strategies as st

from portcall.core.adapters.adapter import (
    Adapter,
    AdapterAddress,
    AdapterKind,
    Origin,
    Route,
    choose_for,
)
from portcall.core.adapters.way_out import WayOut
from portcall.core.address import parse_mac
from portcall.core.find.device import Asking, Device
from portcall.core.find.sighting import Method
from portcall.core.finding import Line, Name
from portcall.core.plan.rows import Plan, PlannedDevice
from portcall.core.reach.echo_facts import Undelivered
from portcall.core.talk.conversation import Frame
from portcall.core.talk.door_knock import DoorState
from portcall.core.talk.request import AddressProtocol
from portcall.core.trouble import NotPossibleHere
from portcall.core.why import below, echo_series, neighbour, open_doors, proxies, way_back
from portcall.core.why.evidence import (
    EchoSeen,
    FromInside,
    LinkSeen,
    Situation,
    Sought,
    Trial,
    WireSeen,
    WordSeen,
    lost_by_chance,
)
from portcall.core.why.frames_seen import FramesSeen
from portcall.core.why.ladder import Cause, Diagnosis, Goal, Rung, Verdict, not_asked
from portcall.core.why.tasting import is_spoken
from portcall.core.why.who_has import WhoHas
from portcall.core.wire import arp, cip, ethernet, icmp, ipv4, modbus
from portcall.core.wire.ethernet import EtherType

OWN, PLC, ROUTER = (IPv4Address(f"10.61.20.{n}") for n in (200, 10, 1))
OWN_MAC, PLC_MAC, OTHER = (
    parse_mac(text) for text in ("02-1A-40-7C-00-06", "02-5A-1D-20-7F-10", "02-60-D1-00-1D-01")
)
FAR = IPv4Address("10.61.30.10")
USB0 = Adapter(
    "usb0",
    3,
    AdapterKind.WIRED,
    OWN_MAC,
    True,
    True,
    1500,
    1000,
    True,
    (AdapterAddress(IPv4Interface("10.61.20.200/24"), Origin.STATIC),),
    (Route(IPv4Network("10.61.20.0/24"), 3, None, True),),
)
LAN0 = replace(
    USB0,
    name="lan0",
    index=2,
    addresses=(AdapterAddress(IPv4Interface("198.51.100.77/24"), Origin.STATIC),),
    routes=(Route(IPv4Network("0.0.0.0/0"), 2, IPv4Address("198.51.100.1")),),
)
TUNNEL = replace(LAN0, name="vpn0", index=9, kind=AdapterKind.TUNNEL, mac=None, routes=())
ROW = PlannedDevice(Name("dryer-plc"), IPv4Interface("10.61.20.10/24"), PLC_MAC)
PLAN = Plan((ROW,))
GOAL, FAR_GOAL = Goal(PLC, Name("dryer-plc")), Goal(FAR, Name(str(FAR)))
HERE = Situation(USB0, (LAN0, USB0, TUNNEL), WayOut("usb0", OWN), PLAN, ROW)
ROUTED = replace(HERE, way=WayOut("usb0", OWN, ROUTER), row=None)
ANSWERED = WireSeen({PLC: [PLC_MAC]})
SILENT = WireSeen({})


def cause(step):
    assert step.verdict is Verdict.BROKEN
    assert step.conclusion is not None
    return step.conclusion.cause


def test_a_link_that_comes_and_goes_is_not_one_that_is_out_and_old_losses_are_no_fault():
    assert cause(below.judge_link(LinkSeen(replace(USB0, link=False)))) is Cause.NO_LINK
    off = below.judge_link(LinkSeen(replace(USB0, up=False, link=False)))
    assert cause(off) is Cause.NO_LINK
    assert [str(each) for each in off.conclusion.do] == ["ip link set usb0 up"]
    assert cause(below.judge_link(LinkSeen(USB0, 1, 0.8))) is Cause.FLAPPING
    healthy = below.judge_link(LinkSeen(USB0, 0, 0.0, 40, 7))
    assert healthy.verdict is Verdict.HOLDS
    assert "lost 40 times before" in healthy.evidence
    assert "7 frames received with errors" in healthy.evidence


def own(adapter=USB0, wire=SILENT, goal=GOAL, **changes):
    return below.judge_own_address(goal, replace(HERE, adapter=adapter, **changes), wire)


def test_the_own_address_is_there_alone_and_in_the_subnet_or_a_router_is():
    assert own(wire=ANSWERED).verdict is Verdict.HOLDS
    assert cause(own(replace(USB0, addresses=()))) is Cause.NO_ADDRESS
    taken = own(wire=WireSeen({OWN: [OTHER]}))
    assert cause(taken) is Cause.OWN_ADDRESS_TAKEN
    assert str(OTHER) in taken.conclusion.sentence
    beside = replace(LAN0, mac=parse_mac("02-1A-40-7C-00-05"))
    flux = own(wire=WireSeen({OWN: [beside.mac]}), adapters=(beside, USB0))
    assert flux.verdict is Verdict.HOLDS
    # Its own MAC is nobody else's, and what was not asked is not said to be alone.
    assert own(wire=WireSeen({OWN: [OWN_MAC]})).verdict is Verdict.HOLDS
    assert "whether it is alone was not asked" in own(wire=WireSeen(None)).evidence
    other = replace(
        USB0, addresses=(AdapterAddress(IPv4Interface("192.0.2.7/24"), Origin.STATIC),), routes=()
    )
    by_lan0 = WayOut("lan0", IPv4Address("198.51.100.77"), IPv4Address("198.51.100.1"))
    assert cause(own(other, ANSWERED, way=by_lan0)) is Cause.OTHER_SUBNET
    assert cause(own(other, SILENT, way=by_lan0)) is Cause.NO_ROUTER
    assert own(wire=SILENT, goal=FAR_GOAL, way=ROUTED.way).verdict is Verdict.HOLDS


def test_another_way_out_is_named_with_what_makes_it():
    def out(way, adapters=HERE.adapters):
        return below.judge_way_out(GOAL, replace(HERE, way=way, adapters=adapters), ANSWERED)

    assert out(HERE.way).verdict is Verdict.HOLDS
    tunnel = replace(TUNNEL, routes=(Route(IPv4Network("10.61.20.0/25"), 9),))
    through = out(WayOut("vpn0"), (USB0, tunnel))
    assert cause(through) is Cause.ROUTE_ELSEWHERE
    assert "by the tunnel vpn0 (the route to 10.61.20.0/25)" in through.evidence
    overlap = replace(LAN0, addresses=USB0.addresses)
    assert "its own address 10.61.20.200/24" in out(WayOut("lan0"), (USB0, overlap)).evidence
    assert "a rule or another routing table" in out(WayOut("lan0")).evidence
    forbidden = out(WayOut(refused="permission denied"))
    assert (cause(forbidden), "permission denied" in forbidden.evidence) == (
        Cause.ROUTE_ELSEWHERE,
        True,
    )


def test_who_answers_arp_is_the_planned_device_another_one_or_several():
    assert neighbour.judge_neighbour(GOAL, HERE, ANSWERED).verdict is Verdict.HOLDS
    assert neighbour.judge_neighbour(GOAL, HERE, SILENT) is None
    assert neighbour.judge_neighbour(GOAL, HERE, WireSeen(None)).verdict is Verdict.NOT_ASKED
    slip = parse_mac("02-5A-1D-20-7F-16")
    wrong = neighbour.judge_neighbour(GOAL, HERE, WireSeen({PLC: [slip]}))
    assert cause(wrong) is Cause.WRONG_DEVICE
    assert "differs in one digit from the planned" in wrong.conclusion.sentence
    crowd = [parse_mac(f"02-60-D1-00-1D-{n:02X}") for n in range(16)]
    shared = neighbour.judge_neighbour(GOAL, HERE, WireSeen({PLC: crowd}))
    assert cause(shared) is Cause.ADDRESS_SHARED
    assert shared.conclusion.sentence.startswith("At least 16 devices have the address")
    assert "and 13 more" in shared.conclusion.sentence
    # A row without a MAC is anybody's.
    unnamed = replace(HERE, row=replace(ROW, mac=None))
    assert neighbour.judge_neighbour(GOAL, unnamed, WireSeen({PLC: [OTHER]})).verdict == "holds"


def nobody(*devices, here=HERE, goal=GOAL, wire=SILENT):
    return neighbour.judge_nobody(goal, here, Sought(devices, 2.0), wire)


def test_a_device_that_does_not_answer_is_found_where_it_is_instead():
    neighbour_at = Device(OTHER, (IPv4Address("10.61.20.21"),))
    asks = Asking(AddressProtocol.BOOTP, 2, 0.0, 2.0)
    moved = nobody(Device(PLC_MAC, (IPv4Address("203.0.113.47"),)), neighbour_at)
    assert cause(moved) is Cause.MOVED
    assert moved.conclusion.sentence == "dryer-plc is at 203.0.113.47, not at 10.61.20.10."
    assert cause(nobody(Device(PLC_MAC, asks=(asks,)))) is Cause.ASKING
    assert cause(nobody(Device(PLC_MAC, methods=(Method.DCP,)))) is Cause.UNSET
    gone = nobody(neighbour_at)
    assert cause(gone) is Cause.NOBODY_THERE
    assert "cable and this computer are fine" in gone.conclusion.sentence
    assert "nor anybody else in that subnet" in nobody().conclusion.sentence
    # One that answers a moment later is there.
    assert nobody(Device(PLC_MAC, (PLC,))).verdict is Verdict.HOLDS
    assert cause(nobody(neighbour_at, here=ROUTED, goal=FAR_GOAL)) is Cause.ROUTER_SILENT


def test_who_answers_for_everybody_is_nobodys_rival():
    decoys = [IPv4Address("10.61.20.254"), IPv4Address("10.61.20.253")]
    everybody = {PLC: [OTHER, PLC_MAC], OWN: [OTHER], **{decoy: [OTHER] for decoy in decoys}}
    wire = WireSeen(everybody).without_those_for_all(decoys)
    assert own(wire=wire).verdict is Verdict.HOLDS
    there = neighbour.judge_neighbour(GOAL, HERE, wire)
    assert there.verdict is Verdict.HOLDS
    assert f"{OTHER} answers for everybody here (proxy ARP)" in there.evidence
    gone = WireSeen({**everybody, PLC: [OTHER]}).without_those_for_all(decoys)
    assert neighbour.judge_neighbour(GOAL, HERE, gone) is None
    proxy = Device(OTHER, tuple(everybody))
    assert "nor anybody else" in nobody(proxy, wire=gone).conclusion.sentence
    # One decoy that a device has by chance makes it no such router.
    chance = WireSeen({**everybody, decoys[0]: [PLC_MAC]}).without_those_for_all(decoys)
    assert cause(neighbour.judge_neighbour(GOAL, HERE, chance)) is Cause.ADDRESS_SHARED


def test_what_the_kernel_alone_knows_is_said_to_be_that():
    kernel = WireSeen({PLC: [PLC_MAC]}, by_kernel=True)
    there = neighbour.judge_neighbour(GOAL, HERE, kernel)
    assert "as planned, by this computer's own ARP table" in there.evidence
    assert "answers" not in there.evidence
    assert "whether it is alone was not asked" in own(wire=kernel).evidence
    gone = neighbour.judge_nobody(GOAL, HERE, Sought(None), WireSeen({}, by_kernel=True))
    assert cause(gone) is Cause.NOBODY_THERE
    assert "was not asked: run this with sudo" in gone.conclusion.sentence
    assert "nobody else" not in gone.evidence
    silent = way_back.judge_way_back(GOAL, HERE, Trial(4), FromInside())
    assert (
        silent.conclusion.cause,
        silent.conclusion.do[0] == Line("why", GOAL.name, as_root=True),
    ) == (None, True)


def back(trial, here=HERE, inside=None, goal=GOAL):
    return way_back.judge_way_back(goal, here, trial, inside)


def test_answers_that_no_program_gets_are_the_workstations_own_filters():
    assert back(Trial(4, 1)).verdict is Verdict.HOLDS
    assert back(Trial(4, doors={80: DoorState.REFUSED})).verdict is Verdict.HOLDS
    assert cause(back(Trial(4, refused="the firewall forbids it"))) is Cause.FIREWALL_OUT
    assert cause(back(Trial(4, seen_out=0, seen_in=0))) is Cause.FIREWALL_OUT
    assert cause(back(Trial(4, seen_out=4, seen_in=3))) is Cause.FIREWALL_IN
    strict = frozenset({"lan0"})
    elsewhere = Trial(4, seen_out=4, seen_in=0, elsewhere={"lan0": 4}, strict=strict)
    assert cause(back(elsewhere)) is Cause.RETURN_FILTERED
    loose = back(replace(elsewhere, strict=frozenset()))
    assert (cause(loose), loose.conclusion.between[0]) == (None, Cause.RETURN_FILTERED)
    filtered = Trial(4, seen_out=4, seen_in=3, strict=frozenset({"usb0"}))
    asymmetric = replace(HERE, way=WayOut("lan0"))
    assert cause(back(filtered, asymmetric)) is Cause.RETURN_FILTERED


def test_a_mask_is_named_when_the_device_says_so_and_not_because_it_answers_nearer_by():
    silent = Trial(4, seen_out=4, seen_in=0)
    assert back(silent) is None
    near = IPv4Address("10.61.20.9")
    narrow = IPv4Address("255.255.255.240")
    step = back(silent, inside=FromInside(near, True, narrow, "CIP"))
    assert cause(step) is Cause.MASK
    assert str(near) in step.evidence
    # An access list, or an old MAC in the device's table, look the same without that.
    step = back(silent, inside=FromInside(near, True))
    assert (cause(step), Cause.MASK in step.conclusion.between) == (None, True)
    assert str(near) in step.evidence
    assert not any(isinstance(each, Line) for each in step.conclusion.do)
    wide = back(silent, inside=FromInside(near, True, IPv4Address("255.255.255.0"), "CIP"))
    assert (cause(wide), Cause.MASK in wide.conclusion.between) == (None, False)
    # What is no mask tells nothing, and is no traceback.
    for nonsense in ("255.0.255.0", "0.0.0.255"):
        step = back(silent, inside=FromInside(near, True, IPv4Address(nonsense)))
        assert (cause(step), Cause.MASK in step.conclusion.between) == (None, True)
        assert cause(back(silent, inside=FromInside(near, False, IPv4Address(nonsense)))) is None
    # Its mask is right, and it answers nobody: that is not decided.
    for inside in (FromInside(near, False), FromInside(near, False, IPv4Address("255.255.255.0"))):
        step = back(silent, inside=inside)
        assert (step.verdict, step.conclusion.cause) == (Verdict.BROKEN, None)
        assert Cause.MASK in step.conclusion.between


def test_an_error_is_believed_only_of_somebody_who_can_know():
    router_says = Trial(4, seen_out=4, errors=[Undelivered(ROUTER, "network unreachable")])
    assert cause(back(router_says, ROUTED, goal=FAR_GOAL)) is Cause.STOPS_AT_HOP
    nobody_says = Trial(4, seen_out=4, errors=[Undelivered(ROUTER, "host unreachable")])
    assert cause(back(nobody_says, ROUTED, goal=FAR_GOAL)) is Cause.NOBODY_THERE
    # Between two on one wire nobody passes anything on.
    liar = Trial(
        4, seen_out=4, errors=[Undelivered(IPv4Address("10.61.20.66"), "host unreachable")]
    )
    assert cause(back(liar, inside=FromInside())) is None
    # It hides nothing either: the mask is found all the same, and a router's word counts more.
    near = FromInside(IPv4Address("10.61.20.9"), True, IPv4Address("255.255.255.240"), "CIP")
    assert cause(back(liar, inside=near)) is Cause.MASK
    filtered = Trial(
        4, seen_out=4, errors=[Undelivered(ROUTER, "host administratively prohibited")]
    )
    assert cause(back(filtered, ROUTED, goal=FAR_GOAL)) is None
    both = replace(liar, errors=[*router_says.errors, *liar.errors])
    assert cause(back(both, ROUTED, goal=FAR_GOAL)) is Cause.STOPS_AT_HOP
    assert back(both, ROUTED, goal=FAR_GOAL).conclusion.sentence.startswith(
        "The way to 10.61.30.10 ends at 10.61.20.1:"
    )
    assert back(replace(liar, answered=1)).verdict is Verdict.HOLDS
    silent = back(Trial(4, seen_out=4, seen_in=0), ROUTED, goal=FAR_GOAL)
    assert silent.conclusion.cause is None
    assert silent.conclusion.do[0].lines == (Line("trace", FAR),)


def echo(seen, **trial):
    return echo_series.judge_echo(GOAL, HERE, Trial(4, **trial), seen)


def test_echoes_that_are_lost_are_counted_and_one_is_chance():
    times = [0.001] * 30
    healthy = EchoSeen(30, 30, times, 64, 3, 3, 1500)
    assert echo(healthy, answered=1).verdict is Verdict.HOLDS
    assert echo(replace(healthy, sent=60, received=59), answered=1).verdict is Verdict.HOLDS
    lossy = echo(EchoSeen(30, 25, times, 64), answered=1)
    assert (cause(lossy), lossy.passable) == (Cause.LOSSY, True)
    short_only = replace(healthy, large_received=0, passed=1002)
    large = echo(replace(short_only, full_taken=False), answered=1)
    assert cause(large) is Cause.LARGE_LOST
    # Who says how long a packet may be is heeded by programs; who takes long segments takes them.
    told = replace(short_only, mtu_told=Undelivered(ROUTER, "fragmentation needed", mtu=1000))
    assert echo(told, answered=1).verdict is Verdict.HOLDS
    assert cause(echo(replace(short_only, full_taken=True), answered=1)) is None
    assert "up to 1002 octets pass" in large.evidence
    ignored = echo(None, doors={80: DoorState.OPEN})
    assert (cause(ignored), ignored.passable) == (Cause.PING_IGNORED, True)
    assert cause(echo(None, doors={80: DoorState.OPEN}, echoes_in=3)) is Cause.FIREWALL_IN


def door(trial, port=44818):
    goal = replace(GOAL, port=port, door_name="CIP") if port else GOAL
    return open_doors.judge_door(goal, HERE, trial, {44818: "CIP"})


def test_a_door_is_open_refused_silent_or_kept_from_us_by_our_own_filter():
    assert door(Trial(doors={44818: DoorState.OPEN})).verdict is Verdict.HOLDS
    assert cause(door(Trial(doors={44818: DoorState.REFUSED}))) is Cause.DOOR_CLOSED
    silent = Trial(4, 1, doors={44818: DoorState.SILENT}, seen_out=9, ports_out={44818})
    assert cause(door(silent)) is Cause.DOOR_SILENT
    assert cause(door(replace(silent, ports_out=set()))) is Cause.FIREWALL_OUT
    assert cause(door(replace(silent, ports_in={44818}))) is Cause.FIREWALL_IN
    assert door(Trial(doors={80: DoorState.REFUSED}), None).verdict is Verdict.NOT_ASKED
    # What the record saw open, and does not open now, is no fault that is passed over.
    was = {44818: "2026-11-30 10:00", 80: "2026-11-30 10:00"}
    now = Trial(doors={44818: DoorState.SILENT, 80: DoorState.OPEN})
    since = open_doors.judge_door(GOAL, HERE, now, {44818: "CIP"}, was)
    assert (since.conclusion.cause, since.passable) == (None, True)
    assert since.conclusion.do == (Line("why", GOAL.name, 44818),)
    assert "CIP (port 44818) was open on 2026-11-30 10:00, and is silent now" in since.evidence
    assert door(Trial(doors={44818: DoorState.OPEN}), None).evidence == "open: CIP 44818"


def test_what_does_not_speak_as_it_should_is_shown_and_silence_is_not_decided():
    goal = replace(GOAL, port=44818, door_name="CIP")
    otherwise = open_doors.judge_word(
        goal, HERE, [WordSeen(44818, "CIP", True, raw=b"220 \x1b[2Jhello")]
    )
    assert cause(otherwise) is Cause.SPEAKS_OTHERWISE
    assert '"220 [2Jhello"' in otherwise.evidence
    mute = open_doors.judge_word(goal, HERE, [WordSeen(44818, "CIP", True, silent=2.1)])
    assert (mute.conclusion.cause, "says nothing for 2.1 s" in mute.evidence) == (None, True)
    # A gateway is silent to units that it does not have: nothing is wrong with that.
    gateway = [WordSeen(502, "Modbus", True, silent=2.1)]
    assert open_doors.judge_word(GOAL, HERE, gateway).verdict is Verdict.NOT_ASKED
    asked = open_doors.judge_word(replace(GOAL, port=502, door_name="Modbus"), HERE, gateway)
    assert (asked.conclusion.cause, "as with a gateway" in asked.conclusion.sentence) == (
        None,
        True,
    )
    unknown = open_doors.judge_word(
        replace(GOAL, port=9), HERE, [WordSeen(9, "port 9", False, raw=b"hi")]
    )
    assert unknown.verdict is Verdict.NOT_ASKED
    both = [WordSeen(80, "web", True, raw=b"??"), WordSeen(44818, "CIP", True, "Skerry 40")]
    assert open_doors.judge_word(GOAL, HERE, both).verdict is Verdict.HOLDS
    wide = WordSeen(44818, "CIP", True, "Skerry 40", mask=IPv4Address("255.255.0.0"))
    told = open_doors.judge_word(goal, HERE, [wide])
    assert told.verdict is Verdict.HOLDS
    assert told.evidence.endswith("its mask is 255.255.0.0, planned is 255.255.255.0")
    message = modbus.encode(modbus.ModbusMessage(1, 1, b"\xab\x01"))
    assert is_spoken(modbus.PORT, message)
    assert is_spoken(cip.PORT, cip.encode_list_identity())
    assert is_spoken(443, b"\x15\x03\x01")
    assert not any(is_spoken(port, b"220 hello\r\n") for port in (44818, 502, 4840, 80, 443, 22))


def test_a_proxy_is_one_that_is_set_for_this_address():
    proxy = {"http_proxy": "http://198.51.100.1:3128"}
    assert proxies.proxies_for(PLC, proxy) == [("http_proxy", "http://198.51.100.1:3128")]
    for spared in ("10.61.20.10", "localhost, 10.61.0.0/16", "*"):
        assert proxies.proxies_for(PLC, {**proxy, "NO_PROXY": spared}) == []
    assert proxies.proxies_for(PLC, {**proxy, "no_proxy": "10.61.20.1,x/y"})
    broken = proxies.judge_programs(GOAL, list(proxy.items()), [80])
    assert cause(broken) is Cause.PROXY
    assert proxies.judge_programs(GOAL, list(proxy.items()), []).verdict is Verdict.HOLDS
    # Each kind of page has a variable of its own.
    secure = [("https_proxy", "http://198.51.100.1:3128")]
    assert proxies.judge_programs(GOAL, secure, [80]).verdict is Verdict.HOLDS
    assert cause(proxies.judge_programs(GOAL, secure, [80, 443])) is Cause.PROXY


def test_of_two_faults_the_lower_is_the_cause_and_the_other_is_told_too():
    lossy = echo(EchoSeen(30, 20, [0.001] * 20, 64), answered=1)
    closed = door(Trial(doors={44818: DoorState.REFUSED}))
    way = way_back.judge_way_back(GOAL, HERE, Trial(4, 1))
    both = Diagnosis(GOAL, "usb0", (way, lossy, closed, not_asked(Rung.WORD)))
    assert (both.conclusion.cause, both.conclusions[1].cause) == (Cause.LOSSY, Cause.DOOR_CLOSED)
    assert not both.reachable
    assert Diagnosis(GOAL, "usb0", (way, lossy)).reachable


def test_the_adapter_is_the_one_in_the_subnet_also_without_link_and_no_tunnel():
    out = replace(USB0, link=False)
    assert choose_for((LAN0, out, TUNNEL), None, PLC, "vpn0") is out
    via = replace(USB0, routes=(*USB0.routes, Route(IPv4Network("10.61.30.0/24"), 3, ROUTER)))
    assert choose_for((LAN0, via), None, FAR, "lan0") is via
    assert choose_for((LAN0, replace(USB0, addresses=())), None, FAR, "lan0").name == "usb0"
    assert choose_for((LAN0,), None, FAR, "lan0") is LAN0
    with pytest.raises(NotPossibleHere, match="no adapter is called 'x'"):
        choose_for((LAN0, USB0), "x", PLC, "usb0")


def reply(mac, address):
    said = arp.Arp(arp.Operation.REPLY, mac, address, OWN_MAC, OWN)
    return Frame(
        ethernet.encode(ethernet.EthernetFrame(OWN_MAC, mac, EtherType.ARP, arp.encode(said)))
    )


def test_arp_is_asked_again_only_of_the_silent_and_rivals_are_few_however_many_answer():
    wire, party = alone(WhoHas(OWN_MAC, {PLC: OWN, OWN: IPv4Address(0)}, patience=0.5))
    for n in range(40):
        wire.say(reply(parse_mac(f"02-60-D1-00-1D-{n:02X}"), PLC))
    wire.say(reply(OWN_MAC, OWN))
    wire.say(reply(OTHER, IPv4Address("10.61.20.77")))
    wire.pass_time(1)
    conversation = party.conversation
    assert conversation.over
    assert len(conversation.answers[PLC]) == 16
    assert OWN not in conversation.answers
    assert list(conversation.overheard) == [IPv4Address("10.61.20.77")]
    asked = [arp.parse_frame(packet.data).target_address for packet in party.packets]
    assert asked.count(PLC) == 2
    assert asked.count(OWN) == 4


def test_frames_are_counted_by_their_direction_and_what_is_cut_is_nothing():
    seen = FramesSeen(OWN_MAC, PLC, 1)

    def frame(source_mac, source, destination, protocol, payload, to=None):
        packet = ipv4.encode(ipv4.Ipv4Packet(source, destination, protocol, payload))
        to = to or (PLC_MAC if source_mac == OWN_MAC else OWN_MAC)
        whole = ethernet.EthernetFrame(to, source_mac, EtherType.IPV4, packet)
        return Frame(ethernet.encode(whole))

    segment = (
        (44818).to_bytes(2, "big") + (50000).to_bytes(2, "big") + bytes(9) + b"\x12" + bytes(6)
    )
    data = segment[:13] + b"\x18" + segment[14:]
    back_again = icmp.encode_echo(icmp.Echo(True, 1, 1, b""))
    request = icmp.encode_echo(icmp.Echo(False, 1, 1, b""))
    for each in (
        frame(OWN_MAC, OWN, PLC, 6, segment[2:4] + segment[:2] + segment[4:]),
        frame(PLC_MAC, PLC, OWN, 6, segment),
        frame(PLC_MAC, PLC, OWN, 1, back_again),
        # What it says to another program here, and what it asks itself, is no answer.
        frame(PLC_MAC, PLC, OWN, 6, data),
        frame(PLC_MAC, PLC, OWN, 1, request),
        frame(OTHER, IPv4Address("10.61.20.99"), OWN, 6, segment),
        # Nor what it answers to others, which a mirror port shows, or a stale MAC; nor the echoes
        # of another program, nor what came damaged.
        frame(PLC_MAC, PLC, OWN, 1, back_again, to=OTHER),
        frame(PLC_MAC, PLC, OWN, 6, segment, to=OTHER),
        frame(PLC_MAC, PLC, OWN, 1, icmp.encode_echo(icmp.Echo(True, 2, 1, b""))),
        frame(PLC_MAC, PLC, OWN, 1, back_again[:-1] + b"\7"),
    ):
        list(seen.heard(each, 0.0))
        for length in range(0, 40, 7):
            list(seen.heard(Frame(each.data[:length]), 0.0))
    assert (seen.out, seen.came, seen.echoes) == (1, 2, 1)
    assert (seen.ports_out, seen.ports_in) == ({44818}, {44818})


@given(st.integers(2, 20), st.integers(0, 5), st.integers(30, 60))
def test_what_a_device_counts_is_not_lost_by_chance(every, first, sent):
    """One of so many, or the first few and then one of so many."""
    counted = [n for n in range(first, sent) if (n - first) % every == 0]
    assert not lost_by_chance(counted, sent)
    burst = [*range(10), *(n for n in range(11, sent) if n % every == 0)]
    assert not lost_by_chance(burst, sent)
    windows = [n for n in range(sent) if n % 33 < 10]
    assert not lost_by_chance(windows, sent)


@pytest.mark.parametrize("percent", [15, 25, 50])
def test_what_a_bad_connection_loses_is_mostly_seen_to_be_chance(percent):
    random = Random(percent)
    series = [[n for n in range(30) if random.randrange(100) >= percent] for _ in range(200)]
    seen = [lost_by_chance(came, 30) for came in series if 2 <= 30 - len(came) < 30]
    assert sum(seen) > len(seen) * 0.9
