"""What the firewall of Windows lets come to this program, by its rules in the registry.

They may be read by everybody, and are written as [MS-GPFAS] §2.2.2 says: fields between bars, as in
``v2.30|Action=Block|Active=TRUE|Dir=In|Protocol=17|App=C:\\python.exe|Name=…|``.
"""

from __future__ import annotations

import os
import sys
import winreg
from collections import defaultdict
from collections.abc import Iterator
from typing import TypeAlias

from portcall.core.printable import told_by_others

assert sys.platform == "win32"

_POLICIES = (
    r"SYSTEM\CurrentControlSet\Services\SharedAccess\Parameters\FirewallPolicy",
    r"SOFTWARE\Policies\Microsoft\WindowsFirewall",
)
"""The person's own rules, and those of who runs the computer."""

Rule: TypeAlias = defaultdict[str, list[str]]
"""The fields of a rule; some stand in it several times."""

_RULES = "FirewallRules"
_PROFILES = ("StandardProfile", "PublicProfile", "DomainProfile", "PrivateProfile")
_UDP = "17"
_MOST_RULES = 20_000


def keeps_out(port: int) -> str | None:
    """Why a question to a UDP port of this program may not come in, with what to do; None where
    nothing is known that keeps it out."""
    if not any(_is_on(policy, profile) for policy in _POLICIES for profile in _PROFILES):
        return None
    ours = [each for each in _rules() if _is_about(each, port)]
    blocking = next((each for each in ours if "Block" in each["Action"]), None)
    if blocking is not None:
        name = told_by_others("".join(blocking["Name"])) or "without a name"
        return (
            f"the Windows firewall has a rule that keeps out what comes to {sys.executable} "
            f"({name}): take it out in wf.msc, or devices that ask are not heard"
        )
    if any("Allow" in each["Action"] and _is_for_public(each) for each in ours):
        return None
    return (
        "where the Windows firewall asks about Python, allow it, for public networks too: what "
        "leads to no router counts as one"
    )


def _is_on(policy: str, profile: str) -> bool:
    value = _value(rf"{policy}\{profile}", "EnableFirewall")
    return value == 1


def _value(key: str, name: str) -> object:
    try:
        with winreg.OpenKey(winreg.HKEY_LOCAL_MACHINE, key) as opened:
            return winreg.QueryValueEx(opened, name)[0]
    except OSError:
        return None


def _rules() -> Iterator[Rule]:
    """The rules that are in force, as their fields."""
    for policy in _POLICIES:
        try:
            with winreg.OpenKey(winreg.HKEY_LOCAL_MACHINE, rf"{policy}\{_RULES}") as opened:
                count = min(winreg.QueryInfoKey(opened)[1], _MOST_RULES)
                texts = [str(winreg.EnumValue(opened, number)[1]) for number in range(count)]
        except OSError:
            continue
        for text in texts:
            rule: Rule = defaultdict(list)
            for field in text.split("|"):
                name, _, value = field.partition("=")
                rule[name].append(value)
            if rule["Active"] == ["TRUE"] and rule["Dir"] == ["In"]:
                yield rule


def _is_for_public(rule: Rule) -> bool:
    """Whether a rule holds in a network that Windows does not know, such as a plant's."""
    return not rule["Profile"] or "Public" in rule["Profile"]


def _is_about(rule: Rule, port: int) -> bool:
    """Whether a rule is about this program and a UDP port, or about all programs and that port."""
    program = os.path.expandvars("".join(rule["App"]))
    mine = os.path.normcase(program) == os.path.normcase(sys.executable)
    if (rule["Protocol"] or [_UDP]) != [_UDP] or (program and not mine):
        return False
    named = rule["LPort"] or rule["LPort2_10"]
    return mine if not named else any(_holds(each, port) for each in named)


def _holds(ports: str, port: int) -> bool:
    """Whether one port, or a range of them, has a port in it."""
    first, _, last = ports.partition("-")
    if not first.isdecimal() or (last and not last.isdecimal()):
        return False
    return int(first) <= port <= int(last or first)
