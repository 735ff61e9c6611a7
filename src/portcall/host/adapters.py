"""This computer's adapters, and the ways that its packets take."""

import sys

if sys.platform == "win32":
    from portcall.host.windows.adapters import (
        leaves_by,
        link_counters,
        managed_by,
        name_servers,
        read_adapters,
        way_out,
    )
else:
    from portcall.host.linux.adapters import (
        leaves_by,
        link_counters,
        managed_by,
        name_servers,
        read_adapters,
        way_out,
    )

__all__ = ["leaves_by", "link_counters", "managed_by", "name_servers", "read_adapters", "way_out"]
