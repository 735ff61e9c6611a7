"""Every sentence that ``why`` says: the evidence of each rung, what is concluded, what to do."""

from __future__ import annotations

from portcall.core import system_words
from portcall.core.finding import Sentence
from portcall.core.system_words import BySystem


def advice(template: str | BySystem) -> Sentence:
    """Something to do, by hand or by a line to type; it has no code of its own."""
    return Sentence("", template)


# The link.
ADAPTER_GONE = Sentence("adapter-gone", "{adapter} is gone from this computer")
ADAPTER_OFF = Sentence("adapter-off", "{adapter} is switched off on this computer")
LINK_LOST = Sentence("link-lost", "{adapter} lost its link {losses:times} within {watched:.1f} s")
LINK_OUT = Sentence(
    "link-out",
    "{adapter} has no link[, watched for {watched:.1f} s][, lost {losses_before} times before]",
)
LINK_UP = Sentence(
    "link-up",
    "{adapter} has link[ since a moment, after {watched:.1f} s][, {speed}]"
    "[, lost {losses_before} times before][, {errors} frames received with errors]",
)
IS_GONE = Sentence(
    "is-gone", "This computer has no adapter {adapter} any more: pulled out, or renamed"
)
IS_OFF = Sentence("is-off", "{adapter} is switched off in this computer's settings")
COMES_AND_GOES = Sentence(
    "comes-and-goes",
    "The link of {adapter} comes and goes: {losses:times} lost within {watched:.1f} s",
)
HAS_NO_LINK = Sentence(
    "has-no-link", "{adapter} has no link: no cable, or nothing with power at its other end"
)
PLUG_IN_AGAIN = advice("plug it in again")
SWITCH_ON = advice(system_words.SWITCH_ON)
OTHER_CABLE = advice("try another cable, then another port at the far end")
FAR_END_RESTARTS = advice("look whether the device or switch at the far end restarts")
CABLE_AT_BOTH_ENDS = advice("check that the cable is in at both ends")
PLUG_HOME = advice("push each plug until it clicks; for a fibre, exchange its two plugs at one end")
OTHER_END_ON = advice(
    "look whether the port at the other end is switched on, and whether old equipment needs a "
    "crossed cable"
)
POWER_AT_OTHER_END = advice("check that the device or switch at the other end has power")

# This computer's own address.
NO_OWN_ADDRESS = Sentence(
    "no-own-address",
    "{adapter} has no address[answered?; {address} answers ARP on this wire]"
    "[; heard here: {heard}]",
)
HEARD = Sentence("", "{network} by {count}")
OWN_ANSWERED = Sentence(
    "own-answered", "{own}, this computer's own address, is answered by {rivals:and}"
)
OWN_IN_SUBNET = Sentence(
    "own-in-subnet",
    "{own} on {adapter}, {address} is in it; "
    "[alone?nobody else answers for it][alone!whether it is alone was not asked]",
)
OWN_AND_ROUTE = Sentence(
    "own-and-route",
    "{own} on {adapter}, and [router {router}][router!a route of its own] to {address}",
)
OWN_OUTSIDE = Sentence(
    "own-outside",
    "{adapter} has [self_assigned?self-assigned, ]{own}; {address} is not in it; {address} answers "
    "ARP on this wire",
)
OWN_WITHOUT_ROUTE = Sentence(
    "own-without-route",
    "{adapter} has [self_assigned?self-assigned, ]{own}; {address} is not in it"
    "[silent? and nobody answers ARP for it here]; no router is set on {adapter}"
    "[, {way} is its way there][way_silent?, and nothing answers by it]",
)
NOTHING_CAN_BE_SENT = Sentence(
    "nothing-can-be-sent", "{adapter} has no address: nothing can be sent from it by IPv4"
)
OWN_TAKEN = Sentence(
    "own-taken",
    "{rivals:and} has this computer's own address {own}, too: answers go to whoever of the two "
    "spoke last",
)
IN_ANOTHER_SUBNET = Sentence(
    "in-another-subnet",
    "This computer is in {own:and}, {goal} is in another subnet, {network}, on the same wire",
)
NO_ROUTER_SET = Sentence(
    "no-router-set",
    "{address} is in another subnet than {adapter}, and no router is set on {adapter} that leads "
    "there",
)
TAKE_ANOTHER = advice("take another one for this computer: {match}")
BACK_AFTERWARDS = advice("and back, when that device is gone: {restore}")
IF_ON_THIS_WIRE = advice("if it is on this wire: {match}")
OR_BY_DHCP = advice("or have an address that {server} hands out here: {match}")
IF_BEHIND_ROUTER = advice(
    BySystem(
        "if it is behind a router: ip route add {network} via ROUTER dev {adapter}",
        "if it is behind a router: netsh interface ipv4 add route {network} "
        '"{adapter}" ROUTER store=active',
    )
)

