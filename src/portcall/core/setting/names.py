"""The rules for names of devices, station names of DCP and host names of CIP."""

from __future__ import annotations

import re

from portcall.core.address import is_host_name
from portcall.core.printable import printable
from portcall.core.trouble import BadInput
from portcall.core.wire.cip_tcpip import LONGEST_HOST_NAME
from portcall.core.wire.dcp import LONGEST_STATION_NAME

_LONGEST_LABEL = 63
_LIKE_AN_ADDRESS = re.compile(r"\d{1,3}(\.\d{1,3}){3}")
_LIKE_A_PORT = re.compile(r"port-\d{3}(-\d{5})?")


def check_station_name(name: str) -> None:
    """Raise BadInput with the rule broken (IEC 61158-6-10 §4.3.1.4.15, NameOfStation)."""
    broken = _station_rule(name)
    if broken:
        raise BadInput(f"{printable(name, 60) or 'empty'}: is no station name: {broken}")


def _station_rule(name: str) -> str | None:
    if not name or len(name) > LONGEST_STATION_NAME:
        return f"it has {len(name)} characters; 1 to {LONGEST_STATION_NAME} are allowed"
    wrong = next(
        (c for c in name if not (c.isascii() and (c.islower() or c.isdigit())) and c not in "-."),
        None,
    )
    if wrong is not None:
        shown = printable(wrong) or "a space or control character"
        return f"{shown} is no lower-case letter a to z, no digit, no hyphen and no dot"
    for label in name.split("."):
        if not 0 < len(label) <= _LONGEST_LABEL:
            return f"between dots there are 1 to {_LONGEST_LABEL} characters, not {len(label)}"
        if label.startswith("-") or label.endswith("-"):
            return f"{label} starts or ends with a hyphen"
    if _LIKE_AN_ADDRESS.fullmatch(name):
        return "it looks like an address"
    if _LIKE_A_PORT.match(name.split(".")[0]):
        return "a name that starts with port- and three digits means a port"
    return None


def check_host_name(name: str) -> None:
    """Raise BadInput with the rule broken (RFC 1123 §2.1; CIP volume 2 §5-4.3.2.6)."""
    if len(name) > LONGEST_HOST_NAME:
        raise BadInput(
            f"{printable(name, 60)}: is no host name: it has {len(name)} characters, "
            f"at most {LONGEST_HOST_NAME} are allowed"
        )
    for label in name.split("."):
        if not is_host_name(label):
            raise BadInput(
                f"{printable(name, 60) or 'empty'}: is no host name: it has letters a to z, digits "
                "and hyphens, no hyphen first or last, up to 63 between dots"
            )
