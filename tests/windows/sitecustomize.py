"""Two calls of Windows that Wine lacks: they are asked of a helper outside, which really does it.

Python runs this when it starts, where this folder is in its path. It knows nothing of the tool's
own code: the rows are read as netioapi.h lays them out.
"""

import ctypes
import os
import socket
import struct

HELPER = "PORTCALL_WINDOWS_HELPER"
"""The environment variable with the helper's port on 127.0.0.1."""

_ADDRESS, _INDEX, _VALID, _PREFIX = slice(4, 8), slice(40, 44), slice(52, 56), 60
_real = ctypes.WinDLL


def _asked(what, row):
    octets = bytes(row._obj)
    index, valid = (struct.unpack("<I", octets[part])[0] for part in (_INDEX, _VALID))
    address = ".".join(map(str, octets[_ADDRESS]))
    with socket.create_connection(("127.0.0.1", int(os.environ[HELPER])), timeout=10) as line:
        line.sendall(f"{what} {index} {address}/{octets[_PREFIX]} {valid}\n".encode())
        return int(line.makefile().readline())


class _Iphlpapi:
    """The library, with what it lacks."""

    def __init__(self, library):
        self._library = library

    def __getattr__(self, name):
        return getattr(self._library, name)

    def InitializeUnicastIpAddressEntry(self, row):
        ctypes.memset(row, 0, ctypes.sizeof(row._obj))

    def CreateUnicastIpAddressEntry(self, row):
        return _asked("add", row)

    def DeleteUnicastIpAddressEntry(self, row):
        return _asked("del", row)


def _library(name, *words, **more):
    found = _real(name, *words, **more)
    return _Iphlpapi(found) if name.lower() == "iphlpapi" else found


if HELPER in os.environ:
    ctypes.WinDLL = _library
