"""Linux namespaces: networks that vanish with the process that made them (namespaces(7))."""

from __future__ import annotations

import contextlib
import ctypes
import os
import signal
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import TypeVar

from portcall.core.trouble import NotPossibleHere

CLONE_NEWNS = 0x00020000
CLONE_NEWUSER = 0x10000000
CLONE_NEWPID = 0x20000000
CLONE_NEWNET = 0x40000000

_MS_REC = 16384
_MS_BIND = 4096
_MS_PRIVATE = 1 << 18
_PR_SET_PDEATHSIG, _PR_SET_DUMPABLE = 1, 4

T = TypeVar("T")

_libc = ctypes.CDLL(None, use_errno=True)


def _check(result: int, what: str) -> None:
    if result != 0:
        number = ctypes.get_errno()
        raise OSError(number, f"{what}: {os.strerror(number)}")


def unshare(flags: int) -> None:
    """Move the calling thread into new namespaces (unshare(2)). Raises OSError."""
    _check(_libc.unshare(flags), "unshare")


def enter(descriptor: int, kind: int = CLONE_NEWNET) -> None:
    """Move the calling thread into a namespace (setns(2)). Raises OSError."""
    _check(_libc.setns(descriptor, kind), "setns")


def mount(source: str, target: str, kind: str | None = None, flags: int = 0) -> None:
    """mount(2). Raises OSError."""
    result = _libc.mount(
        source.encode(), target.encode(), kind.encode() if kind else None, flags, None
    )
    _check(result, f"mount {target}")


def bind_mount(source: str, target: str) -> None:
    """Show ``source`` at ``target``, in this mount namespace."""
    mount(source, target, flags=_MS_BIND)


def keep_mounts_private() -> None:
    """Let no mount made here be seen outside."""
    mount("none", "/", flags=_MS_REC | _MS_PRIVATE)


def die_with_parent() -> None:
    """Have the kernel kill this process when the one that forked it is gone (prctl(2))."""
    _check(_libc.prctl(_PR_SET_PDEATHSIG, signal.SIGKILL, 0, 0, 0), "prctl")


def leave_the_computer() -> None:
    """Move this process and its future children out of the computer's own network.

    New network, mount and process namespaces; for an ordinary user also a user namespace in which
    it is root. Children are in the new process namespace: when the first of them ends, the kernel
    ends all others. Raises NotPossibleHere when the kernel does not allow it.
    """
    user, group = os.geteuid(), os.getegid()
    flags = CLONE_NEWNET | CLONE_NEWNS | CLONE_NEWPID
    try:
        try:
            unshare(flags)
        except PermissionError:
            unshare(flags | CLONE_NEWUSER)
            # A program with capabilities on its file may not write to its own files in /proc
            # (proc(5)).
            _check(_libc.prctl(_PR_SET_DUMPABLE, 1, 0, 0, 0), "prctl")
            Path("/proc/self/setgroups").write_text("deny")
            Path("/proc/self/uid_map").write_text(f"0 {user} 1")
            Path("/proc/self/gid_map").write_text(f"0 {group} 1")
    except OSError as error:
        raise NotPossibleHere(
            "the practice plant needs namespaces, which this system does not allow "
            f"({error.strerror})",
            "run it with sudo, or allow user namespaces (sysctl "
            "kernel.unprivileged_userns_clone=1, user.max_user_namespaces)",
        ) from None


def quiet_kernel() -> None:
    """Settings of a simple device: no IPv6, no filtering by source, answer ARP plainly."""
    for setting, value in (
        ("ipv6/conf/all/disable_ipv6", "1"),
        ("ipv6/conf/default/disable_ipv6", "1"),
        ("ipv4/conf/all/rp_filter", "0"),
        ("ipv4/conf/default/rp_filter", "0"),
        ("ipv4/conf/all/arp_ignore", "0"),
        ("ipv4/conf/all/arp_announce", "0"),
        # Not icmp_ratelimit: 0 there makes a router say less often that it has no route.
        ("ipv4/icmp_ratemask", "0"),
    ):
        # Where /proc/sys may not be written, the computer's own setting has to do.
        with contextlib.suppress(OSError):
            (Path("/proc/sys/net") / setting).write_text(value)


def allow_ipv6(adapter: str) -> None:
    """Let an adapter have its link-local address, at once; where /proc/sys may be written."""
    for setting in ("accept_dad", "disable_ipv6"):
        with contextlib.suppress(OSError):
            (Path("/proc/sys/net/ipv6/conf") / adapter / setting).write_text("0")


def forward() -> None:
    """Pass on what comes for others, as a router does (RFC 1812), and say what cannot be."""
    with contextlib.suppress(OSError):
        Path("/proc/sys/net/ipv4/ip_forward").write_text("1")


class NetworkNamespace:
    """A network of its own. Work in it is done by one thread that lives there.

    The thread that calls never leaves its own namespace, and sockets that ``call`` opens stay in
    this one wherever they are used.
    """

    def __init__(self) -> None:
        self._thread = ThreadPoolExecutor(max_workers=1, thread_name_prefix="namespace")
        self.descriptor = self._thread.submit(self._make).result()

    @staticmethod
    def _make() -> int:
        unshare(CLONE_NEWNET)
        return os.open("/proc/thread-self/ns/net", os.O_RDONLY | os.O_CLOEXEC)

    def call(self, function: Callable[[], T]) -> T:
        """Run a function inside, and give back what it gives."""
        return self._thread.submit(function).result()

    def close(self) -> None:
        """Let it go; it vanishes when the last socket in it is closed."""
        os.close(self.descriptor)
        self._thread.shutdown(wait=True)
