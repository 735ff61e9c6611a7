"""Every sentence about why something does not answer, as far as asking again tells."""

from __future__ import annotations

from portcall.core.finding import Sentence

ONESELF = Sentence(
    "oneself", "{address} is this computer's own address on {adapter}: it would answer itself"
)
ANSWERS_NOW = Sentence("answers-now", "it answers now, and did not at first")
ANSWERS_LATE = Sentence("answers-late", "it answers late, after {seconds:.1f} s")
ANSWERS_BESIDE = Sentence(
    "answers-beside",
    "it answers an address that was borrowed beside it: {adapter} is not in its subnet, and other "
    "programs of this computer do not reach it",
)
ANOTHER_DEVICE = Sentence(
    "another-device", "{address} is answered by {mac}; planned there is {name} with {planned_mac}"
)