# The way out.
NO_WAY = Sentence("no-way", 'asked for its way to {meant}, this computer says "{refused}"')
KEPT_LOCAL = Sentence(
    "kept-local",
    "this computer takes {address} for itself, and no adapter has that address",
)
WAY_OUT = Sentence("way-out", "{adapter}[ by router {router}][router! directly][, from {source}]")
LEAVES_ELSEWHERE = Sentence(
    "leaves-elsewhere",
    "{address} leaves by the {kind} {way} ({because}), not by {adapter}"
    "[answered?, though it answers ARP on {adapter}]",
)
BY_OWN_ADDRESS = Sentence("", "its own address {overlap}")
BY_ROUTE = Sentence("", "the route to {route}")
BY_RULE = Sentence("", "a rule or another routing table")
IS_FORBIDDEN = Sentence(
    "is-forbidden", 'A route or rule of this computer forbids {meant}: "{refused}"'
)
KEEPS_TO_ITSELF = Sentence(
    "keeps-to-itself",
    "A local route of this computer keeps what is meant for {goal} to itself",
)
CARRIED_ELSEWHERE = Sentence(
    "carried-elsewhere", "The {kind} {way} carries what is meant for {goal}, because of {because}"
)
LOOK_AT_ROUTES = advice(
    BySystem("look for it: ip rule; ip route show table all", "look for it: route print -4")
)
LOOK_AT_LOCAL_ROUTES = advice(
    BySystem(
        "look for it: ip route show table all type local; for that address: {address}",
        "look for it: route print -4; for that address: {address}",
    )
)
SEND_BY_ADAPTER = advice(
    BySystem(
        "send what is for {address} alone by {adapter}: ip route add {address} dev {adapter}; "
        "and back: ip route del {address} dev {adapter}",
        "send what is for {address} alone by {adapter}: netsh interface ipv4 add route "
        '{address}/32 "{adapter}" store=active; '
        'and back: netsh interface ipv4 delete route {address}/32 "{adapter}" store=active',
    )
)
LEAVE_OUT_OF_TUNNEL = advice("or have the tunnel leave this subnet out")

