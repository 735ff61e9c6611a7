"""Adding addresses to an adapter, taking them off, and putting back what was there."""

import sys

if sys.platform == "win32":
    from portcall.host.windows.addresses import (
        add_address,
        asks_itself,
        described,
        found_taken,
        put_back,
        remove_address,
        remove_alone,
        save,
        take_off,
    )
else:
    from portcall.host.linux.addresses import (
        add_address,
        asks_itself,
        described,
        found_taken,
        put_back,
        remove_address,
        remove_alone,
        save,
        take_off,
    )

__all__ = [
    "add_address",
    "asks_itself",
    "described",
    "found_taken",
    "put_back",
    "remove_address",
    "remove_alone",
    "save",
    "take_off",
]
