"""Raw Ethernet on one adapter, where a capture driver is installed: the open interface of libpcap.

Its library, ``wpcap.dll``, gives no descriptor to wait on: a thread takes the frames, and hands
them to the event loop.
"""

from __future__ import annotations

import ctypes
import sys
import threading
from collections.abc import Iterator
from contextlib import suppress
from time import monotonic

from portcall.core.address import Mac
from portcall.core.talk.conversation import Frame
from portcall.core.trouble import NotPossibleHere
from portcall.host.filters import Program
from portcall.host.medium import MOST_AT_ONCE
from portcall.host.windows import tables
from portcall.host.windows.bell import Bell

assert sys.platform == "win32"

_LONGEST_FRAME = 65536
_TOLD_AFTER = 5
"""Milliseconds that the driver may gather frames before it gives them."""

_ERROR_ROOM = 256
_SOURCE = slice(6, 12)


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
    for name in ("wpcap", r"C:\Windows\System32\Npcap\wpcap.dll"):
        with suppress(OSError):
            found = ctypes.CDLL(name)
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


class Link:
    """All frames that arrive on an adapter, and frames sent on it. Needs a capture driver.

    With ``passes``, only the frames that this program accepts arrive. With ``outgoing``, the
    frames that leave arrive here, too.
    """

    def __init__(self, adapter: str, passes: Program | None = None, outgoing: bool = False) -> None:
        seen = next((each for each in tables.adapters() if each.name == adapter), None)
        if seen is None:
            raise NotPossibleHere(f"{adapter}: there is no such adapter in this computer now")
        self._own = seen.mac
        self._outgoing = outgoing
        self._library = _library()
        name, error = (
            _device_name(self._library, seen.guid),
            ctypes.create_string_buffer(_ERROR_ROOM),
        )
        handle = name and self._library.pcap_open_live(name, _LONGEST_FRAME, 1, _TOLD_AFTER, error)
        if not handle:
            why = error.value.decode(errors="replace") or "the capture driver does not know it"
            raise NotPossibleHere(f"{adapter}: cannot be opened: {why}")
        self._handle = ctypes.c_void_p(handle)
        if passes is not None:
            self._choose(passes)
        self._bell: Bell[tuple[Frame, float]] = Bell()
        self._over = threading.Event()
        self._thread = threading.Thread(target=self._listen, name=f"link-{adapter}", daemon=True)
        self._thread.start()

    def _choose(self, program: Program) -> None:
        steps = (_Step * len(program))(*(_Step(*step) for step in program))
        self._library.pcap_setfilter(self._handle, ctypes.byref(_Steps(len(program), steps)))

    def _listen(self) -> None:
        head, data = ctypes.POINTER(_Head)(), ctypes.POINTER(ctypes.c_uint8)()
        while not self._over.is_set():
            got = self._library.pcap_next_ex(self._handle, ctypes.byref(head), ctypes.byref(data))
            if got < 0:
                return
            if got == 0:
                continue
            frame = ctypes.string_at(data, head.contents.taken)
            if self._outgoing or frame[_SOURCE] != self._own:
                self._bell.put((Frame(frame), monotonic()))

    @property
    def mac(self) -> Mac:
        """The adapter's own MAC."""
        return Mac(self._own)

    def fileno(self) -> int:
        """Readable when frames have arrived."""
        return self._bell.fileno()

    def receive(self) -> Iterator[tuple[Frame, float]]:
        """Frames that have arrived, with their times."""
        yield from self._bell.take(MOST_AT_ONCE)

    def send(self, packet: Frame) -> None:
        """Send a frame as it is. Raises OSError."""
        if self._library.pcap_sendpacket(self._handle, packet.data, len(packet.data)):
            raise OSError("the capture driver does not take the frame")

    def close(self) -> None:
        """Stop listening."""
        self._over.set()
        self._thread.join(1.0)
        if not self._thread.is_alive():
            self._library.pcap_close(self._handle)
        self._bell.close()
