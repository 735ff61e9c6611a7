"""Values of a record as every page shows them, in its language."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from datetime import UTC, datetime
from typing import Any

from portcall.core.phrases import ENGLISH, part_told
from portcall.core.report.words import column, done, said, words

_DATES = {"en": "%Y-%m-%d", "de": "%d.%m.%Y", "es": "%d/%m/%Y"}
_GROUPS = {"en": (",", "."), "de": (".", ","), "es": (".", ",")}
"""What stands between thousands, and before decimals."""

_OLD = 30
"""Days after which it is told how old a proof is."""


class Shown:
    """How the values of one record are shown."""

    def __init__(self, record: Mapping[str, Any]) -> None:
        self._record = record
        self._language = str(record["language"])
        self.words = words(self._language)
        moment = record.get("as_of") or record.get("made")
        self._zone = datetime.fromisoformat(moment).tzinfo if moment else UTC

    def when(self, moment: str | None) -> str:
        """A time in the zone of the record; "" for none."""
        if moment is None:
            return ""
        at = datetime.fromisoformat(moment).astimezone(self._zone)
        return f"{at.strftime(_DATES[self._language])} {at:%H:%M}"

    def zone(self) -> str:
        """The zone of all its times."""
        offset = datetime(2000, 1, 1, tzinfo=self._zone).isoformat()[-6:]
        return f"UTC{offset}"

    def number(self, value: float | None, unit: str = "") -> str:
        """A number with its unit; "" for none."""
        if value is None:
            return ""
        text = f"{value:,.0f}" if value == round(value) or abs(value) >= 1000 else f"{value:,.3g}"
        between, decimal = _GROUPS[self._language]
        swapped = text.translate({ord(","): between, ord("."): decimal})
        return f"{swapped} {unit}".strip()

    def lasted(self, seconds: float | None) -> str:
        """How long something took, in the unit that people would use; "" for nothing."""
        if seconds is None:
            return ""
        if seconds < 120:
            return self.number(seconds, "s")
        if seconds < 7200:
            return self.number(round(seconds / 60), "min")
        hours = seconds / 3600
        return self.number(round(hours, 1) if hours < 10 else round(hours), "h")

    def said(self, point: Mapping[str, Any]) -> str:
        """An open point in a customer's words."""
        what = point.get("said")
        if what is None:
            return str(point["what"])
        return said(self._language, str(what), point.get("values") or {})

    def for_the_engineer(self, point: Mapping[str, Any]) -> str:
        """An open point in the language, and below in the words in which commands tell it."""
        told, what = self.said(point), str(point["what"])
        if self._language == ENGLISH or told == what:
            return what
        return f"{told}\n{what}"

    def where(self, address: str) -> str:
        """An address; or of a part that has none, which part of which device it is."""
        return part_told(address, self._language)

    def replaced(self, each: Mapping[str, Any]) -> dict[str, Any]:
        """A replacement, told in the language."""
        old, new = (
            ", ".join(done(self._language, piece) for piece in (each[key] or "").split(", "))
            for key in ("old", "new")
        )
        old = old or self.words["not_known"]
        return {**each, "old": old, "new": new, "verdict": self._verdict(each)}

    def _verdict(self, each: Mapping[str, Any]) -> str:
        verdict = str(each["verdict"])
        return self.words.get(verdict) or said(self._language, verdict, {})

    def came_back(self, watch: Mapping[str, Any]) -> str:
        """How many echoes of a watch came back, of all its targets; "" where that is not known."""
        counted = [
            (each["sent"], each["lost"])
            for each in watch["targets"]
            if each["sent"] is not None and each["lost"] is not None
        ]
        sent, lost = (sum(each) for each in zip(*counted, strict=True)) if counted else (0, 0)
        told = {"came": self.number(max(sent - lost, 0)), "sent": self.number(sent)}
        return self.words["came_back"].format(**told) if sent else ""

    def told(self, device: Mapping[str, Any], what: str) -> str:
        """The value that a device tells, or the planned one, which is marked; "" for neither."""
        planned, value = device[f"planned_{what}"], device[what]
        if value and value != "0.0.0.0":
            by_hand = what in device.get("by_hand", ())
            return f"{value} ({self.words['by_hand']})" if by_hand else str(value)
        return f"{planned} ({self.words['by_plan']})" if planned else ""

    def cells(self, device: Mapping[str, Any]) -> tuple[str, ...]:
        """A device's row, each cell in lines; its name, which is bold, is left out of the first."""
        word = self.words

        def at(moment: str | None, what: str) -> str:
            return f"{what} {self.when(moment)}" if moment else ""

        def lines(*parts: str | None) -> str:
            return "\n".join(part or "–" for part in parts)

        unknown = "–" if device.get("part") else word["not_known"]
        holds = word[device["holds"]] if device["holds"] else unknown
        mark = "✓ " if device["is_right"] else "✗ " if device["state"] == "verified wrong" else ""
        again = device["verified"] != device["since"]
        echo, old = device["echo_ms"], self.age(device["verified"])
        # A right one is marked, as the heading of the column says; all else is in words.
        state = "" if device["is_right"] and not again else word[device["state"]]
        proof = (
            " ".join(filter(None, (mark.strip(), state, self.when(device["since"])))),
            at(device["verified"], word["verified"]) if again else "",
            ", ".join(
                filter(
                    None,
                    (
                        f"{word['echo']} {self.number(float(echo))} ms" if echo else "",
                        old if device["is_right"] else "",
                    ),
                )
            ),
            at(device["power_cycle"], word["power_cycle"]),
        )
        return (
            ", ".join(filter(None, (device["kind"], device["place"]))),
            lines(device["product"], device["maker"]),
            lines(device["serial"], device["firmware"]),
            lines(self.where(device["address"]), device["mac"]),
            lines(self.told(device, "mask"), self.told(device, "gateway")),
            "\n".join(filter(None, (holds, self.when(device["kept"])))),
            "\n".join(filter(None, proof)),
        )

    def age(self, moment: str | None) -> str:
        """How old a proof is, where it is old; "" where not."""
        as_of = self._record["as_of"]
        if moment is None or as_of is None:
            return ""
        days = (datetime.fromisoformat(as_of) - datetime.fromisoformat(moment)).days
        return self.words["days_old"].format(count=days) if days >= _OLD else ""

    def ranges(self, subnet: Mapping[str, Any]) -> str:
        """The free addresses of a subnet."""
        told = [first if first == last else f"{first} – {last}" for first, last in subnet["ranges"]]
        if subnet["more"]:
            told.append(self.words["and_more"].format(count=self.number(subnet["more"])))
        return ", ".join(told)

    def switches(self) -> Iterator[tuple[str, list[tuple[str, str]]]]:
        """Each switch, with its ports and who is behind them."""
        found: dict[str, list[tuple[str, str]]] = {}
        for port in self._record["ports"]:
            found.setdefault(port["switch"], []).append((port["port"], self.behind(port)))
        yield from found.items()

    def behind(self, port: Mapping[str, Any]) -> str:
        """Who is behind a port of a switch."""
        more = [self.words["others"].format(count=port["others"])] if port["others"] else []
        return ", ".join((*port["names"], *more))

    def changes(self) -> Iterator[dict[str, Any]]:
        """The changes, those of one kind that did the same on one day in one row.

        An address that a device is planned with is called its address: then giving three hundred of
        them is one row.
        """
        planned = {each["name"]: each["address"] for each in self._record["devices"]}
        addressed = [each["name"] for each in self._record["devices"] if not each.get("part")]
        whole = "all_devices" if len(addressed) == len(planned) else "all_with_address"
        found: dict[tuple[str, ...], list[Mapping[str, Any]]] = {}
        for each in map(self.change, self._record["changes"]):
            address = planned.get(each["name"])
            now, before = (self._alike(str(each[key]), address) for key in ("now", "before"))
            day = str(each["at"])[:10]
            found.setdefault((day, each["what"], now, before, each["who"]), []).append(each)
        for (_, what, now, before, who), several in found.items():
            names = list(dict.fromkeys(each["name"] or each["mac"] for each in several))
            is_all = len(names) > 1 and set(names) >= set(addressed)
            every = self.words[whole].format(count=self.number(len(names)))
            first = several[0]
            yield {
                "at": first["at"],
                "names": every if is_all else ", ".join(names),
                "what": what,
                "now": now if len(several) > 1 else first["now"],
                "before": before if len(several) > 1 else first["before"],
                "who": who,
            }

    def change(self, each: Mapping[str, Any]) -> dict[str, Any]:
        """A change, told in the language."""
        columns = each.get("columns")
        if columns is not None:
            was, now = (
                ", ".join(
                    f"{column(self._language, name)} {both[place]}"
                    for name, both in columns.items()
                    if both[place]
                )
                for place in (0, 1)
            )
            told = {"now": now or done(self._language, "removed"), "before": was}
        else:
            told = {key: done(self._language, str(each[key])) for key in ("now", "before")}
        return {**each, **told, "what": done(self._language, each["what"])}

    def _alike(self, text: str, address: str | None) -> str:
        """A value, in which a device's own address is called that."""
        if not address:
            return text
        # As a whole: 10.61.20.1 is none in 10.61.20.15.
        whole = rf"(?<![\d.]){re.escape(address)}(?!\.?\d)"
        return re.sub(whole, self.words["its_address"], text)
