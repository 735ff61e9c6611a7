"""Troubles as sentences: raised where the knowledge is, shown once."""


class Trouble(Exception):
    """Something the engineer has to know: what is wrong and why, and what to ``do``.

    ``do`` is a line to type (``core.finding.Line``) or words; ``str()`` of the trouble is the
    sentence to show.
    """

    def __init__(self, what: str, do: object | None = None) -> None:
        super().__init__(what, do)
        self.what = what
        self.do = do

    def __str__(self) -> str:
        if self.do is None:
            return self.what
        # Words continue the sentence; a line to type stands on a line of its own.
        return f"{self.what}{'; ' if isinstance(self.do, str) else ': '}{self.do}"


class BadInput(Trouble):
    """The typed words or a file are wrong. Nothing was done."""


class NotPossibleHere(Trouble):
    """The request is sound but this computer cannot carry it out as it stands."""
