"""The ladder as it is climbed, and the sentence at its end."""

from __future__ import annotations

from rich.text import Text

from portcall.cli.table import console
from portcall.core.finding import Line, values_as_json
from portcall.core.why.ladder import Advice, Diagnosis, Rung, Step, Verdict

_WIDEST_RUNG = max(len(rung) for rung in Rung)
_WIDEST_VERDICT = max(len(verdict) for verdict in Verdict)
_COLOURS = {Verdict.HOLDS: "green", Verdict.BROKEN: "bold red", Verdict.NOT_ASKED: "bright_black"}


def print_step(step: Step) -> None:
    """One rung on one line, or on as many as its evidence takes."""
    indent = _WIDEST_RUNG + _WIDEST_VERDICT + 4
    out = console()
    width = max(out.width - indent, 30)
    lines = Text(step.evidence).wrap(out, width) if step.evidence else [Text()]
    for number, line in enumerate(lines):
        head = Text()
        if number == 0:
            head.append(f"{step.rung:<{_WIDEST_RUNG}}  ", "bold")
            head.append(f"{step.verdict:<{_WIDEST_VERDICT}}  ", _COLOURS[step.verdict])
        else:
            head.append(" " * indent)
        out.print(head + line, soft_wrap=True)


def print_end(diagnosis: Diagnosis) -> None:
    """Print the untested rungs, the cause in a sentence, and the advice."""
    out = console()
    left = [step.rung for step in diagnosis.steps if not step.evidence]
    if left:
        out.print(Text(f"not asked: {', '.join(left)}", "bright_black"), soft_wrap=True)
    out.print()
    concluded = diagnosis.conclusion
    if concluded is None:
        at = f" at {diagnosis.goal.door_words}" if diagnosis.goal.port else ""
        unasked = any(step.verdict is Verdict.NOT_ASKED for step in diagnosis.steps)
        rest = "nothing that was asked is broken" if unasked else "nothing is broken"
        out.print(Text(f"{diagnosis.goal} is reachable{at}: {rest}.", "bold green"))
        return
    head = concluded.cause or "not decided"
    text = Text(f"{head}: ", "bold red")
    out.print(text + Text(concluded.sentence, "bold"), soft_wrap=False)
    if len(concluded.between) > 1:
        out.print(f"  it is one of: {', '.join(concluded.between)}")
    for advice in concluded.do:
        out.print(Text(f"  {advice}"), soft_wrap=True)
    for other in diagnosis.conclusions[1:]:
        out.print(Text(f"also {other.cause or 'not decided'}: {other.sentence}"))


def document(diagnosis: Diagnosis) -> dict[str, object]:
    """As DESIGN has it for ``--json``."""
    concluded = diagnosis.conclusion
    do = concluded.do if concluded else ()
    return {
        "target": diagnosis.goal.name,
        "address": str(diagnosis.goal.address),
        "door": diagnosis.goal.port,
        "adapter": diagnosis.adapter,
        "reachable": diagnosis.reachable,
        "cause": concluded.cause if concluded else None,
        "sentence": concluded.sentence if concluded else None,
        "code": concluded.finding.code if concluded else None,
        "values": values_as_json(concluded.finding) if concluded else {},
        "between": list(concluded.between) if concluded else [],
        "also": [other.cause for other in diagnosis.conclusions[1:]],
        "rungs": [_rung(step) for step in diagnosis.steps],
        "do": [str(advice) for advice in do],
        "lines": [line.argv for advice in do for line in _lines(advice)],
    }


def _rung(step: Step) -> dict[str, object]:
    return {
        "rung": step.rung,
        "verdict": step.verdict,
        "evidence": step.evidence,
        "code": step.seen.code if step.seen is not None else None,
        "values": values_as_json(step.seen) if step.seen is not None else {},
    }


def _lines(advice: Advice) -> tuple[Line, ...]:
    return (advice,) if isinstance(advice, Line) else advice.lines
