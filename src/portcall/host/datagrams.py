"""UDP on one adapter."""

from portcall.host.linux.datagrams import Datagrams

__all__ = ["Datagrams"]
