"""The link of an adapter by what Windows does itself, where no capture driver is installed.

Who has an address of the adapter's subnets is asked by the system (ResolveIpNetEntry2), and told as
the ARP answer that it had. BOOTP and DHCP are spoken by sockets, and told as frames: whose they are
stands in the message. What nobody can ask so is refused, and never passed over in silence.
"""

from __future__ import annotations

import errno
import socket
import threading
from collections.abc import Callable, Iterator
from contextlib import suppress
from ipaddress import IPv4Address
from time import monotonic

from portcall.core.address import BROADCAST, LIMITED_BROADCAST, UNSPECIFIED, Mac
from portcall.core.talk.conversation import Frame, IcmpPacket
from portcall.core.talk.frames import heard_arp
from portcall.core.trouble import NotPossibleHere
from portcall.core.wire import arp, bootp, ethernet, ipv4, udp
from portcall.core.wire.ethernet import EtherType
from portcall.core.wire.octets import Malformed
from portcall.host.medium import MOST_AT_ONCE
from portcall.host.windows import tables
from portcall.host.windows.bell import Bell
from portcall.host.windows.echoes import Echoes

_MOST_THREADS = 256
"""Questions that wait for their answer at once; the system asks for about three seconds."""

_PORTS = (bootp.SERVER_PORT, bootp.CLIENT_PORT)
_LONGEST = 4096
_LOOK_AGAIN = 0.2


