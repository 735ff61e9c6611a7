"""The folder of a logbook: whose it is, which files have its lines, and who writes which.

``logbook/entries/WORKSTATION.jsonl`` has what that workstation wrote; only it adds to it. Lines of
others come by copying their file (``shared``). ``logbook/cache.db`` is made of these lines, and of
the three records that stand beside the plan: it can be thrown away at any time.
"""

from __future__ import annotations

import json
import re
from dataclasses import dataclass
from datetime import UTC, datetime
from hashlib import sha256
from pathlib import Path
from uuid import uuid4

from portcall.core.document import Part, a_text, parsed
from portcall.site.files import make_folder, write_whole
from portcall.site.matches import state_folder
from portcall.system import as_caller, person, workstation

FOLDER, ENTRIES, CACHE, IDENTITY = "logbook", "entries", "cache.db", "site.json"
EARLIER_DATABASE, EARLIER_INBOX = "logbook.db", "inbox.jsonl"
"""What earlier versions kept entries in."""

RECORDS = ("settings.jsonl", "assigned.jsonl", "plan-changes.jsonl")
"""The records that stand beside the plan, since commands read them without the logbook."""

HEADER = "portcall lines 1"
"""What the first line of a workstation's file says of its ``format``."""

_OWN = "workstation"
_FORKED = "~"
_LONGEST_NAME = 40
_AN_IDENTITY = re.compile(r"[0-9a-f]{32}")
_A_SOURCE = re.compile(
    r"(?P<workstation>[a-z0-9-]{1,60})(?:~(?P<fork>[1-9][0-9]{0,2}))?"
    rf"(?:\.(?P<record>{'|'.join(map(re.escape, (r.removesuffix('.jsonl') for r in RECORDS)))}))?"
)


def logbook_folder(site: Path | None) -> Path:
    """Where a site's logbook is; without a site, this person's."""
    return (site or state_folder()) / FOLDER


@dataclass(frozen=True, slots=True, order=True)
class Source:
    """The lines of one workstation: its entries, or one of its ``RECORDS``.

    ``fork`` tells apart lines that go on differently from a same beginning, as when the copy of a
    folder was used in two places; 1 is the first.
    """

    workstation: str
    record: str = ""
    fork: int = 1

    def __str__(self) -> str:
        record = f".{self.record.removesuffix('.jsonl')}" if self.record else ""
        return f"{self.workstation}{f'{_FORKED}{self.fork}' if self.fork > 1 else ''}{record}"

    @property
    def file(self) -> str:
        """What its file is called among those of a logbook."""
        return f"{self}.jsonl"


def source_named(name: str) -> Source | None:
    """A source by its name, or by that of its file; None for what is none."""
    found = _A_SOURCE.fullmatch(name.removesuffix(".jsonl"))
    if found is None:
        return None
    record = f"{found['record']}.jsonl" if found["record"] else ""
    return Source(found["workstation"], record, int(found["fork"] or 1))


def this_workstation() -> str:
    """This one's name for files: the computer's, and behind it what no other computer has.

    That is made up once for each person, and kept beside what else this program remembers.
    """
    name = re.sub(r"[^a-z0-9]+", "-", workstation().lower()).strip("-")[:_LONGEST_NAME]
    return f"{name or 'computer'}-{_own_mark()}"


def _own_mark() -> str:
    path = state_folder() / _OWN
    try:
        return _read_mark(path) or _made_mark(path)
    except OSError:
        # Nothing can be kept for this person: the same mark each time, as far as can be.
        return sha256(f"{workstation()}\0{person()}".encode()).hexdigest()[:6]


def _read_mark(path: Path) -> str:
    try:
        told = path.read_text(encoding="ascii", errors="replace").strip()
    except FileNotFoundError:
        return ""
    return told if re.fullmatch("[0-9a-f]{6}", told) else ""


def _made_mark(path: Path) -> str:
    make_folder(path.parent)
    mark = uuid4().hex[:6]
    if path.exists():
        write_whole(path, f"{mark}\n".encode())
        return mark
    try:
        with as_caller(path), open(path, "x", encoding="ascii") as file:
            file.write(f"{mark}\n")
    except FileExistsError:
        # Another command was quicker.
        return _read_mark(path) or mark
    return mark


def site_identity(site: Path | None) -> str | None:
    """What a site is known by, whatever it is called; None as long as nothing was written."""
    try:
        data = (logbook_folder(site) / IDENTITY).read_bytes()
    except FileNotFoundError:
        return None
    told = Part(parsed(data)).get("identity", a_text, "")
    return told if _AN_IDENTITY.fullmatch(told) else None


def identities(site: Path | None) -> set[str]:
    """All that a site was ever known by: files that were begun before are its own, too."""
    try:
        told = Part(parsed((logbook_folder(site) / IDENTITY).read_bytes()))
    except FileNotFoundError:
        return set()
    return {told.get("identity", a_text, ""), *told.each("also", a_text)} - {""}


def made_identity(site: Path | None) -> str:
    """What a site is known by, made up when there is nothing yet. Raises OSError."""
    return site_identity(site) or take_identity(site, uuid4().hex)


def take_identity(site: Path | None, identity: str, also: str = "") -> str:
    """Have a site known by this from now on, and by what it was known by. Raises OSError."""
    folder, now = logbook_folder(site), datetime.now(UTC).isoformat(timespec="seconds")
    make_folder(folder)
    document = {
        "identity": identity,
        "also": sorted((identities(site) | {also}) - {identity, ""}),
        "made": now,
        "by": person(),
        "on": workstation(),
    }
    write_whole(folder / IDENTITY, json.dumps(document, ensure_ascii=False).encode() + b"\n")
    return identity


def own_source(site: Path | None) -> Source:
    """Where this workstation writes: the last of its files, since the others ended in a fork."""
    here, forks = this_workstation(), [1]
    folder = logbook_folder(site) / ENTRIES
    for path in folder.glob(f"{here}{_FORKED}*.jsonl"):
        source = source_named(path.name)
        if source is not None and source.workstation == here and not source.record:
            forks.append(source.fork)
    return Source(here, fork=max(forks))


def chain_files(site: Path | None) -> dict[Source, Path]:
    """Every file that has lines of this logbook, in an order that is the same everywhere.

    The records beside the plan are this workstation's, whoever's the folder was before.
    """
    found: dict[Source, Path] = {}
    for path in sorted((logbook_folder(site) / ENTRIES).glob("*.jsonl")):
        source = source_named(path.name)
        if source is not None:
            found[source] = path
    here = this_workstation()
    for record in RECORDS:
        path = (site or state_folder()) / record
        if path.exists():
            fork = 1
            while Source(here, record, fork) in found:
                fork += 1
            found[Source(here, record, fork)] = path
    return dict(sorted(found.items()))
