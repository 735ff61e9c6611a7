"""Every sentence about what came of finding a device, setting it, and switching it off and on."""

from __future__ import annotations

from portcall.core.finding import Sentence

# Why nothing was done, or not all.
NOT_HEARD = Sentence("not-heard", "{mac} was not heard on this wire[; {near}]")
NOT_THERE = Sentence("not-there", "{mac} does not answer at {address}[; {near}]")
NEARLY = Sentence("", "{near_mac} {how} it: check the label")
SHARED_BY = Sentence("shared-by", "{address} is shared by {macs:and}: name one by its MAC")
NOBODY_AT = Sentence("nobody-at", "nothing answers at {address}")
PLANNED_OTHERWISE = Sentence(
    "planned-otherwise", "{name} is planned with {planned}, and {mac} is at {address}"
)
SHARED_WITH = Sentence("shared-with", "{address} is shared with {macs:and}")
PULL_MEANWHILE = Sentence(
    "pull-meanwhile", "{address} is shared with {macs:and}: pull that cable meanwhile"
)
SHARED_ALL_THE_SAME = Sentence(
    "shared-all-the-same", "{address} is shared with {macs} all the same"
)
NOWHERE_PLANNED = Sentence(
    "nowhere-planned", "{words}: is not in the plan; say where to with --to ADDRESS/N"
)
NO_ADDRESS_YET = Sentence("no-address-yet", "it has no address yet")
INTERFACE_UNSURE = Sentence(
    "interface-unsure",
    "it answers at {addresses:and}, and which of its interfaces has the one that is meant is not "
    "certain",
)
IS_ELSEWHERE = Sentence("is-elsewhere", "it is at {found_at}, not at {address}")
ASKS_BY = Sentence("asks-by", "it asks for an address by {protocol}")
PANEL_ONLY = Sentence(
    "panel-only", "it has no IPv4 address and answers no DCP: set it at its own panel"
)
ADDRESS_TAKEN = Sentence("address-taken", "{address} is taken, {mac} has it")
NOT_RECORDED = Sentence("not-recorded", "{path} does not tell what it had")
NO_ADDRESS_TO_SET_AT = Sentence(
    "no-address-to-set-at", "it has no address at which it could be set"
)
NO_CIP_ANY_MORE = Sentence("no-cip-any-more", "it answers CIP no more")
NO_DCP_ANY_MORE = Sentence("no-dcp-any-more", "it answers DCP no more")
HAD_NO_ADDRESS = Sentence("had-no-address", "it had no address that could be set again")
UNREACHABLE_NOW = Sentence("unreachable-now", "it has no address, and answers DCP no more")
NO_WAY_BACK = Sentence("no-way-back", "it answers no CIP, and only that has a way back")
NO_WAY_TO_SET = Sentence(
    "no-way-to-set", "it answers no CIP and no DCP, so nothing here can tell it to"
)
PROVE_IT = Sentence(
    "prove-it", "see on its own panel or page how it gets its address, and prove it"
)
SETTINGS_SAY = Sentence("settings-say", "its own settings say {settings}, not {wanted}")
CANNOT_BE_SET = Sentence("cannot-be-set", "{because}")
IN_USE = Sentence(
    "in-use",
    "nothing is changed: {because}; stop what it does, or change it all the same with --force",
)
ASKS_BY_NEITHER = Sentence(
    "asks-by-neither", "it says that it can ask neither by BOOTP nor by DHCP"
)
NO_NAME = Sentence("no-name", "not named: {because}; give it one with --name")

