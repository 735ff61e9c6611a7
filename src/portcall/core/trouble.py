"""What can go wrong, as sentences: raised where the knowledge is, shown once."""


class Trouble(Exception):
    """Something the engineer has to know; ``str()`` of it is the sentence to show."""

    @property
    def parts(self) -> tuple[str, str | None]:
        """What is wrong and why, and what to do, which stands at the end of the sentence."""
        sentence = str(self)
        for before_line in (": portcall ", "; "):
            at = sentence.rfind(before_line)
            if at > 0:
                return sentence[:at], sentence[at:].lstrip(":; ")
        return sentence, None


class BadInput(Trouble):
    """What was typed or written in a file is wrong. Nothing was done."""


class NotPossibleHere(Trouble):
    """The request is sound but this computer cannot carry it out as it stands."""