# The neighbour.
ARP_NOT_ASKED = Sentence(
    "arp-not-asked",
    BySystem(
        "ARP needs root or CAP_NET_RAW, and was not asked; run this with sudo",
        "ARP needs a capture driver, and was not asked: portcall help windows",
    ),
)
ONE_DEVICE = Sentence(
    "one-device", "{first} answers ARP by {macs:and3}: plugs of one device on this wire"
)
SEVERAL_ANSWER = Sentence(
    "several-answer", "[at_least?at least ]{count} MACs answer ARP for {first}: {holders:and3}"
)
HELD_BY = Sentence("", "{holder}[, {plate}]")
FIXED_SILENT = Sentence(
    "fixed-silent",
    "nobody answers ARP for {first}; this computer's own table has {fixed} for it, fixed",
)
FIXED_OTHERWISE = Sentence(
    "fixed-otherwise",
    "{first} answers ARP, {mac}; this computer's own table has {fixed} for it, fixed",
)
ANSWERS_ARP = Sentence(
    "answers-arp",
    "[is_router?router ]{first} answers ARP, {holder}[as_planned?, as planned]"
    "[; {for_all:and3} answers for everybody here (proxy ARP)]",
)
IN_OWN_TABLE = Sentence(
    "in-own-table",
    "[is_router?router ]{first} is {holder}[as_planned?, as planned], by this computer's own ARP "
    "table[remembered?, which may be some minutes old]",
)
ANOTHER_ANSWERS = Sentence(
    "another-answers",
    "{address} is answered by {mac}[by_kernel?, by this computer's own ARP table]"
    "[remembered?, which may be some minutes old]; planned is {planned}",
)
NOBODY_ANSWERS = Sentence(
    "nobody-answers",
    "nobody answers ARP for {first}[; {for_all:and3} answers for everybody here (proxy ARP)]"
    "[is_router?, the router to {address}][; {company}][; {found}][; {near}]",
)
NOT_SOUGHT = Sentence(
    "",
    BySystem(
        "who else is there, and where the device is, was not asked: run this with sudo",
        "who else is there, and where the device is, was not asked: that needs a capture driver, "
        "portcall help windows",
    ),
)
ALONE = Sentence("", "nobody else answers in its subnet either")
COMPANY = Sentence(
    "",
    "{others:other in its subnet answers|others in its subnet answer} ({others_named:3})",
)
FOUND_AT = Sentence("", "{mac} is at {found_at:and}")
FOUND_ASKING = Sentence("", "{mac} asks for an address by {asks:and}")
FOUND_UNSET = Sentence("", "{mac} answers DCP, and has no address")
FOUND_NEAR = Sentence(
    "",
    "{near_mac}[ at {near_at}][near_asks?, which asks for an address], {how} the planned MAC: "
    "check the label",
)
ANSWERS_LATE = Sentence("answers-late", "{first} answers ARP now, {mac}, and did not at first")
HAVE_ONE_ADDRESS = Sentence(
    "have-one-address",
    "[at_least?At least ]{count} devices have the address {first}: {holders:and3}",
)
SENT_TO_FIXED = Sentence(
    "sent-to-fixed",
    "This computer sends what is for {first} to {fixed}, by a fixed entry in its own ARP table, "
    "and {first} is at {mac}",
)
ANOTHER_PLANNED = Sentence("another-planned", "Another device is at {address}: {other}, {mac}")
ALMOST_PLANNED = Sentence(
    "almost-planned", "Another device is at {address}: {mac}, which {how} the planned {planned}"
)
NOT_IN_PLAN = Sentence(
    "not-in-plan", "Another device is at {address}: {mac}, which is not in the plan"
)
ROUTER_DUMB = Sentence("router-dumb", "The router {first} does not answer, and {goal} is behind it")
IS_AT = Sentence("is-at", "{goal} is at {found_at:and}, not at {address}")
ASKS = Sentence("asks", "{goal} has no address, and asks for one by {asks:and}")
HAS_NONE = Sentence("has-none", "{goal} is there, has no address, and does not ask for one")
NOTHING_THERE = Sentence(
    "nothing-there",
    "Nothing answers at {address}[mac_sought?, and its MAC was not heard]"
    "[others?; cable and this computer are fine, since others in that subnet answer]"
    "[others!, nor anybody else in that subnet]",
)
NOTHING_THERE_UNSOUGHT = Sentence(
    "nothing-there-unsought", "Nothing answers at {address}; {company}"
)
UNPLUG_ONE = advice("unplug one of them, and type this again: it says which of them is left")
DROP_FIXED = advice(
    BySystem(
        "ip neigh del {first} dev {adapter}; and back: ip neigh replace {first} lladdr {lladdr} "
        "dev {adapter} nud permanent",
        'netsh interface ipv4 delete neighbors "{adapter}" {first}; and back: '
        'netsh interface ipv4 add neighbors "{adapter}" {first} {mac}',
    )
)
COMPARE_LABEL = advice("compare the label with the plan")
LOOK_WHICH_DEVICE = advice("look which device was put in its place")
ROUTER_POWER = advice("check the router's power and its cable to this side")
ROUTER_ADDRESS = advice("check that its address here is really {first}")
DEVICE_POWER = advice("check the device's power and its own cable")
PLANT_CABLE = advice(
    "check the cable from this computer's switch to the plant, and the plant's power"
)
RIGHT_ADAPTER = advice("check that this is the right adapter: {adapters}")

