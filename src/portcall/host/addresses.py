"""Adding addresses to an adapter, taking them off, and putting back what was there."""

import sys

if sys.platform == "win32":
    from portcall.host.windows.lacking import Refused as NotPutBack
    from portcall.host.windows.lacking import refuse as add_address
    from portcall.host.windows.lacking import refuse as described
    from portcall.host.windows.lacking import refuse as put_back
    from portcall.host.windows.lacking import refuse as remove_address
    from portcall.host.windows.lacking import refuse as remove_alone
    from portcall.host.windows.lacking import refuse as save
    from portcall.host.windows.lacking import refuse as take_off
else:
    from portcall.host.linux.addresses import (
        NotPutBack,
        add_address,
        described,
        put_back,
        remove_address,
        remove_alone,
        save,
        take_off,
    )

__all__ = [
    "NotPutBack",
    "add_address",
    "described",
    "put_back",
    "remove_address",
    "remove_alone",
    "save",
    "take_off",
]