class SystemLink:
    """What the system can ask and hear on one adapter, as frames.

    With ``serves``, BOOTP and DHCP are heard from the start. Raises NotPossibleHere, also for a
    port that another program has.
    """

    def __init__(self, adapter: str, serves: bool = False) -> None:
        here = next((each for each in tables.adapters() if each.name == adapter), None)
        if here is None or len(here.mac) != 6:
            raise NotPossibleHere(f"{adapter} is gone, or has no Ethernet in it")
        self._index, self.mac = here.index, Mac(here.mac)
        self._own = [each.interface for each in here.addresses]
        self._adapter = adapter
        self._bell: Bell[tuple[Frame, float]] = Bell()
        self._under_way = threading.Semaphore(_MOST_THREADS)
        self._over = threading.Event()
        self._sockets: dict[int, socket.socket] = {}
        if serves:
            for port in _PORTS:
                self._socket(port)

    def reaches(self, address: IPv4Address) -> bool:
        """Whether it can be asked from here who has an address."""
        return any(address in own.network for own in self._own)

    def fileno(self) -> int:
        """Readable when something came."""
        return self._bell.fileno()

    def receive(self) -> Iterator[tuple[Frame, float]]:
        """What has come, with its times."""
        yield from self._bell.take(MOST_AT_ONCE)

    def send(self, packet: Frame) -> None:
        """Have the system ask, or say, what a frame would. Raises OSError, NotPossibleHere."""
        asked = heard_arp(packet)
        if asked is not None and asked.operation is arp.Operation.REQUEST:
            self._ask(asked.target_address)
            return
        if asked is not None:
            return  # An announcement of our own address: the system makes its own.
        try:
            outer = ipv4.parse(ethernet.parse(packet.data).payload)
            if outer.protocol == ipv4.PROTOCOL_ICMP:
                self._in_a_thread(lambda: self._echoed(outer))
                return
            self._say(udp.parse_frame(packet.data))
        except Malformed:
            raise OSError(errno.EOPNOTSUPP, "this needs a capture driver") from None

    def _ask(self, address: IPv4Address) -> None:
        if any(own.ip == address for own in self._own):
            return
        if not self.reaches(address):
            raise OSError(errno.ENETUNREACH, f"{self._adapter} is not in the subnet of {address}")
        self._in_a_thread(lambda: self._resolved(address))

    def _in_a_thread(self, work: Callable[[], None]) -> None:
        if not self._under_way.acquire(blocking=False):
            raise BlockingIOError("too many questions are under way")

        def run() -> None:
            try:
                # An adapter that goes meanwhile answers nothing; that it went is told elsewhere.
                with suppress(OSError, NotPossibleHere):
                    work()
            finally:
                self._under_way.release()

        threading.Thread(target=run, daemon=True).start()

    def _resolved(self, address: IPv4Address) -> None:
        mac = tables.resolve(self._index, address)
        if mac is None:
            return
        own = next((each.ip for each in self._own if address in each.network), UNSPECIFIED)
        answer = arp.Arp(arp.Operation.REPLY, Mac(mac), address, self.mac, own)
        outer = ethernet.EthernetFrame(self.mac, Mac(mac), EtherType.ARP, arp.encode(answer))
        self._tell(ethernet.encode(outer))

    def _echoed(self, asked: ipv4.Ipv4Packet) -> None:
        """Send an echo, and tell its answer as the frame that it came in."""
        told = Echoes.once(self._adapter, IcmpPacket(asked.destination, asked.payload))
        mac = tables.resolve(self._index, asked.destination)
        if told is None or mac is None:
            return
        inner = ipv4.Ipv4Packet(told.peer, asked.source, ipv4.PROTOCOL_ICMP, told.message)
        outer = ethernet.EthernetFrame(self.mac, Mac(mac), EtherType.IPV4, ipv4.encode(inner))
        self._tell(ethernet.encode(outer))

    def _say(self, frame: udp.UdpFrame) -> None:
        """Send BOOTP or DHCP. Who has no address yet is answered by a broadcast (RFC 1542 §4.1.2):
        the system has no MAC to send to."""
        if frame.datagram.source_port not in _PORTS:
            raise OSError(errno.EOPNOTSUPP, "this needs a capture driver")
        to = frame.destination
        known = to == LIMITED_BROADCAST or self._has_answered(to, frame.destination_mac)
        sock = self._socket(frame.datagram.source_port)
        where = str(to if known else LIMITED_BROADCAST)
        sock.sendto(frame.datagram.payload, (where, frame.datagram.destination_port))

    def _has_answered(self, address: IPv4Address, mac: Mac) -> bool:
        known = (each for each in tables.neighbours() if each.index == self._index)
        return any((each.address, each.mac) == (address, bytes(mac)) for each in known)

    def _socket(self, port: int) -> socket.socket:
        """The socket of a port, which is heard from now on. Raises NotPossibleHere."""
        if port in self._sockets:
            return self._sockets[port]
        if not self._own:
            raise NotPossibleHere(
                f"{self._adapter} has no address, and Windows speaks no DHCP for others from there",
                "a capture driver helps: portcall help windows",
            )
        sock = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        try:
            sock.settimeout(_LOOK_AGAIN)
            sock.setsockopt(socket.SOL_SOCKET, socket.SO_BROADCAST, 1)
            sock.bind((str(self._own[0].ip), port))
        except OSError as error:
            sock.close()
            raise NotPossibleHere(
                f"UDP port {port} cannot be had: {error.strerror}; another program has it, or "
                "Windows' own DHCP client on this adapter",
                "netstat -abnop udp says which",
            ) from None
        self._sockets[port] = sock
        threading.Thread(target=self._listen, args=(port, sock), daemon=True).start()
        return sock

    def _listen(self, port: int, sock: socket.socket) -> None:
        while not self._over.is_set():
            try:
                data, (sender, sender_port) = sock.recvfrom(_LONGEST)
            except TimeoutError:
                continue
            except OSError:
                if self._over.wait(_LOOK_AGAIN):
                    return
                continue
            with suppress(Malformed, ValueError, OSError):
                self._tell(self._as_frame(IPv4Address(sender), sender_port, port, data))

    def _as_frame(self, sender: IPv4Address, sender_port: int, port: int, data: bytes) -> bytes:
        """A message as the frame that it came in: a client's from its own MAC, which it names, a
        server's or relay agent's from the MAC that the system knows of it. Raises Malformed."""
        message = bootp.parse(data)
        if port == bootp.SERVER_PORT and message.giaddr == UNSPECIFIED:
            mac = message.mac
        else:
            known = (each for each in tables.neighbours() if each.index == self._index)
            octets = next((each.mac for each in known if each.address == sender), b"")
            mac = Mac(octets) if len(octets) == 6 else BROADCAST
        to = LIMITED_BROADCAST if sender == UNSPECIFIED else self._own[0].ip
        datagram = udp.UdpDatagram(sender_port, port, data)
        heard = udp.UdpFrame(mac, self.mac, sender, to, datagram)
        return udp.encode_frame(heard)

    def _tell(self, frame: bytes) -> None:
        if not self._over.is_set():
            with suppress(OSError):
                self._bell.put((Frame(frame), monotonic()))

    def close(self) -> None:
        """Hear nothing any more; what is under way ends by itself."""
        self._over.set()
        for sock in self._sockets.values():
            sock.close()
        self._bell.close()
