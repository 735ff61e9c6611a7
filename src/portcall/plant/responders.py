"""The answers of simulated devices by UDP, and their words on the bare link."""

from __future__ import annotations

from bisect import bisect_right
from ipaddress import IPv4Interface

from portcall.core.address import UNSPECIFIED
from portcall.core.assign.event import Event
from portcall.core.assign.reply import Replies
from portcall.core.assign.server import AddressServer
from portcall.core.finding import Name
from portcall.core.plan.rows import Plan, PlannedDevice
from portcall.core.talk import request
from portcall.core.talk.conversation import Actions, Conversation, Datagram, Frame, Send
from portcall.core.wire import bacnet, dcp, dns, lldp, netbios, snmp
from portcall.core.wire.dhcp import prefix_length
from portcall.core.wire.octets import Malformed, Reader
from portcall.plant.cip_device import cip_reply
from portcall.plant.memory import Memory, Verdict
from portcall.plant.parts import interface_values
from portcall.plant.scenario import DeviceEntry
from portcall.plant.switch import switch_values

_COMMUNITY = b"public"
_PORT = b"port 3"
"""Of a switch, the one that the workstation is at."""

_UNKNOWN, _NOT_SET, _IN_OPERATION = 1, 3, 6
"""BlockErrors of DCP."""


class Responder(Conversation[Datagram, None]):
    """Answers each datagram by itself."""

    def __init__(self, memory: Memory) -> None:
        self.memory = memory
        self.entry = memory.entry

    def reply(self, request: bytes) -> bytes | None:
        """The answer, or None. May raise Malformed."""
        raise NotImplementedError

    def heard(self, packet: Datagram, now: float) -> Actions[Datagram, None]:
        """Answer the one who asked."""
        try:
            reply = self.reply(packet.payload)
        except Malformed:
            return
        if reply is not None:
            yield Send(Datagram(packet.peer, reply))


class IdentityResponder(Responder):
    """CIP List Identity."""

    def reply(self, request: bytes) -> bytes | None:
        """As over TCP."""
        return cip_reply(self.memory, request)


class SnmpResponder(Responder):
    """The system group, and a switch's tables, to whoever knows the community."""

    def reply(self, request: bytes) -> bytes | None:
        """The values asked for that there are."""
        asked = snmp.parse(request)
        if asked.community != _COMMUNITY:
            return None
        plate = self.entry.nameplate
        values: dict[str, snmp.Value] = {
            snmp.SYS_DESCR: f"{plate.product}, firmware {plate.major}.{plate.minor:03d}".encode(),
            snmp.SYS_OBJECT_ID: f"{snmp.ENTERPRISES}{plate.vendor}.{plate.product_code}",
            snmp.SYS_NAME: self.memory.host_name.encode(),
            snmp.SYS_LOCATION: self.entry.place.encode(),
            **(interface_values(self.memory) if not self.entry.behind else {}),
            **switch_values(self.entry),
        }
        own = self.memory.interface
        if own is not None:
            values[f"{snmp.NET_MASK}{own.ip}"] = own.netmask
        if asked.asks_next or asked.repetitions:
            found: dict[str, snmp.Value] = {}
            ordered = sorted(values, key=_as_numbers)
            for key in asked.values:
                start = bisect_right(ordered, _as_numbers(key), key=_as_numbers)
                after = ordered[start : start + max(asked.repetitions, 1)]
                found |= {each: values[each] for each in after} or {key: None}
        else:
            found = {key: values.get(key) for key in asked.values}
        return snmp.encode_response(
            snmp.SnmpMessage(asked.version, asked.community, asked.request, found)
        )


def _as_numbers(key: str) -> tuple[int, ...]:
    return tuple(map(int, key.split(".")))


class NetbiosResponder(Responder):
    """Node status."""

    def reply(self, request: bytes) -> bytes | None:
        """Its own name and its group's."""
        number = netbios.parse_request(request)
        name = self.memory.host_name.upper()[:15].encode("ascii", "replace")
        names = (
            netbios.NodeName(name, netbios.WORKSTATION),
            netbios.NodeName(b"DRYER", netbios.WORKSTATION, is_group=True),
        )
        return netbios.encode(netbios.NodeStatus(number, names, self.entry.mac))


class MdnsResponder(Responder):
    """Its web page as a service, to one-shot questions."""

    _KIND = "_http._tcp.local"

    def reply(self, request: bytes) -> bytes | None:
        """All it has, to any question for services."""
        asked = dns.parse_query(request)
        instance = f"{self.memory.host_name}.{self._KIND}"
        pointers = []
        if dns.ALL_SERVICES in asked:
            pointers.append((dns.ALL_SERVICES.rstrip("."), self._KIND))
        if f"{self._KIND}." in asked:
            pointers.append((self._KIND, instance))
        if not pointers:
            return None
        own = self.memory.interface
        hosts = ((f"{self.memory.host_name}.local", own.ip),) if own else ()
        return dns.encode_answer(dns.Answer(tuple(pointers), hosts))


class BacnetResponder(Responder):
    """Answer Who-Is, and tell the texts of the device object."""

    def reply(self, request: bytes) -> bytes | None:
        """I-Am, or a property."""
        asked = bacnet.parse(request)
        plate = self.entry.nameplate
        instance = plate.serial & 0x3FFFFF
        if isinstance(asked, bacnet.WhoIs):
            return bacnet.encode(bacnet.IAm(instance, plate.vendor))
        texts = {
            bacnet.Property.VENDOR_NAME: plate.maker,
            bacnet.Property.MODEL_NAME: plate.product,
            bacnet.Property.FIRMWARE_REVISION: f"{plate.major}.{plate.minor:03d}",
            bacnet.Property.OBJECT_NAME: self.memory.host_name,
            bacnet.Property.LOCATION: self.entry.place,
            bacnet.Property.DESCRIPTION: "",
        }
        if not isinstance(asked, bacnet.ReadProperty) or asked.instance != instance:
            return None
        if asked.wanted not in texts:
            return None
        text = texts[bacnet.Property(asked.wanted)]
        return bacnet.encode(bacnet.PropertyText(asked.invoke, instance, asked.wanted, text))


