"""The answers of checking a record: each to a question of its own, and no more than it shows."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from enum import StrEnum


class Answer(StrEnum):
    """The names are part of ``report --check --json``."""

    YES = "yes"
    NO = "no"
    UNKNOWN = "cannot be told"
    NONE = "there is none"


class Question(StrEnum):
    """What is asked of a record; the names are part of ``report --check --json``."""

    SIGNATURE = "signature"
    PAGE = "page"
    LOGBOOK = "logbook"
    PLAN = "plan"


ASKED = {
    Question.SIGNATURE: "is it as it was signed?",
    Question.PAGE: "does the page say what the data in it says?",
    Question.LOGBOOK: "does the data agree with the logbook in this folder?",
    Question.PLAN: "is the plan in it the plan of today?",
}


@dataclass(frozen=True, slots=True)
class Answered:
    """A question, its answer, and sentences that say what the answer rests on."""

    question: Question
    answer: Answer
    sentences: tuple[str, ...]


def verdict(answers: Iterable[Answered]) -> Answer:
    """What all of them come to: no where one is no, yes where none is open."""
    found = {each.answer for each in answers}
    if Answer.NO in found:
        return Answer.NO
    return Answer.UNKNOWN if Answer.UNKNOWN in found else Answer.YES
