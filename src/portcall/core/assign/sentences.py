"""Every sentence about what happens while addresses are assigned."""

from __future__ import annotations

from portcall.core.finding import Sentence

INTRODUCES = Sentence("introduces", "{facts:;}")
"""How a device that asks introduces itself, and what it has to do with the plan."""

NOT_SERVED_NOW = Sentence("", "{name} in the plan, not served now")
NOT_PLANNED = Sentence("", "not in the plan")

UNREADABLE = Sentence("unreadable", "what it asks cannot be read: {because}")
ASKS_IN_VLAN = Sentence(
    "asks-in-vlan", "asks in VLAN {vlan}, which this adapter is not in: look at its switch's port"
)
BELONGS_ELSEWHERE = Sentence(
    "belongs-elsewhere",
    "asks [behind the relay {relay}][relay!on this wire], and {address} belongs elsewhere",
)
TAKES_FROM_ANOTHER = Sentence(
    "takes-from-another", "the device takes its address from another DHCP server, {server}"
)
DECLINES = Sentence("declines", "the device says that another has this address")
GIVES_BACK = Sentence("gives-back", "gives its address back")
TOLD_TO_ASK_ANEW = Sentence("told-to-ask-anew", "it asked for {wanted}; told to ask anew")
DECLINED_JUST_NOW = Sentence(
    "declined-just-now", "declined by the device a moment ago; find who has the address"
)
NONE_LEFT = Sentence("none-left", "no temporary address is left; {facts:;}")
HELD = Sentence("held", "[{holder}][holder!another device] already has {address}; not given")
TEMPORARY = Sentence("temporary", "temporary, for {seconds} s")
NO_ANSWER = Sentence("no-answer", "no answer at its address for {seconds:.0f} s")
ANOTHER_ANSWERS = Sentence(
    "another-answers", "{holder} answers at {address}, which {mac} was given"
)
TWO_VOICES = Sentence(
    "two-voices",
    "{mac} asks in two ways ([{first}][first!nothing] / [{second}][second!nothing]): two programs "
    "in one device, or two devices with this MAC",
)

BEING_SET = Sentence("being-set", "ending when it is done: {names} is being set")
KEPT = Sentence("kept", "{protocol}: {settings}")
NOT_KEPT = Sentence("not-kept", "not kept: {because}")

# Beside the devices.
ANOTHER_SERVER = Sentence(
    "another-server", "another DHCP server is here: {server}[ at {server_mac}]"
)
FIREWALL = Sentence("own-firewall", "{told}")
LINK = Sentence("link", "{adapter}: {happened}[ {detail}]")
PLAN_NOT_USED = Sentence(
    "plan-not-used", "the edited plan is not used, the last good one stays: {because}"
)
PLAN_EDITED = Sentence("plan-edited", "the plan was edited: {count:row is|rows are} served")
NOT_WRITTEN = Sentence("not-written", "{because}")