# What a change came to.
REFUSED = Sentence("refused", "{because}")
CUT = Sentence("cut", "the connection ended before it answered to setting {what}")
NAMED = Sentence("named", "{because}")
NOT_READ_BACK = Sentence("not-read-back", "its settings could not be read back: look again")
SAID_YES = Sentence("said-yes", "it said yes to {what}, and did not do it")
SAID_YES_TO_ADDRESS = Sentence(
    "said-yes-to-address", "it said yes to the address {interface}, and did not take it"
)
SAID_YES_BY_DCP = Sentence(
    "said-yes-by-dcp",
    "it said yes to setting {what}, and had not done it {seconds:.0f} s later",
)
DCP_ERROR = Sentence("dcp-error", "setting {what}: {because}")
NO_DCP_ANSWER = Sentence("no-dcp-answer", "no answer to the DCP request that sets it")
NO_DCP_NOW = Sentence("no-dcp-now", "it does not answer DCP any more")
GATEWAY_LOST = Sentence(
    "gateway-lost", "its gateway {gateway} is not in {network}: it has none now"
)
ALSO_ANSWERED = Sentence("also-answered", "{address} is answered by another device, too: {mac}")
DID_NOT_COME = Sentence(
    "did-not-come",
    "it did not come to {address} in time[; it asks for an address by {protocol}]"
    "[unheard?, and was not heard at all][; it answers at {found_at}]"
    "[; last heard at {last_at}, {seconds:.0f} s ago]",
)
AS_BEFORE = Sentence("as-before", "it is at {address} as before; it is safe to repeat this")
ARP_BUT_NO_CIP = Sentence("arp-but-no-cip", "it answers there by ARP, and no CIP yet")
SAME_DEVICE = Sentence("same-device", "the same device: {identity}")
NOT_THE_SAME = Sentence("not-the-same", "NOT the same device: serial was {before}, is {serial}")
SAME_MAC_OTHER = Sentence(
    "same-mac-other", "the same MAC, but NOT the same device: {differences:;}"
)
WAS_AND_IS = Sentence("", "{field} was {before}, is {now}")
SAME_MAC_MUTE = Sentence("same-mac-mute", "the same MAC; it says nothing of itself to compare")
SAME_MAC_STARTING = Sentence("same-mac-starting", "the same MAC; its programs do not answer yet")
ALREADY_THERE = Sentence(
    "already-there",
    "it is at {address} already; its mask, its gateway and whether it holds them were not read: it "
    "says them by no protocol",
)
NO_SIGNAL = Sentence("no-signal", "it answers no DCP, and only that has a signal to show itself")
NO_ANSWER_TO_SIGNAL = Sentence(
    "no-answer-to-signal", "no answer to the signal: it speaks no DCP, or is gone"
)
NO_SHOW = Sentence("no-show", "it does not show itself: {because}")
ANOTHER_PRODUCT = Sentence(
    "another-product",
    "it is another product: {differences:;}[; it was given {address}, and was not told to keep it]"
    "; if it may take this place all the same",
)
NOT_GIVEN = Sentence("not-given", "it did not come to {address} in time: {because}")

# A replaced device.
OWN_ADDRESS = Sentence("own-address", "{address} is this computer's own address")
UNLIKE = Sentence("unlike", "its {column} is {value}; its predecessor's was {before}")
OTHER_FIRMWARE = Sentence(
    "other-firmware",
    "its firmware is {value}, {order} its predecessor's {before}"
    "[; the plan has {planned}, and if this may stay]",
    "column",
)

# How it came back from a power cycle.
NOT_AT_PLANNED = Sentence("not-at-planned", "it is not at {address} now")
BACK_ELSEWHERE = Sentence("back-elsewhere", "it came back at {found_at}")
BACK_THERE = Sentence(
    "back-there", "it came back at {address}, {seconds:.1f} s after it was last heard"
)
BACK_ASKING = Sentence(
    "back-asking", "it came back without an address, and asks for one by {protocol}"
)
NOT_BACK = Sentence("not-back", "it did not come back in time")
NOT_OFF = Sentence("not-off", "it answered all the time: it was not switched off")

# What happens meanwhile.
CIP_CANNOT = Sentence("cip-cannot", "it answers CIP: {because}")
RESTARTS = Sentence("restarts", "it takes a new address when it restarts: it is told to restart")
NO_ANSWER_ANY_MORE = Sentence("no-answer-any-more", "no answer at {address} any more")
ANSWERS_AT = Sentence("answers-at", "it answers at {address}")
NO_FRAMES_APART = Sentence("no-frames-apart", "frames to one MAC alone cannot be sent: {because}")
IS_OFF = Sentence("is-off", "it is off, or starting …")
