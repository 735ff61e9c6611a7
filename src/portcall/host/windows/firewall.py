"""What the firewall of Windows lets come to this program, by its rules in the registry.

They may be read by everybody, and are written as [MS-GPFAS] §2.2.2 says: fields between bars, as in
``v2.30|Action=Block|Active=TRUE|Dir=In|Protocol=17|App=C:\\python.exe|Name=…|``.
"""

from __future__ import annotations

import os
import sys
import winreg
from collections.abc import Iterator

assert sys.platform == "win32"

_POLICIES = (
    r"SYSTEM\CurrentControlSet\Services\SharedAccess\Parameters\FirewallPolicy",
    r"SOFTWARE\Policies\Microsoft\WindowsFirewall",
)
"""The person's own rules, and those of who runs the computer."""

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
    blocking = [each for each in ours if each.get("Action") == "Block"]
    if blocking:
        return (
            f"the Windows firewall has a rule that keeps out what comes to {sys.executable} "
            f"({blocking[0].get('Name', 'without a name')}): take it out in wf.msc, or devices "
            "that ask are not heard"
        )
    if any(each.get("Action") == "Allow" for each in ours):
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


def _rules() -> Iterator[dict[str, str]]:
    """The rules that are in force, as their fields."""
    for policy in _POLICIES:
        try:
            with winreg.OpenKey(winreg.HKEY_LOCAL_MACHINE, rf"{policy}\{_RULES}") as opened:
                count = min(winreg.QueryInfoKey(opened)[1], _MOST_RULES)
                texts = [str(winreg.EnumValue(opened, number)[1]) for number in range(count)]
        except OSError:
            continue
        for text in texts:
            pairs = (field.partition("=") for field in text.split("|"))
            rule = {name: value for name, equals, value in pairs if equals}
            if rule.get("Active") == "TRUE" and rule.get("Dir") == "In":
                yield rule


def _is_about(rule: dict[str, str], port: int) -> bool:
    """Whether a rule is about this program and a UDP port, or about all programs and that port."""
    program = os.path.expandvars(rule.get("App", ""))
    mine = os.path.normcase(program) == os.path.normcase(sys.executable)
    ports = rule.get("LPort")
    if rule.get("Protocol", _UDP) != _UDP or (program and not mine):
        return False
    return mine if ports is None else ports == str(port)