# The way back.
COMES_BACK = Sentence("comes-back", "answers come back by {adapter}")
NOT_SENT = Sentence(
    "not-sent",
    "sending to {address}: [{refused}][refused!nothing of what was sent left {adapter}]",
)
CAME_TO_NOBODY = Sentence(
    "came-to-nobody",
    "{answers} answers of {address} came to {adapter}, and none to a program"
    "[strict?; the reverse-path filter of {adapter} is strict]",
)
CAME_ELSEWHERE = Sentence(
    "came-elsewhere",
    "{answers} answers of {address} came back by {by}, not by {adapter}"
    "[strict?; the reverse-path filter of {by} is strict]",
)
ERROR_TOLD = Sentence("error-told", '{by} says "{said}" after {seconds:.1f} s')
NEARER_ANSWERED = Sentence(
    "nearer-answered",
    "nothing comes back to {source}[answered?; {address} answers {nearer}, which is nearer to it]"
    "[; its mask is {mask}, by {mask_by}]",
)
_NO_ANSWER = (
    "[no_echoes!no answer to {echoes} echoes[doors? and {doors} doors]]"
    "[no_echoes?no answer of {doors} doors, and no echo was sent: {no_echoes}]"
    "[routed?; no router says why]"
    "[watched!; whether answers came to the adapter was not asked: <what helps>]"
    "[; all of it was sent to {fixed}, as this computer's own table says]"
    "[, also not to {nearer}, which is nearer to it]"
)
NO_ANSWER = Sentence(
    "no-answer",
    BySystem(
        _NO_ANSWER.replace("<what helps>", "run this with sudo"),
        _NO_ANSWER.replace("<what helps>", "it needs a capture driver, portcall help windows"),
    ),
)
NOT_LET_OUT = Sentence(
    "not-let-out", "This computer's own firewall does not let out what is meant for {goal}"
)
DROPPED_HERE = Sentence("dropped-here", "This computer's own firewall drops the answers of {goal}")
BY_ANOTHER = Sentence(
    "by-another",
    "{goal} answers by another adapter than it was asked by; programs that wait on {adapter} do "
    "not hear it",
)
FILTERED_HERE = Sentence(
    "filtered-here",
    "Answers of {goal} come in by {by}, where this computer does not expect them, and its "
    "reverse-path filter drops them",
)
FILTER_FORBIDS = Sentence(
    "filter-forbids",
    "A filter at {by} forbids what is meant for {goal}; what is behind it was not reached",
)
ROUTER_FINDS_NOBODY = Sentence(
    "router-finds-nobody", "The router {by} finds nobody at {address} on its own wire"
)
IN_A_CIRCLE = Sentence(
    "in-a-circle",
    "What is meant for {goal} goes round in a circle between routers, until {by} gives it up",
)
ENDS_AT = Sentence("ends-at", "The way to {goal} ends at {by}: {said}")
ANSWERS_NEARER = Sentence(
    "answers-nearer",
    "{goal} answers {nearer} and not {source}. Either its mask leaves this computer out, or it "
    "lets only some addresses in, or it has an old MAC for {source}",
)
MASK_LEAVES_OUT = Sentence(
    "mask-leaves-out",
    "{goal} cannot answer this computer: its mask[ {mask}] leaves {source} out, and it has no "
    "router[; planned is {planned_mask}]",
)
NOTHING_BY_ROUTER = Sentence(
    "nothing-by-router",
    "Nothing of {goal} comes back through router {router}. Either it is gone, which a router that "
    "has spoken to it notices late; or it has no gateway or a wrong mask; or something on the way "
    "drops it",
)
ANSWERS_NOTHING = Sentence("answers-nothing", "{goal} answers nothing that was asked")
NOTHING_FROM_FIXED = Sentence(
    "nothing-from-fixed",
    "Nothing comes back from {goal}. Either it is not there, or the MAC {fixed}, which is fixed "
    "for it in this computer's own ARP table, is not its own",
)
ANSWERS_ARP_ONLY = Sentence(
    "answers-arp-only",
    "{goal} is on the wire, and answers nothing but ARP. Either it lets nothing in, or its mask "
    "or gateway is wrong, or it serves nothing that was asked for",
)
LOOK_AT_RULES = advice(
    BySystem(
        "look for the rule that does: nft list ruleset",
        "look for the rule that does: netsh advfirewall firewall show rule name=all",
    )
)
LET_THROUGH = advice("have that rule let {address} through, and nothing else")
PULL_CABLE = advice("pull the cable of {by} and type this again")
LOOSEN_FILTER = advice(
    BySystem(
        "sysctl -w net.ipv4.conf.{by}.rp_filter=2; "
        "and back: sysctl -w net.ipv4.conf.{by}.rp_filter=1",
        "have the filter of {by} take answers from other subnets",
    )
)
OR_BY_ROUTER = advice("or have the router send them back by the way they came")
ASK_WHO_LOOKS_AFTER = advice("ask who looks after {by} to let this computer through to {address}")
SHOWS_CIRCLE = advice("{trace} shows the circle; look at the routes of those in it")
ROUTES_OF = advice(
    "look at the routes of {by}: it knows no way to {network}, or its adapter there has no link"
)
READ_MASK_THERE = advice(
    "read at the device, on its page or panel: its mask, and whom it lets in ({goal})"
)
MEANWHILE_NEARER = advice("meanwhile it answers a computer that has {nearer}")
SET_MASK_THERE = advice("set its mask at its panel or on its page: {planned_mask}")
PLAN_LEAVES_OUT = advice("the plan leaves this computer out, too: {match}")
DEVICE_SETTINGS = advice(
    "look at the device's own settings: mask and gateway, and whether it lets {goal} in"
)
SHOWS_HOW_FAR = advice("{trace} shows how far it comes")
FROM_ITS_WIRE = advice("type this from a computer on the device's own wire")
LOOK_FOR_ENTRY = advice(
    BySystem(
        "look for the entry: ip neigh show {address}",
        "look for the entry: netsh interface ipv4 show neighbors; its address: {address}",
    )
)
COMPARE_WITH_LABEL = advice("compare it with the device's label")
NAME_THE_DOOR = advice("name the door that it should have: {why}")

