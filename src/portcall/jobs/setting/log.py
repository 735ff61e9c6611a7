"""The record around setting a device."""

from __future__ import annotations

from collections.abc import Callable
from typing import TypeAlias

from portcall.core.find.sighting import Field
from portcall.core.printable import decoded
from portcall.core.setting.had import Had
from portcall.core.setting.job import Job, Outcome
from portcall.jobs.look.locate import Located
from portcall.jobs.setting.keep_one import Remember
from portcall.site.logbook.settings import SettingsLog

Ended: TypeAlias = Callable[[Located, Outcome], None]
"""Is told what came of setting a device."""


def remembering(log: SettingsLog, job: Job) -> Remember:
    """A function that writes down how a device was set, before that is changed."""

    def remember(had: Had) -> None:
        log.write_before(job.name, job.mac, job.interface.ip, had)

    return remember


def _who(outcome: Outcome) -> dict[str, str]:
    """The identity that the device told, for verify to compare with a later one."""
    identity = outcome.identity
    if identity is None:
        return {}
    said = {
        Field.PRODUCT: decoded(identity.product_name),
        Field.SERIAL: identity.serial_text,
        Field.FIRMWARE: identity.firmware,
    }
    return {field.value: value for field, value in said.items() if value}


def written(log: SettingsLog, job: Job, outcome: Outcome) -> Outcome:
    """Write down what came of it, and give it back."""
    step = "done" if outcome.done else "not done"
    told = {
        "address": job.interface.ip,
        "by": outcome.by,
        "settings": outcome.after,
        "asks": outcome.asks,
        "because": None if outcome.done else next((f.sentence for f in outcome.findings), None),
        **_who(outcome),
    }
    log.write(step, job.name, job.mac, **told)
    return outcome
