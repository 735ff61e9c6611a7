"""What others have otherwise in their plan, in words and as JSON."""

from __future__ import annotations

from portcall.cli.say import moment_words
from portcall.core.record.others import OtherValue


def conflict_words(each: OtherValue) -> str:
    """A cell that two changed: what each has, and who did it when."""
    entry = each.change.entry
    return (
        f"conflict: {each.name}, {each.column or 'the row'}: {each.here or 'empty'} here; "
        f"{each.there or 'empty'} by {entry.person}@{entry.workstation}, "
        f"{moment_words(entry.at)}; before, {each.was or 'empty'}"
    )


def other_document(each: OtherValue) -> dict[str, object]:
    """As JSON has it."""
    entry = each.change.entry
    return {
        "name": each.name,
        "column": each.column or None,
        "here": each.here,
        "there": each.there,
        "was": each.was,
        "conflict": each.is_conflict,
        "person": entry.person,
        "workstation": entry.workstation,
        "changed": entry.at_text,
    }