# Echoes.
_SERIES = (
    "{received} of {sent} echoes[, median {median_ms:.2f} ms][, time to live {ttl}]"
    "[slow?, slow, as over a radio or to a device that sleeps]"
)
ECHOES = Sentence(
    "echoes",
    _SERIES + "[limited?, {slow_received} of {slow_sent} at one a second: it answers only so many "
    "a second][large_received?, {large_received} of {large_sent} with {large} octets]",
    "lost",
)
NO_LONG_ECHO = Sentence(
    "no-long-echo",
    _SERIES + "; 0 of {large_sent} with {large} octets[passed?; up to {passed} octets pass]"
    "[; {mtu_by} says that the way takes {mtu}, and is heeded]"
    "[full_taken?; a full segment by TCP was taken]"
    "[full_lost?; a full segment by TCP was not taken]",
    *("lost", "limited", "slow_sent", "slow_received", "large_received"),
)
ECHO_NOT_ASKED = Sentence("echo-not-asked", "{no_echoes}; {otherwise}")
ECHO_REFUSED = Sentence("echo-refused", "sending echoes: {refused}; {otherwise}")
ECHO_DROPPED = Sentence(
    "echo-dropped", "{echoes_in} echoes came to the adapter, none to a program; {otherwise}"
)
ECHO_SILENT = Sentence("echo-silent", "no answer to {echoes} echoes; {otherwise}")
DOORS_OPEN = Sentence("", "port {open} is open")
DOORS_REFUSED = Sentence("", "it refuses port {refused_ports}")
NO_DOOR_ANSWERS = Sentence("", "no door answers")
ECHOES_NOT_LET_OUT = Sentence(
    "echoes-not-let-out",
    "This computer's own firewall does not let out echoes to {goal}; {otherwise}",
)
ECHOES_DROPPED = Sentence(
    "echoes-dropped", "This computer's own firewall drops the echoes of {goal}; {otherwise}"
)
ANSWERS_OTHERWISE = Sentence(
    "answers-otherwise",
    "{goal} answers no echoes, and answers otherwise: {otherwise}. It can be worked with",
)
ECHOES_LOST = Sentence(
    "echoes-lost", "{lost} of {sent} echoes of {goal} were lost: the connection is bad"
)
TAKES_LONG_FRAMES = Sentence(
    "takes-long-frames",
    "{goal} takes long frames, and answers no long echoes. Either that is its way, or long frames "
    "of its own are lost on the way back",
)
LONG_LOST = Sentence(
    "long-lost",
    "Small frames to {goal} pass, and those of {large} octets do not"
    "[passed?; up to {passed} octets pass]: pages and downloads will hang",
)
CHECK_PLUGS = advice("check cable and plugs between here and there; look for half duplex")
SHOWS_PATTERN = advice("{reach} shows whether there is a pattern in it")
IF_THAT_HANGS = advice(
    "open a page or a program of the device: if that hangs, long frames are lost"
)
LOOK_FOR_NARROW = advice(
    "look for a radio, tunnel or switch on the way that takes no frames of full length"
)
SHORTER_FRAMES = advice(
    BySystem(
        "meanwhile: ip link set {adapter} mtu {passed}; and back: ip link set {adapter} mtu {mtu}",
        'meanwhile: netsh interface ipv4 set subinterface "{adapter}" mtu={passed} store=active; '
        'and back: netsh interface ipv4 set subinterface "{adapter}" mtu={mtu} store=active',
    )
)

