"""What Wine lacks of Windows, or answers otherwise; and what tests do to a program from outside.

Python runs this when it starts, where this folder is in its path. A helper outside is asked, which
really does it. This knows nothing of the tool's own code: the rows are read as netioapi.h and
iptypes.h lay them out.
"""

import atexit
import ctypes
import json
import os
import socket
import struct
import threading
import time

HELPER = "PORTCALL_WINDOWS_HELPER"
"""The environment variable with the helper's port on 127.0.0.1."""

NO_DRIVER = "PORTCALL_WINDOWS_NO_DRIVER"
"""Where it is set, this computer has no capture driver."""

STEPS = "PORTCALL_WINDOWS_STEPS"
"""A file that each step is named in, by which something lasting is done."""

KILLED_AT = "PORTCALL_WINDOWS_KILLED_AT"
"""The number of the step that the program is killed at, before it is done."""

CONSOLE = "PORTCALL_WINDOWS_CONSOLE"
"""A file; when it is there, it names what is done to the console: break, close."""

_CLOSED = 2
_EVENTS = {"break": 1, "close": _CLOSED}
"""Events of a console (HandlerRoutine)."""

_ADDRESS, _ROW_INDEX, _ROW_VALID, _ROW_PREFIX = 4, 40, 52, 60
"""Where they are in MIB_UNICASTIPADDRESS_ROW."""

_WHO_INDEX, _WHO_MAC, _WHO_LENGTH = 28, 40, 72
"""Where they are in MIB_IPNET_ROW2."""

_BAD_NET_NAME = 67
"""What Windows says where nobody answers for an address."""

_WAY_INDEX, _WAY_TO, _WAY_PREFIX, _WAY_GATEWAY, _WAY_METRIC = 8, 16, 40, 48, 84
"""Where they are in MIB_IPFORWARD_ROW2."""

_INDEX, _NEXT, _FIRST_ADDRESS, _NAME = 4, 8, 24, 72
"""Where they are in IP_ADAPTER_ADDRESSES; an address has its next one there too."""

_SOCKET_ADDRESS, _ORIGIN, _STATE, _VALID = 16, 32, 40, 44
"""Where they are in IP_ADAPTER_UNICAST_ADDRESS."""

_real, _real_other = ctypes.WinDLL, ctypes.CDLL
_names = {}
"""The names that were given out: they have to stay where they are."""


def _asked(*words):
    with socket.create_connection(("127.0.0.1", int(os.environ[HELPER])), timeout=10) as line:
        line.sendall(json.dumps(words).encode() + b"\n")
        return json.loads(line.makefile().readline())


def _ipv4(octets):
    return ".".join(map(str, octets[:4]))


def _number(octets, at):
    return struct.unpack_from("<I", octets, at)[0]


def _address(what, row):
    octets = bytes(row._obj)
    interface = f"{_ipv4(octets[_ADDRESS:])}/{octets[_ROW_PREFIX]}"
    index, valid = _number(octets, _ROW_INDEX), _number(octets, _ROW_VALID)
    return _asked("address", what, index, interface, valid)


def _route(what, row):
    octets = bytes(row._obj)
    to = f"{_ipv4(octets[_WAY_TO:])}/{octets[_WAY_PREFIX]}"
    gateway = octets[_WAY_GATEWAY : _WAY_GATEWAY + 4]
    index = _number(octets, _WAY_INDEX)
    by = _ipv4(gateway) if any(gateway) else None
    return _asked("route", what, index, to, by, _number(octets, _WAY_METRIC))


def _pointer(at):
    return ctypes.c_uint64.from_address(at)


def _unsigned(at):
    return ctypes.c_uint32.from_address(at)


def _made_true(adapter):
    """Write into a list of adapters what Wine does not know of each."""
    told = _asked("told")
    while adapter:
        known = told.get(str(_unsigned(adapter + _INDEX).value), {})
        if known.get("name"):
            kept = _names.setdefault(known["name"], ctypes.create_unicode_buffer(known["name"]))
            _pointer(adapter + _NAME).value = ctypes.addressof(kept)
        own = _pointer(adapter + _FIRST_ADDRESS).value
        while own:
            place = _pointer(own + _SOCKET_ADDRESS).value
            address = _ipv4(ctypes.string_at(place + 4, 4))
            if address in known.get("addresses", {}):
                origin, valid, state = known["addresses"][address]
                _unsigned(own + _ORIGIN).value = origin
                _unsigned(own + _VALID).value = valid
                _unsigned(own + _STATE).value = state
            own = _pointer(own + _NEXT).value
        adapter = _pointer(adapter + _NEXT).value