class Station(Conversation[Frame, None]):
    """Answers DCP identify, is set by DCP, and says hello when it starts."""

    def __init__(self, memory: Memory) -> None:
        self._memory = memory
        self._mac = memory.entry.mac

    def _blocks(self) -> tuple[dcp.Block, ...]:
        memory, plate = self._memory, self._memory.entry.nameplate
        own = memory.interface
        return dcp.encode_station(
            dcp.Station(
                memory.station_name.encode(),
                plate.product.encode(),
                plate.vendor,
                plate.product_code,
                ("I/O device",),
                own.ip if own else None,
                own.netmask if own else None,
                memory.gateway if own else None,
            )
        )

    def begin(self, now: float) -> Actions[Frame, None]:
        """Hello."""
        message = dcp.DcpMessage(
            dcp.FrameId.HELLO, dcp.Service.HELLO, dcp.REQUEST, 0, blocks=self._blocks()
        )
        yield Send(Frame(dcp.encode_frame(dcp.HELLO_GROUP, self._mac, message)))

    def heard(self, packet: Frame, now: float) -> Actions[Frame, None]:
        """Answer the one who asks for everybody, and the one who sets something here."""
        try:
            asker, asked = dcp.parse_frame(packet.data)
            if asked.service is dcp.Service.SET and asked.is_request:
                if packet.data[:6] == self._mac:
                    errors = tuple(self._set(block) for block in asked.blocks)
                    yield Send(
                        Frame(dcp.encode_frame(asker, self._mac, dcp.set_reply(asked, errors)))
                    )
                return
        except Malformed:
            return
        wanted = [block.option for block in asked.blocks]
        if asked.frame_id is dcp.FrameId.IDENTIFY_REQUEST and wanted == [dcp.ALL]:
            message = dcp.DcpMessage(
                dcp.FrameId.IDENTIFY_RESPONSE,
                dcp.Service.IDENTIFY,
                dcp.SUCCESS,
                asked.xid,
                blocks=self._blocks(),
            )
            yield Send(Frame(dcp.encode_frame(asker, self._mac, message)))

    def _set(self, block: dcp.Block) -> int:
        """Do what one block says; its BlockError. Raises Malformed."""
        memory = self._memory
        if block.option == dcp.SIGNAL:
            memory.shown += 1
            return 0
        if block.option == dcp.STATION_NAME:
            verdict = memory.set_station_name(block.data.decode("ascii", "replace"))
        elif block.option == dcp.IP_PARAMETER:
            reader = Reader(block.data, "DCP IP parameter")
            address, mask, gateway = reader.address(), reader.address(), reader.address()
            prefix = prefix_length(mask)
            if prefix is None:
                return _NOT_SET
            interface = None if address == UNSPECIFIED else IPv4Interface((address, prefix))
            router = None if gateway in (UNSPECIFIED, address) else gateway
            verdict = memory.set_address(interface, router, block.qualifier == dcp.PERMANENT)
        else:
            return _UNKNOWN
        return 0 if verdict is Verdict.DONE else _IN_OPERATION


class Announcer(Conversation[Frame, None]):
    """LLDP, every few seconds, with the address it has by then."""

    def __init__(self, memory: Memory) -> None:
        self._memory = memory

    def begin(self, now: float) -> Actions[Frame, None]:
        """Announce."""
        yield from self.woke(now)

    def woke(self, now: float) -> Actions[Frame, None]:
        """Announce again."""
        memory, entry, plate = self._memory, self._memory.entry, self._memory.entry.nameplate
        self.wake_at = now + entry.announce_every
        said = lldp.Announcement(
            lldp.Subtype.CHASSIS_MAC,
            entry.mac.octets,
            lldp.Subtype.PORT_NAME,
            _PORT,
            120,
            name=memory.host_name.encode(),
            description=f"{plate.product}, firmware {plate.major}.{plate.minor:03d}".encode(),
            management=(memory.interface.ip,) if memory.interface else (),
        )
        yield Send(Frame(lldp.encode_frame(entry.mac, said)))


class ServicePort(Conversation[Frame, Event]):
    """Hands one address by DHCP to the first who asks, as some machines do at their service port.

    It is the tool's own address server with a plan of one row, made when the MAC is known.
    """

    LEASE_SECONDS = 600

    def __init__(self, entry: DeviceEntry, gives: IPv4Interface, own: IPv4Interface) -> None:
        self._entry = entry
        self._gives = gives
        self._own = own
        self._server: AddressServer | None = None

    def heard(self, packet: Frame, now: float) -> Actions[Frame, Event]:
        """The first device that asks gets the address."""
        if self._server is None:
            try:
                asked = request.read(packet)
            except Malformed:
                return
            if asked is None:
                return
            plan = Plan((PlannedDevice(Name("workstation"), self._gives, asked.mac),))
            replies = Replies(self._entry.mac)
            self._server = AddressServer((self._own,), plan, replies, self.LEASE_SECONDS)
            yield from self._server.begin(now)
        yield from self._server.heard(packet, now)
        self.wake_at = self._server.wake_at

    def woke(self, now: float) -> Actions[Frame, Event]:
        """Wake its server when it wanted to be woken."""
        if self._server is not None:
            yield from self._server.woke(now)
            self.wake_at = self._server.wake_at
