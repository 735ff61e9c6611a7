"""Counting what really leaves an adapter."""

from portcall.host.linux.meter import Meter

__all__ = ["Meter"]
