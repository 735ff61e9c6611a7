"""The changes between two looks, and the devices that one of them could not see."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Iterator, Mapping
from dataclasses import dataclass

from portcall.core.record.look import SeenDevice, SeenLook, key_of, read_device
from portcall.core.record.parts import part_changes

_COMPARED = ("name", "maker", "product", "serial", "firmware", "mask", "gateway")
"""The fields whose change matters; a value that one look does not have is not said to be gone."""


@dataclass(frozen=True, slots=True)
class Changed:
    """Something about a device that was otherwise; ``why`` names what this tool did in between."""

    mac: str
    name: str
    what: str
    was: str
    now: str
    why: str = ""

    def __str__(self) -> str:
        by = f" ({self.why})" if self.why else ""
        return f"{self.what} is {self.now or 'none'}, was {self.was or 'none'}{by}"


@dataclass(frozen=True, slots=True)
class Undecided:
    """A device that only one of the looks has, and why that says nothing."""

    device: SeenDevice
    reason: str


@dataclass(frozen=True, slots=True)
class Comparison:
    """The result of comparing two looks."""

    appeared: tuple[SeenDevice, ...]
    vanished: tuple[SeenDevice, ...]
    changed: tuple[Changed, ...]
    undecided: tuple[Undecided, ...]

    @property
    def is_same(self) -> bool:
        """Whether nothing is known to have changed."""
        return not (self.appeared or self.vanished or self.changed)


Why = Callable[[str, str], str]
"""What this tool did to a device, by its MAC, in between, that explains a change of a field."""


def compare(one: SeenLook, other: SeenLook, why: Why = lambda mac, what: "") -> Comparison:
    """The differences of the ``other`` look, which is the later one."""
    before, after = one.lines, other.lines
    # Most devices are the same in both, and need not be read.
    was = _read(before, without=set(after))
    now = _read(after, without=set(before))
    appeared, unknown = _only_in(now, was, one, "not known whether it is new")
    vanished, unheard = _only_in(was, now, other, "not known whether it is there")
    pairs = [(was[key], device) for key, device in now.items() if key in was]
    changed = [each for was, now in pairs for each in _changes(one, other, was, now, why)]
    moved = [now for was, now in pairs if was.addresses != now.addresses]
    changed += _other_macs(one, other, [*appeared, *moved], why)
    undecided = sorted((*unknown, *unheard), key=lambda each: _order(each.device))
    return Comparison(tuple(appeared), tuple(vanished), tuple(changed), tuple(undecided))


def _read(lines: Iterable[str], without: Collection[str]) -> dict[str, SeenDevice]:
    """The devices of some lines by their keys, but for those that another look has, too."""
    devices = (read_device(line) for line in lines if line not in without)
    return {key: device for device in devices if (key := key_of(device))}


def _only_in(
    devices: Mapping[str, SeenDevice],
    others: Mapping[str, SeenDevice],
    other: SeenLook,
    words: str,
) -> tuple[list[SeenDevice], list[Undecided]]:
    """The devices that only one look has, and those of which the other one could not say so."""
    alone = sorted((devices[key] for key in devices.keys() - others.keys()), key=_order)
    reasons = [(device, other.could_see(device)) for device in alone]
    return (
        [device for device, reason in reasons if reason is None],
        [Undecided(device, f"{words}: {reason}") for device, reason in reasons if reason],
    )


def _order(device: SeenDevice) -> tuple[str, ...]:
    return (device.mac, *device.addresses)


def _changes(
    one: SeenLook, other: SeenLook, was: SeenDevice, now: SeenDevice, why: Why
) -> Iterator[Changed]:
    def change(what: str, before: str, after: str) -> Changed:
        name = now.called or was.called
        return Changed(now.mac, name, what, before, after, why(now.mac, what))

    if was.addresses != now.addresses:
        yield change("address", ", ".join(was.addresses), ", ".join(now.addresses))
    for what in _COMPARED:
        before, after = was.values.get(what), now.values.get(what)
        # Another method may word the same thing otherwise: compare only values of the same method.
        if before and after and before != after and was.by.get(what) == now.by.get(what):
            yield change(what, before, after)
    for part, before, after in part_changes(was.parts, now.parts):
        yield change(part, before, after)
    ran = "ports" in one.methods and "ports" in other.methods
    if ran and was.addresses and now.addresses and set(was.doors) != set(now.doors):
        yield change("doors", ", ".join(was.doors), ", ".join(now.doors))


def _other_macs(
    one: SeenLook, other: SeenLook, arrived: Iterable[SeenDevice], why: Why
) -> Iterator[Changed]:
    """Addresses that another device has than before, of those at which one has arrived."""
    by = {address: device for device in arrived for address in device.addresses if device.mac}
    if not by:
        return  # Nobody has arrived: no need to index the addresses of two large looks.
    before, after = one.macs_at(by), other.macs_at(by)
    for address, device in by.items():
        was, now = before.get(address, set()), after.get(address, set())
        if was and now and not was & now:
            macs = ", ".join(sorted(was)), ", ".join(sorted(now))
            what = f"device at {address}"
            yield Changed(device.mac, device.called, what, *macs, why(device.mac, "address"))
