"""Adding addresses to an adapter, taking them off, and putting back what was there."""

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