_steps = 0


def _step(name):
    """Something lasting is about to be done."""
    global _steps
    _steps += 1
    if STEPS in os.environ:
        with open(os.environ[STEPS], "a") as file:
            file.write(f"{name}\n")
    if str(_steps) == os.environ.get(KILLED_AT):
        kernel = _real("kernel32")
        kernel.TerminateProcess(ctypes.c_void_p(-1), 9)


def _stepwise(name, function):
    def stepped(*words, **more):
        _step(name)
        return function(*words, **more)

    return stepped


class _Kernel:
    """The library, which keeps who is to be told of the console's end."""

    def __init__(self, library):
        self._library = library

    def __getattr__(self, name):
        return getattr(self._library, name)

    def SetConsoleCtrlHandler(self, handler, added):
        _handlers.append(handler)
        return self._library.SetConsoleCtrlHandler(handler, added)


_handlers = []


def _do_to_the_console():
    while not os.path.exists(os.environ[CONSOLE]):
        time.sleep(0.05)
    with open(os.environ[CONSOLE]) as file:
        event = _EVENTS[file.read()]
    # Windows calls who is to be told, last first, in a thread, until one says that it was for it.
    told = any(handler(event) for handler in reversed(_handlers))
    if event == _CLOSED or not told:
        _real("kernel32").TerminateProcess(ctypes.c_void_p(-1), 0xC000013A)


class _Waiting:
    """A function that waits: Wine's server stops when a program ends while one of these does."""

    def __init__(self, function):
        object.__setattr__(self, "_function", function)
        object.__setattr__(self, "_waiting", set())
        atexit.register(self._end)

    def __setattr__(self, name, value):
        setattr(self._function, name, value)

    def __call__(self, *words):
        own = object()
        self._waiting.add(own)
        try:
            return self._function(*words)
        finally:
            self._waiting.discard(own)

    def _end(self):
        until = time.monotonic() + 5
        while self._waiting and time.monotonic() < until:
            time.sleep(0.02)


class _Iphlpapi:
    """The library, with what it lacks."""

    def __init__(self, library):
        self._library = library
        self.IcmpSendEcho2Ex = _Waiting(library.IcmpSendEcho2Ex)

    def __getattr__(self, name):
        return getattr(self._library, name)

    def GetAdaptersAddresses(self, family, flags, reserved, buffer, size):
        code = self._library.GetAdaptersAddresses(family, flags, reserved, buffer, size)
        if code == 0:
            _made_true(ctypes.addressof(buffer))
        return code

    def InitializeUnicastIpAddressEntry(self, row):
        ctypes.memset(row, 0, ctypes.sizeof(row._obj))

    def CreateUnicastIpAddressEntry(self, row):
        _step("add")
        return _address("add", row)

    def DeleteUnicastIpAddressEntry(self, row):
        _step("take off")
        return _address("del", row)

    def ResolveIpNetEntry2(self, row, source):
        octets = bytes(row._obj)
        mac = _asked("resolve", _number(octets, _WHO_INDEX), _ipv4(octets[_ADDRESS:]))
        if mac is None:
            return _BAD_NET_NAME
        ctypes.memmove(
            ctypes.addressof(row._obj) + _WHO_MAC, bytes.fromhex(mac.replace(":", "")), 6
        )
        ctypes.c_uint32.from_address(ctypes.addressof(row._obj) + _WHO_LENGTH).value = 6
        return 0

    def CreateIpForwardEntry2(self, row):
        _step("add a route")
        return _route("add", row)


def _no_driver(name):
    if NO_DRIVER in os.environ and "wpcap" in name.lower():
        raise FileNotFoundError(name)


def _other_library(name, *words, **more):
    _no_driver(name)
    return _real_other(name, *words, **more)


def _library(name, *words, **more):
    _no_driver(name)
    found = _real(name, *words, **more)
    wrapped = {"iphlpapi": _Iphlpapi, "kernel32": _Kernel}.get(name.lower())
    return wrapped(found) if wrapped else found


if HELPER in os.environ:
    ctypes.WinDLL, ctypes.CDLL = _library, _other_library
if STEPS in os.environ or KILLED_AT in os.environ:
    os.fsync, os.replace = _stepwise("fsync", os.fsync), _stepwise("rename", os.replace)
if CONSOLE in os.environ:
    threading.Thread(target=_do_to_the_console, daemon=True).start()
