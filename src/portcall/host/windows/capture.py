"""The capture driver of this computer, by the open interface of libpcap: ``wpcap.dll``."""

from __future__ import annotations

import ctypes
import glob
import os
import sys
from contextlib import suppress

from portcall.core.trouble import NotPossibleHere
from portcall.host.filters import Program
from portcall.host.windows import tables

assert sys.platform == "win32"

_LONGEST_FRAME = 65536
_TOLD_AFTER = 5
"""Milliseconds that the driver may gather frames before it gives them."""

_ERROR_ROOM = 256
_WITH_ITS_FOLDER = 0x8
"""LOAD_WITH_ALTERED_SEARCH_PATH: what a library needs is looked for beside it."""


class _Device(ctypes.Structure):
    """pcap_if_t."""


_Device._fields_ = (
    ("next", ctypes.POINTER(_Device)),
    ("name", ctypes.c_char_p),
    ("description", ctypes.c_char_p),
    ("addresses", ctypes.c_void_p),
    ("flags", ctypes.c_uint32),
)


class _Head(ctypes.Structure):
    """struct pcap_pkthdr, whose times are of 32 bits on Windows."""

    _fields_ = (
        ("seconds", ctypes.c_long),
        ("microseconds", ctypes.c_long),
        ("taken", ctypes.c_uint32),
        ("length", ctypes.c_uint32),
    )


class _Step(ctypes.Structure):
    """struct bpf_insn."""

    _fields_ = (
        ("code", ctypes.c_uint16),
        ("if_true", ctypes.c_uint8),
        ("if_false", ctypes.c_uint8),
        ("operand", ctypes.c_uint32),
    )


class _Steps(ctypes.Structure):
    """struct bpf_program."""

    _fields_ = (("count", ctypes.c_uint), ("first", ctypes.POINTER(_Step)))


def _library() -> ctypes.CDLL:
    """The library of the capture driver. Raises NotPossibleHere where there is none."""
    system = os.path.join(os.environ.get("SYSTEMROOT", r"C:\Windows"), "System32")
    beside = sorted(glob.glob(os.path.join(glob.escape(system), "*", "wpcap.dll")))
    for name, how in (("wpcap", None), *((each, _WITH_ITS_FOLDER) for each in beside)):
        with suppress(OSError):
            found = ctypes.CDLL(name, winmode=how)
            found.pcap_open_live.restype = ctypes.c_void_p
            found.pcap_next_ex.argtypes = (
                ctypes.c_void_p,
                ctypes.POINTER(ctypes.POINTER(_Head)),
                ctypes.POINTER(ctypes.POINTER(ctypes.c_uint8)),
            )
            found.pcap_sendpacket.argtypes = (ctypes.c_void_p, ctypes.c_char_p, ctypes.c_int)
            found.pcap_setfilter.argtypes = (ctypes.c_void_p, ctypes.POINTER(_Steps))
            found.pcap_close.argtypes = (ctypes.c_void_p,)
            found.pcap_close.restype = None
            return found
    raise NotPossibleHere(
        "raw Ethernet needs a capture driver, and none is installed on this computer",
        "portcall help windows tells what needs it",
    )


def has_driver() -> bool:
    """Whether a capture driver is installed."""
    try:
        _library()
    except NotPossibleHere:
        return False
    return True


def _device_name(library: ctypes.CDLL, guid: str) -> bytes | None:
    """The driver's own name of an adapter, which ends with the adapter's identity."""
    first, error = ctypes.POINTER(_Device)(), ctypes.create_string_buffer(_ERROR_ROOM)
    if library.pcap_findalldevs(ctypes.byref(first), error):
        return None
    try:
        device = first
        while device:
            name: bytes = device.contents.name or b""
            if guid.lower().encode() in name.lower():
                return name
            device = device.contents.next
    finally:
        library.pcap_freealldevs(first)
    return None


class Capture:
    """An adapter that the driver has opened: all its frames, either way. Raises NotPossibleHere.

    With ``passes``, only those that this program accepts.
    """

    def __init__(self, adapter: str, passes: Program | None = None) -> None:
        seen = next((each for each in tables.adapters() if each.name == adapter), None)
        if seen is None:
            raise NotPossibleHere(f"{adapter}: there is no such adapter in this computer now")
        self.own = seen.mac
        """The adapter's own MAC."""
        self._library = _library()
        name = _device_name(self._library, seen.guid)
        error = ctypes.create_string_buffer(_ERROR_ROOM)
        handle = name and self._library.pcap_open_live(name, _LONGEST_FRAME, 1, _TOLD_AFTER, error)
        if not handle:
            why = error.value.decode(errors="replace") or "the capture driver does not know it"
            raise NotPossibleHere(f"{adapter}: cannot be opened: {why}")
        self._handle = ctypes.c_void_p(handle)
        if passes is not None:
            steps = (_Step * len(passes))(*(_Step(*step) for step in passes))
            self._library.pcap_setfilter(self._handle, ctypes.byref(_Steps(len(passes), steps)))
        self._head = ctypes.POINTER(_Head)()
        self._data = ctypes.POINTER(ctypes.c_uint8)()

    def next(self) -> tuple[bytes, int] | None:
        """The next frame, and when it came, in nanoseconds since 1970; None where none came within
        a few milliseconds. Raises EOFError when there will be no more."""
        got = self._library.pcap_next_ex(
            self._handle, ctypes.byref(self._head), ctypes.byref(self._data)
        )
        if got < 0:
            raise EOFError
        if got == 0:
            return None
        head = self._head.contents
        at = head.seconds * 1_000_000_000 + head.microseconds * 1000
        return ctypes.string_at(self._data, head.taken), at

    def send(self, frame: bytes) -> None:
        """Send a frame as it is. Raises OSError."""
        if self._library.pcap_sendpacket(self._handle, frame, len(frame)):
            raise OSError("the capture driver does not take the frame")

    def close(self) -> None:
        """Give the adapter back; nobody may be waiting for a frame."""
        self._library.pcap_close(self._handle)
