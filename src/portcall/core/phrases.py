"""Our own phrases in German and Spanish: each is made in English, and found again by its form."""

from __future__ import annotations

import re
from collections.abc import Iterable
from functools import lru_cache

ENGLISH, GERMAN, SPANISH = "en", "de", "es"
LANGUAGES = (ENGLISH, GERMAN, SPANISH)

_FIELD = re.compile(r"\\\{([a-d])\\\}")


class Phrases:
    """A table of phrases in all ``LANGUAGES``; ``{a}`` to ``{d}`` stand for what is put in."""

    def __init__(self, table: Iterable[tuple[str, str, str]]) -> None:
        self.table = tuple(table)
        # What has most words of its own is meant, and not a name with a word behind it.
        in_order = sorted(self.table, key=lambda each: -len(re.sub("{.}", "", each[0])))
        self._forms = [
            (re.compile(_FIELD.sub(r"(?P<\1>.+?)", re.escape(each[0]))), each) for each in in_order
        ]
        self.told = lru_cache(maxsize=4096)(self._told)

    def _told(self, text: str, language: str) -> str:
        """A phrase in a language; what is none, such as a name, as it is."""
        if language == ENGLISH:
            return text
        for form, others in self._forms:
            found = form.fullmatch(text)
            if found is not None:
                return others[LANGUAGES.index(language)].format(**found.groupdict())
        return text


_STEPS = {
    "port": ("Port", "puerto"),
    "unit": ("Einheit", "unidad"),
    "slot": ("Steckplatz", "ranura"),
    "at": ("an", "en"),
}
_STEP = re.compile(rf"\b({'|'.join(_STEPS)})(?= \d)")
_OF = (" of ", " von ", " de ")


def part_told(where: str, language: str) -> str:
    """The path of a part (``core.part_path``), and of which device it is, in a language."""
    if language == ENGLISH:
        return where
    place = LANGUAGES.index(language)
    path, of, device = where.partition(_OF[0])
    told = _STEP.sub(lambda found: _STEPS[found[1]][place - 1], path)
    return told + _OF[place] + device if of else told