# Doors, and the protocols behind them.
WAS_OPEN = Sentence("was-open", "{door} was open on {before}, and is {state} now[; open: {open}]")
OPEN = Sentence("open", "open: {doors}", "ports")
NONE_OPEN = Sentence("none-open", "none was named, and none of the {tried} usual ones is open")
IS_OPEN = Sentence("is-open", "{door} is open", "port")
IS_REFUSED = Sentence("is-refused", "{door} is refused", "port")
DOOR_ANSWER_DROPPED = Sentence(
    "door-answer-dropped", "the answer of {door} came to {adapter}, and to no program", "port"
)
DOOR_NOT_SENT = Sentence("door-not-sent", "what was sent to {door} did not leave {adapter}", "port")
DOOR_FORBIDDEN = Sentence(
    "door-forbidden", "{door} is refused, and no refusal came from {address} itself", "port"
)
IS_SILENT = Sentence("is-silent", "{door} is silent[, while port {beside} answers]", "port")
OPENS_NO_MORE = Sentence(
    "opens-no-more", "{goal} answers, and {door} does not open, which was open on {before}"
)
REFUSES_DOOR = Sentence(
    "refuses-door", "{goal} is there, and refuses {door}: nothing serves it there"
)
DOOR_DROPPED_HERE = Sentence(
    "door-dropped-here", "This computer's own firewall drops the answers of {goal} from {door}"
)
DOOR_NOT_LET_OUT = Sentence(
    "door-not-let-out", "This computer's own firewall does not let out what is meant for {door}"
)
FILTER_REFUSES = Sentence(
    "filter-refuses",
    "A filter refuses {door} of {goal}, in the device or on the way; what serves it was not "
    "reached",
)
SOMETHING_DROPS = Sentence(
    "something-drops",
    "{goal} is there, and nothing comes back from {door}: something drops it, in the device or on "
    "the way",
)
SERVICE_ON = advice("check that this service is switched on in the device, and its port")
OPEN_ARE = advice("open are: {open}")
LOOK_FOR_FIREWALL = advice("look for a firewall in the device, or between here and there")
LETS_ADDRESS_IN = advice("check that the device lets this computer's address in")

