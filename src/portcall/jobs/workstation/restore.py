"""Putting back what one match changed."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from ipaddress import IPv4Interface

from portcall.core.adapters.adapter import Adapter, found_again
from portcall.core.adapters.put_back import NotPutBack
from portcall.core.system_words import SWITCH_ON
from portcall.core.trouble import NotPossibleHere
from portcall.host.adapters import read_adapters
from portcall.host.addresses import described, put_back, remove_alone
from portcall.host.privilege import Privilege
from portcall.host.rights import require
from portcall.site.matches import OpenMatch, close, keep_open_for, lasting, open_matches
from portcall.site.visits import forget_visits

_AFTER_RESTART = (
    "; this computer was restarted meanwhile, so what was left of a lease is as its clock says"
)


@dataclass(frozen=True, slots=True)
class Restored:
    """The result of putting back. ``adapter`` is its name now, None when it is not here.

    ``now`` are its addresses afterwards, without those of a visit that goes on; ``ended`` are those
    whose lease has ended meanwhile.
    ``gone`` went with the match's address, and ``left`` could not be put back: the match stays open
    for that alone. ``to_do`` is what a person can do about it. ``lent`` says what became of the
    lease by which the match had its address; ``restarted`` that the computer was meanwhile.
    """

    entry: OpenMatch
    adapter: str | None
    was_in_force: bool = False
    now: tuple[IPv4Interface, ...] = ()
    ended: tuple[IPv4Interface, ...] = ()
    gone: tuple[NotPutBack, ...] = ()
    left: tuple[NotPutBack, ...] = ()
    to_do: str = ""
    lent: str = ""
    restarted: bool = False

    @property
    def done(self) -> bool:
        """Whether this match is closed."""
        return self.adapter is not None and not self.left

    def __str__(self) -> str:
        return self._outcome() + (_AFTER_RESTART if self.restarted else "")

    def _outcome(self) -> str:
        entry, before = self.entry, listed(self.entry.before) or "no address"
        if self.adapter is None:
            return (
                f"{entry.adapter} ({entry.mac}) is not here; what it was given went with it. "
                "Plug it in and run restore again, or leave it"
            )
        gone = "removed" if self.was_in_force else "was gone already"
        sentence = f"{self.adapter}: {entry.added} {gone}{self.lent}"
        if self.left:
            refused = "; ".join(str(each) for each in self.left)
            return f"{sentence}; not put back yet: {refused}. {self.to_do}"
        if self.gone:
            went = ", ".join(each.what for each in self.gone)
            sentence += f", and with it {went}, which only it had reached"
        if self.now == entry.before:
            return f"{sentence}, as it was before: {before}"
        if self.ended:
            return (
                f"{sentence}; the lease of {listed(self.ended)} has ended meanwhile: "
                "ask for a new one"
            )
        now = listed(self.now) or "no address"
        return f"{sentence}; others changed it meanwhile: before {before}, now {now}"


def restore_all() -> list[Restored]:
    """Undo every match that is open, as far as that goes. Raises NotPossibleHere."""
    entries = open_matches()
    forget_visits()
    if entries:
        require(Privilege.NET_ADMIN, instead="portcall restore --show lists what is open")
    # Undo the newest first: the state before it is what the older ones left.
    return [restore_one(entry) for entry in reversed(entries)]


def restore_one(entry: OpenMatch) -> Restored:
    """Undo one match; what does not go stays open. Raises NotPossibleHere without privilege."""
    adapter = _find(entry)
    if adapter is None:
        return Restored(entry, None)
    removed = remove_alone(adapter, entry.added)
    lent = _give_back(adapter, entry)
    result = put_back(adapter, entry.taken_off, entry.since.elapsed)
    if result.left:
        keep_open_for(entry, [each.line for each in result.left])
    else:
        close(entry)
    after = _find(entry)
    return Restored(
        entry,
        adapter.name,
        removed.was_there,
        lasting(after.interfaces) if after else (),
        result.ended,
        # What was taken off by match is put back after that.
        tuple(each for each in removed.gone if each.what not in described(entry.taken_off)),
        result.left,
        _what_to_do(adapter, entry, result.left),
        lent,
        bool(result.leased) and not entry.since.is_certain,
    )


def _give_back(adapter: Adapter, entry: OpenMatch) -> str:
    """Give a lease back to its server, and say so: it may have one address only."""
    lease = entry.lease
    if lease is None or lease.seconds_left <= 0:
        return ""
    from portcall.jobs.workstation.lease import give_back

    try:
        if adapter.link:
            give_back(adapter, entry.added.ip, lease)
            return f" and given back to {lease.server}"
        reason = "there is no link"
    except (NotPossibleHere, OSError) as trouble:
        reason = str(trouble)
    until = "for good"
    if lease.seconds is not None:
        until = f"until {datetime.now() + timedelta(seconds=lease.seconds_left):%d %b %H:%M}"
    return f" and not given back to {lease.server}, which keeps it lent {until}: {reason}"


def _what_to_do(adapter: Adapter, entry: OpenMatch, left: Sequence[NotPutBack]) -> str:
    if all(each.damaged for each in left):
        return f"Delete {entry.path} when {adapter.name} is right"
    if not adapter.up:
        line = SWITCH_ON.here.format(adapter=adapter.name)
        return f"Switch it on ({line}), and run restore again"
    if not adapter.link:
        return "Plug the cable in, and run restore again"
    return "Run restore again when that can be reached, or put it back by hand"


def _find(entry: OpenMatch) -> Adapter | None:
    """The adapter as it is now."""
    return found_again(read_adapters(), entry.mac, entry.adapter, entry.guid)


def listed(interfaces: Sequence[IPv4Interface]) -> str:
    """Addresses in one line."""
    return ", ".join(str(own) for own in interfaces)
