"""This computer's adapters, and the ways that its packets take."""

from portcall.host.linux.adapters import (
    leaves_by,
    link_counters,
    managed_by,
    name_servers,
    read_adapters,
    way_out,
)

__all__ = ["leaves_by", "link_counters", "managed_by", "name_servers", "read_adapters", "way_out"]
