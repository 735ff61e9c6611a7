"""Asking from a borrowed address: there are no private networks on Windows to have one in."""

from __future__ import annotations

from ipaddress import IPv4Interface

from portcall.core.finding import Line
from portcall.core.trouble import NotPossibleHere
from portcall.host.runner import Runner
from portcall.host.vantage import Only, Vantage


class Leg:
    """Raises NotPossibleHere, which says what to do instead."""

    def __init__(
        self, runner: Runner, adapter: str, interface: IPv4Interface, only: Only | None = None
    ) -> None:
        raise NotPossibleHere(
            f"{adapter} is not in {interface.network}, and on Windows no address can be borrowed "
            "there",
            Line("match", interface.network),
        )

    @property
    def vantage(self) -> Vantage:
        """Never had."""
        raise AssertionError

    def close(self) -> None:
        """Nothing is to be given back."""
