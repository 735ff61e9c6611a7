"""Every sentence about how far a planned device has come, by what the logbook tells."""

from __future__ import annotations

from portcall.core.finding import Sentence

LOST_ITS_ADDRESS = Sentence("lost-its-address", "it lost its address at a power cycle")
NOT_SET = Sentence(
    "not-set", "setting it did not succeed, and nothing shows that it holds its address"
)
GIVEN_ONLY = Sentence("given-only", "it was given its address, and nothing shows that it holds it")
PLANNED_SINCE = Sentence("planned-since", "its {columns:and} is planned otherwise since")
FOR_ONE = Sentence("for-one", "for an address by {protocol}")
AT = Sentence("at", "at {addresses}")
WITHOUT_ADDRESS = Sentence("without-address", "without an address")
ADDRESS = Sentence("address", "{address}")
ASKS_AGAIN = Sentence("asks-again", "{settings}, and asks again")
