"""Names by multicast DNS and DNS-SD: what offers services on the link, and what it is called."""

from __future__ import annotations

from collections.abc import Iterable
from ipaddress import IPv4Address

from portcall.core.find.protocol import Protocol, ToAll
from portcall.core.find.sighting import Field, Method, Said, Sighting, said_by
from portcall.core.printable import printable
from portcall.core.talk.ask_all import AskAll
from portcall.core.talk.conversation import Actions, Datagram, Endpoint, Report
from portcall.core.wire import dns
from portcall.core.wire.octets import Malformed

ANSWER_WAIT = 1.0
_MOST_KINDS = 20
_MOST_ANSWERS = 5000
_MOST_PER_DEVICE = 50
_MOST_OFFERS = 6

_ALL = dns.ALL_SERVICES.rstrip(".")
_SERVICES = {
    # The registry's service names (RFC 6335) that are met in plants, in words.
    "http": "web",
    "https": "secure web",
    "ipp": "printer",
    "ipps": "printer",
    "printer": "printer",
    "pdl-datastream": "printer",
    "scanner": "scanner",
    "uscan": "scanner",
    "ssh": "shell",
    "sftp-ssh": "shell",
    "telnet": "shell",
    "ftp": "files",
    "smb": "files",
    "nfs": "files",
    "webdav": "files",
    "opcua-tcp": "OPC UA",
    "mqtt": "MQTT",
    "secure-mqtt": "MQTT",
    "coap": "CoAP",
    "modbus": "Modbus",
    "rtsp": "camera",
    "rfb": "remote screen",
    "ntp": "time",
    "workstation": "computer",
    "device-info": "device description",
}


def said(answer: dns.Answer, sender: IPv4Address) -> tuple[Said, ...]:
    """The host name and the services that an answer tells of its sender."""
    host = next((name for name, address in answer.hosts if address == sender), "")
    # If no address is told along, and all services go by one name, that is the host's name.
    instances = {
        target.removesuffix(f".{kind}") for kind, target in answer.pointers if kind != _ALL
    }
    host = host or (instances.pop() if len(instances) == 1 else "")
    kinds = [kind for kind, target in answer.pointers if target.endswith(f".{kind}")]
    offers = sorted({_service(kind) for kind in kinds if kind != _ALL})
    return said_by(
        Method.MDNS,
        (Field.NAME, printable(host.removesuffix(".local"))),
        (Field.DESCRIPTION, f"offers {', '.join(offers[:_MOST_OFFERS])}" if offers else None),
    )


def _service(kind: str) -> str:
    """A kind of service in a word; one that has none here by its registered name (RFC 6335)."""
    name = kind.split(".")[0].removeprefix("_")
    return _SERVICES.get(name, printable(name, 20))


class MdnsNames(AskAll[Datagram, Sighting]):
    """Asks for all kinds of service, then for who offers those that were named."""

    def __init__(self) -> None:
        super().__init__(ANSWER_WAIT)
        self._kinds: dict[str, None] = {}
        self._answers: dict[IPv4Address, int] = {}

    def question(self) -> Iterable[Datagram]:
        """The kinds of service, and those that were named."""
        query = dns.encode_query((dns.ALL_SERVICES, *self._kinds)) if self._kinds else dns.QUESTION
        return (Datagram(Endpoint(dns.GROUP, dns.PORT), query),)

    def heard(self, packet: Datagram, now: float) -> Actions[Datagram, Sighting]:
        """Read an answer; kinds of service are asked for in the next round."""
        sender = packet.peer.address
        count = self._answers.get(sender, 0)
        if count >= _MOST_PER_DEVICE or len(self._answers) >= _MOST_ANSWERS:
            return
        try:
            answer = dns.parse(packet.payload)
        except Malformed:
            return
        self._answers[sender] = count + 1
        for name, target in answer.pointers:
            if name == _ALL and len(self._kinds) < _MOST_KINDS:
                self._kinds[f"{target}."] = None
        yield Report(Sighting(now, Method.MDNS, address=sender, said=said(answer, sender)))


PROTOCOL = Protocol(Method.MDNS, "mDNS", 33, to_all=ToAll(lambda broadcast: MdnsNames()))
