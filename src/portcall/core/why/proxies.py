"""The rung of the programs: whether this computer sends its web programs elsewhere."""

from __future__ import annotations

from collections.abc import Sequence
from ipaddress import IPv4Address, IPv4Interface

from portcall.core.find.web_page import PAGES
from portcall.core.finding import Name
from portcall.core.printable import decoded
from portcall.core.why import sentences as say
from portcall.core.why.ladder import Cause, Goal, Rung, Step, broken, holds

_LONGEST_VALUE = 60


def judge_programs(
    goal: Goal, proxies: Sequence[tuple[str, str]], web_doors: Sequence[int]
) -> Step:
    """Whether programs of this computer are sent to a proxy; ``proxies`` are name and value."""
    if not proxies:
        return holds(Rung.PROGRAMS, say.NO_PROXY())
    variables = [Name(name) for name, _ in proxies]
    proxies = concerning(proxies, web_doors)
    if not proxies:
        return holds(Rung.PROGRAMS, say.PROXY_FOR_OTHERS(variables=variables))
    value = decoded(proxies[0][1].encode("utf-8", "replace"), _LONGEST_VALUE)
    return broken(
        Rung.PROGRAMS,
        say.PROXY_SET(variables=variables, proxy=value),
        Cause.PROXY,
        say.SENT_TO_PROXY(variables=variables, proxy=value),
        say.LEAVE_OUT_OF_PROXY(address=goal.address),
        say.OR_UNSET(unset=" ".join(name for name, _ in proxies)),
    )


def concerning(
    proxies: Sequence[tuple[str, str]], web_doors: Sequence[int]
) -> Sequence[tuple[str, str]]:
    """The variables that are about a page that is open."""
    return [each for each in proxies if _concerns(each[0], web_doors)]


def _concerns(variable: str, web_doors: Sequence[int]) -> bool:
    """Whether a variable is about a page that is open: each kind of page has its own."""
    kind = variable.casefold().removesuffix("_proxy")
    return any(kind in ("all", PAGES.get(port, "http")) for port in web_doors)


def proxies_for(address: IPv4Address, environment: dict[str, str]) -> list[tuple[str, str]]:
    """The variables that send web programs elsewhere, unless ``no_proxy`` leaves the address out.

    Lower or upper case, as programs read them; there is no standard. A list has addresses, ends of
    names, subnets, or a star for everything.
    """
    spared = ",".join(environment.get(name, "") for name in ("no_proxy", "NO_PROXY"))
    if any(_covers(entry.strip(), address) for entry in spared.split(",")):
        return []
    names = ("http_proxy", "HTTP_PROXY", "https_proxy", "HTTPS_PROXY", "all_proxy", "ALL_PROXY")
    return [(name, environment[name]) for name in names if environment.get(name)]


def _covers(entry: str, address: IPv4Address) -> bool:
    if entry in ("*", str(address)):
        return True
    try:
        return "/" in entry and address in IPv4Interface(entry).network
    except ValueError:
        return False
