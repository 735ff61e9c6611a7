"""A second leg on the wire: an address borrowed in a subnet that the workstation is not in.

The address lives in a network namespace of this process alone, on a virtual adapter
(``borrowed_adapter``) that bears the adapter's own MAC; frames go between that and the adapter's
link. So the operating system's own UDP and TCP can ask devices of a foreign subnet, and the
workstation stays as it is: no address is added to it, no route, no neighbour.

Only frames of the borrowed address pass, either way. A leg may stand before one device alone: what
goes to the address that this device shares with another is sent to its MAC, and only what comes
from that MAC is let in. Needs root or CAP_SYS_ADMIN, CAP_NET_ADMIN.
"""

from __future__ import annotations

import asyncio
import errno
from contextlib import suppress
from ipaddress import IPv4Interface
from pathlib import Path

from portcall.core.address import Mac
from portcall.core.find.borrowed import concerns
from portcall.core.talk.conversation import Actions, Conversation, Frame, Report
from portcall.core.trouble import NotPossibleHere
from portcall.host.linux.borrowed_adapter import ADAPTER, BorrowedAdapter, make
from portcall.host.linux.link import Link
from portcall.host.linux.namespaces import NetworkNamespace, quiet_kernel
from portcall.host.runner import Runner
from portcall.host.vantage import Only, Vantage

_SENDER = slice(6, 12)
_MOST_AT_ONCE = 64


class Leg:
    """Stands on an adapter for as long as it is not closed. Raises NotPossibleHere.

    With ``only`` it stands before that one device.
    """

    def __init__(
        self, runner: Runner, adapter: str, interface: IPv4Interface, only: Only | None = None
    ) -> None:
        _refuse_forwarding(adapter)
        self._link = Link(adapter)
        self._runner = runner
        self._interface = interface
        self._only = only
        try:
            self._namespace = NetworkNamespace()
        except OSError as error:
            self._link.close()
            raise _not_possible(error) from None
        try:
            self._adapter = self._namespace.call(self._make)
        except OSError as error:
            self._link.close()
            self._namespace.close()
            raise _not_possible(error) from None
        self._loop = asyncio.get_running_loop()
        self._loop.add_reader(self._adapter, self._outward)
        runner.start(_Inward(interface, only.mac if only else None), self._link, self._write)

    @property
    def vantage(self) -> Vantage:
        """Where to ask from."""
        return Vantage(ADAPTER, self._interface, self._namespace.call)

    def close(self) -> None:
        """Take the leg off the wire; its network goes with it."""
        self._loop.remove_reader(self._adapter)
        self._runner.drop(self._link)
        self._link.close()
        self._adapter.close()
        self._namespace.close()

    def _make(self) -> BorrowedAdapter:
        quiet_kernel()
        return make(self._link.mac, self._interface, self._only)

    def _outward(self) -> None:
        for _ in range(_MOST_AT_ONCE):
            try:
                data = self._adapter.read()
            except OSError:
                return
            if concerns(data, self._interface, outward=True):
                # A link that cannot take a frame now loses it, as a cable does.
                with suppress(OSError):
                    self._link.send(Frame(data))

    def _write(self, data: bytes) -> None:
        with suppress(OSError):
            self._adapter.write(data)


class _Inward(Conversation[Frame, bytes]):
    """Reports the frames that are for the borrowed address; never over."""

    def __init__(self, interface: IPv4Interface, only: Mac | None) -> None:
        self._interface = interface
        self._only = only

    def heard(self, packet: Frame, now: float) -> Actions[Frame, bytes]:
        """Pass on what concerns the address."""
        if self._only is not None and packet.data[_SENDER] != self._only:
            return
        if concerns(packet.data, self._interface, outward=False):
            yield Report(packet.data)


def _not_possible(error: OSError) -> NotPossibleHere:
    """Why an address cannot be borrowed, and what to do."""
    if error.errno in (errno.EPERM, errno.EACCES):
        return NotPossibleHere(
            f"asking in a subnet this computer is not in needs root "
            f"({error.strerror}): run this with sudo"
        )
    return NotPossibleHere(
        f"asking in a subnet this computer is not in needs a pair of virtual adapters, which this "
        f"computer cannot make ({error.strerror}); load the kernel's module for them: modprobe veth"
    )


def _refuse_forwarding(adapter: str) -> None:
    """A computer that forwards would pass on what comes for an address that is not its own."""
    setting = Path("/proc/sys/net/ipv4/conf") / adapter / "forwarding"
    with suppress(OSError):
        if setting.read_text().strip() == "1":
            raise NotPossibleHere(
                f"this computer forwards packets that come in on {adapter}, and would send the "
                "answers elsewhere; switch it off meanwhile: sysctl "
                f"net.ipv4.conf.{adapter}.forwarding=0",
                f"and back: sysctl net.ipv4.conf.{adapter}.forwarding=1",
            )
