"""What can go wrong, as sentences: raised where the knowledge is, shown once."""


class Trouble(Exception):
    """Something the engineer has to know; ``str()`` of it is the sentence to show."""


class BadInput(Trouble):
    """What was typed or written in a file is wrong. Nothing was done."""


class NotPossibleHere(Trouble):
    """The request is sound but this computer cannot carry it out as it stands."""
