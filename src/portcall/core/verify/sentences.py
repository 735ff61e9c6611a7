"""Every sentence that ``verify`` says of a planned row."""

from __future__ import annotations

from portcall.core.finding import Sentence

OWN_ADDRESS = Sentence(
    "own-address",
    "{address} is this computer's own address on {adapter}: an answer from there would be its own; "
    "take another",
)
ANSWERS_TOO = Sentence("answers-too", "{mac} answers for {address}, too")
SHARED_BY = Sentence("shared-by", "{address} is shared by {macs:and}")
ANOTHER_THERE = Sentence("another-there", "{mac} is at {address}, planned is {planned}")
WHICH_IS = Sentence("which-is", "which is {name}, planned at {address}")
WHICH_NEARLY_IS = Sentence("which-nearly-is", "which {how} the plan's {planned}: check the label")
IS_AT = Sentence("is-at", "it is at {addresses}")
DOES_NOT_ASK = Sentence("does-not-ask", "it is there, and does not ask for an address")
ASKS = Sentence("asks", "it has no address and asks for one by {protocols}")
NO_ECHO_THROUGH = Sentence(
    "no-echo-through",
    "no echo came back through the router {router}, and nothing else was asked",
)
NOT_ASKED = Sentence("not-asked", "not asked: {because}")
NO_LEG_THERE = Sentence(
    "no-leg-there",
    "not asked: {adapter} is not in its subnet, and no address could be borrowed there",
)
HEARD_NOTHING = Sentence("heard-nothing", "{adapter} lost its link meanwhile")
KEPT_HERE = Sentence("kept-here", "{because}")
NOTHING_AT_ADDRESS = Sentence("nothing-at-address", "nothing answers at its address")
MAC_NOT_HEARD = Sentence("mac-not-heard", "nothing at its address, its MAC was not heard")
LOOKALIKES = Sentence(
    "lookalikes", "nothing at its address; {near} the plan's MAC: check the label"
)
LOOKALIKE = Sentence("", "{mac} {how}")
MAC_IS = Sentence("mac-is", "its MAC is {mac}; the plan has none yet")
MAC_BEHIND_ROUTER = Sentence("mac-behind-router", "MAC not seen: it is behind the router {router}")
MAC_NOT_SEEN = Sentence(
    "mac-not-seen", "MAC not seen: nobody answered ARP, or without privilege it was not asked"
)
IDENTITY_NOT_READ = Sentence(
    "identity-not-read", "identity not read: it says by no protocol who it is"
)
IDENTITY_NOT_ASKED = Sentence("identity-not-asked", "identity not asked")
NO_PING = Sentence("no-ping", "ping: {because}[; it answers {protocols}]")
ECHOES_LOST = Sentence("echoes-lost", "{lost} of {sent} echoes lost")
DIFFERS = Sentence("differs", "its {column} is {value}, planned is {planned}")
NOT_READ = Sentence(
    "not-read",
    "{columns:and} [several!was][several?were] not read; as you read it there",
)
PLANNED_VALUE = Sentence("", "its {column} (planned: {planned})")
READ_BY_HAND = Sentence("read-by-hand", "its {column} is {value}, read by hand")
ANOTHER_DEVICE = Sentence(
    "another-device", "its {column} is {value}, and was {before} when it was set"
)
DEVICE_AWAY = Sentence("device-away", "{of} was not reached, so nobody knows of {part} in it")
PART_NOT_ASKED = Sentence(
    "part-not-asked", "{of} took no question for {part}: the door that leads to it did not open"
)
PORT_HAS = Sentence(
    "port-has", "{of} says that its {part} has [{interfaces}][interfaces!no address]"
)
PART_SILENT = Sentence("part-silent", "no answer came to a question for {part}")
PART_NOT_READ = Sentence(
    "part-not-read", "{part} answers, and its {columns:and} [several!was][several?were] not told"
)
IS_OTHER_PART = Sentence("is-other-part", "{part} says the planned serial number, {serial}")
SLOW = Sentence("slow-part", "it works, and is slow: an answer took {seconds:.1f} s")
