"""How what came of setting a device is shown."""

from __future__ import annotations

from collections.abc import Callable

import click

from portcall.cli.say import print_json, wants_json
from portcall.core.finding import as_json
from portcall.core.setting.job import Outcome
from portcall.jobs.look.locate import Located


class OutcomeView:
    """Devices that are set, one after the other: lines as each ends, or one document at the end.

    ``key`` says in the document whether it was done; ``done`` says it in words.
    """

    def __init__(self, key: str, done: Callable[[Located], str]) -> None:
        self._key = key
        self._done = done
        self._documents: list[dict[str, object]] = []

    def ended(self, which: Located, outcome: Outcome) -> None:
        """Note the outcome for one more device."""
        if wants_json():
            self._documents.append(outcome_document(which, outcome, self._key))
        else:
            say_outcome(which, outcome, self._done(which))

    def finish(self, adapter: str) -> None:
        """Print the document, when all devices are done."""
        if wants_json():
            print_json({"adapter": adapter, "devices": self._documents})


def say_outcome(which: Located, outcome: Outcome, done: str) -> None:
    """A line with the verdict, and under it what supports it."""
    mac = which.device.mac if which.device else which.meant.mac
    who = ", ".join(dict.fromkeys(str(word) for word in (which.meant.name, mac) if word))
    if outcome.done:
        took = "" if outcome.seconds is None else f", after {outcome.seconds:.1f} s"
        verdict = click.style(f"{done}{took}", fg="green", bold=True)
    else:
        verdict = click.style("not done", fg="red", bold=True) + f": {outcome.findings[0]}"
    click.echo(f"{who}: {verdict}")
    if outcome.by and outcome.after:
        same = outcome.before == outcome.after
        change = outcome.after if same else f"{outcome.before}, now {outcome.after}"
        click.echo(f"    {outcome.by}: {'as it was, ' if same else 'before '}{change}")
    elif outcome.by and outcome.before:
        click.echo(f"    {outcome.by}: before {outcome.before}")
    for finding in outcome.findings[0 if outcome.done else 1 :]:
        click.echo(f"    {finding}")


def outcome_document(which: Located, outcome: Outcome, done: str) -> dict[str, object]:
    """The same for programs; ``done`` is the key that says whether it was."""
    mac = which.device.mac if which.device else which.meant.mac
    return {
        "name": which.meant.name,
        "mac": str(mac) if mac else None,
        "by": outcome.by,
        "before": outcome.before,
        "after": outcome.after,
        done: outcome.done,
        "seconds": None if outcome.seconds is None else round(outcome.seconds, 3),
        "findings": [str(finding) for finding in outcome.findings],
        "codes": [as_json(finding) for finding in outcome.findings],
    }
