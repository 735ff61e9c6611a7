"""Every sentence that ``why`` says of a part of a device: a unit, a module, an interface."""

from __future__ import annotations

from portcall.core.finding import Sentence
from portcall.core.why.sentences import advice

PART_ANSWERS = Sentence("part-answers", "{part} answers[: {says}][, after {seconds:.1f} s]")
PART_ABSENT = Sentence(
    "part-absent", "{evidence}[; beside it, {others:and} [several!answers][several?answer]]"
)
NOT_TOLD = Sentence("part-not-told", "{goal} told nothing of {part}")
NOTHING_OF_IT = Sentence(
    "nothing-of-it",
    "{goal} itself answers, and told nothing of {part}, neither that it is there nor that it is "
    "missing. It has no such part, or was too busy to say",
)

UNIT_MISSING = Sentence(
    "unit-missing",
    "{part} does not answer behind {goal}, which itself answers, and so [several!does][several?do] "
    "{others:and} on the same line",
)
LINE_OR_UNIT = Sentence(
    "line-or-unit",
    "{part} does not answer behind {goal}, which itself answers"
    "[tried?, and neither does {tried:and}]. It is that unit or the whole serial line",
)
UNIT_UNTOLD = Sentence(
    "unit-untold",
    "{goal} says nothing to a question for {part}, within {seconds:.0f} s. Either nobody is there, "
    "or it answers later than that",
)
SLOT_IS_EMPTY = Sentence(
    "slot-is-empty",
    "In the rack of {goal} nothing can be reached in slot {slot}, as the rack itself says: the "
    "slot is empty, or its module has no power or is at fault",
)
SLOT_UNTOLD = Sentence(
    "slot-untold", "{goal} says nothing to a question for {part}, and nothing says why"
)
PORT_OUT = Sentence(
    "port-out", "Nothing with power is plugged in at {part} of {goal}, as the device itself says"
)

AT_THE_INSTRUMENT = advice(
    "at the instrument: has it power, is its unit number {number}, are its two wires in and not "
    "exchanged"
)
AT_THE_LINE = advice(
    "at the gateway's serial side: is the line plugged in, are its two wires not exchanged, are "
    "speed and parity those of the instruments, is there a resistor at each end"
)
OTHER_NUMBER = advice("{find} shows which unit numbers answer, if it has another one")
AT_THE_RACK = advice("at the rack: is the module in, is it latched, are its lights on")
ALL_SLOTS = advice("{find} shows what is in the other slots")
AGAIN = advice("{why}, when nobody else asks it")
PLUG_AT_PORT = advice("push the plug at that port until it clicks, and look at its light")
