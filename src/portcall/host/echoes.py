"""ICMP echoes on one adapter."""

from portcall.host.linux.echoes import Echoes, own_identifier

__all__ = ["Echoes", "own_identifier"]
