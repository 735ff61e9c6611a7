"""Typing what was advised, as the person does who reads it."""

import re
import signal
from dataclasses import dataclass

_LINE = re.compile(r"(?:^|: )((?:sudo )?(?:portcall|ip|sysctl|nft|export|unset) .*)$")
_BACK = "; and back: "
_EXPLAINED = re.compile(r" (?:shows|looks|says|takes) .*")
_CHANGING = ("portcall match ", "portcall move ", "portcall assign ", "ip ", "sysctl ")
_ROUTER = "10.61.20.1"
_CTRL_C = 130


@dataclass(frozen=True)
class Advised:
    """A line to type, and the one that takes it back."""

    line: str
    back: str = ""

    @property
    def changes(self):
        """Whether it is to change something, so that the complaint is gone after it."""
        return self.line.startswith(_CHANGING)

    @property
    def is_for_this_shell(self):
        """Whether it concerns what is typed after it in the same shell."""
        return self.line.startswith(("export ", "unset "))


def advised(sentence):
    """The line that a sentence of advice ends with, or None."""
    found = _LINE.search(sentence)
    if found is None:
        return None
    line, _, back = found[1].partition(_BACK)
    line = _EXPLAINED.sub("", line).removeprefix("sudo ").replace(" ROUTER ", f" {_ROUTER} ")
    if line.startswith("portcall match "):
        back = "portcall restore"
    return Advised(line, back)


def type_in(plant, typed):
    """Type a line, which is taken; one that goes on is ended with Ctrl-C once it has begun."""
    if " --watch" in typed.line:
        started = plant.start(typed.line, signalled=True)
        plant.until(started, r"\S")
        assert plant.finish(started, signal.SIGINT).code == _CTRL_C, typed
        return
    until_done = " --until-done" if typed.line.startswith("portcall assign ") else ""
    ended = plant.run(f"sh -c '{typed.line}{until_done}'")
    assert ended.code == 0, (typed, ended)
    assert "Warning" not in ended.err, ended.err