NO_WORD = Sentence("no-word", "no door was open")
SAYS = Sentence("says", "{words:;}")
SAYS_OF_ITSELF = Sentence(
    "", "{name}: {identity}[differs?, its mask is {mask}, planned is {planned_mask}]"
)
PROTOCOL_UNKNOWN = Sentence("protocol-unknown", "no protocol known there")
WORD_UNKNOWN = Sentence(
    "word-unknown", 'what port {port} speaks is not known here[; it greets with "{raw}"]'
)
NO_UNIT = Sentence(
    "no-unit",
    "{door} is open; no unit that was asked answers, as with a gateway that has others",
)
OTHER_WORDS = Sentence("other-words", '{door} is open, and says "{raw}"')
NO_WORDS = Sentence(
    "no-words",
    "{door} is open, and [closed?closes the connection without a word]"
    "[closed!says nothing for {silent:.1f} s]",
)
DOES_NOT_SPEAK = Sentence(
    "does-not-speak", "What answers at {door} of {goal} does not speak {name}"
)
NO_UNIT_ANSWERS = Sentence(
    "no-unit-answers",
    "{door} of {goal} takes connections, and no unit that was asked answers, as with a gateway "
    "that has others. Either others are behind it, or it is busy or hangs",
)
TAKES_AND_SILENT = Sentence(
    "takes-and-silent",
    "{door} of {goal} takes connections and [closed?closes the connection without a word]"
    "[closed!says nothing for {silent:.1f} s]. Either it is busy or hangs, or it speaks something "
    "else",
)
RIGHT_DEVICE = advice("check that this is the device meant, and which port the service has")
SHOWS_MORE = advice("{find} shows more of it")
CLOSE_OTHERS = advice("close other programs that talk to it, and type this again")
WAIT_A_MINUTE = advice("wait a minute, and type this again: a device that is busy may answer then")

# Programs.
NO_PROXY = Sentence("no-proxy", "no proxy is set for this address")
PROXY_FOR_OTHERS = Sentence("proxy-for-others", "{variables} is set, which concerns web pages only")
PROXY_SET = Sentence("proxy-set", "{variables} sends web programs to {proxy}")
SENT_TO_PROXY = Sentence(
    "sent-to-proxy",
    "The device answers, and web programs do not ask it: {variables} sends them to {proxy}",
)
LEAVE_OUT_OF_PROXY = advice(
    BySystem("export no_proxy={address}", 'in PowerShell: $env:no_proxy="{address}"')
)
OR_UNSET = advice(BySystem("or: unset {unset}", "or take {unset} out of this window's environment"))

# Advice that tells a cause from its neighbours.
PULL_ONE_PLUG = advice("pull one plug of the two, and type this again")
WHO_ANSWERS_FOR = advice("{find} shows who answers for which addresses")
LOOK_AROUND = advice("{find} looks at the addresses around it")
IF_PAGES_HANG = advice("open a page or a program of the device: if that hangs, so do others")
RULE_OF_ADDRESS = advice(
    BySystem(
        "look for a rule of this computer that concerns {address}: nft list ruleset",
        "look for a rule of this computer that concerns {address}: "
        "netsh advfirewall firewall show rule name=all",
    )
)

# One-line forms, for commands that have other things to report.
NOBODY_FOR = Sentence("nobody-for", "nobody answers ARP for {first}")
NOBODY_FOR_ROUTER = Sentence("nobody-for-router", "nobody answers ARP for the router {first}")
ONLY_ARP = Sentence("only-arp", "it answers ARP, and nothing else that was asked")
NOTHING_BEHIND = Sentence(
    "nothing-behind", "the router {router} answers ARP, and nothing comes back from behind it"
)
KEPT_FROM_HERE = Sentence(
    "kept-from-here",
    "its answers come to {adapter}, and this computer's own firewall drops them",
)
