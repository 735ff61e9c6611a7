"""Names by multicast DNS and DNS-SD: what offers services on the link, and what it is called."""

from __future__ import annotations

from collections.abc import Iterable
from ipaddress import IPv4Address

from portcall.core.find.sighting import Field, Method, Said, Sighting, words
from portcall.core.printable import printable
from portcall.core.talk.ask_all import AskAll
from portcall.core.talk.conversation import Actions, Datagram, Endpoint, Report
from portcall.core.wire import dns
from portcall.core.wire.octets import Malformed

ANSWER_WAIT = 1.0
_MOST_KINDS = 20
_MOST_ANSWERS = 5000
_MOST_PER_DEVICE = 50


def said(answer: dns.Answer, sender: IPv4Address) -> tuple[Said, ...]:
    """What an answer says of the one that sent it: its host name, and its services' names."""
    host = next((name for name, address in answer.hosts if address == sender), "")
    instances = [
        target
        for kind, target in answer.pointers
        if kind != dns.ALL_SERVICES.rstrip(".") and target.endswith(kind)
    ]
    offers = sorted({printable(target.replace("\\032", " ")) for target in instances})
    return words(
        Method.MDNS,
        (Field.NAME, printable(host.removesuffix(".local"))),
        (Field.DESCRIPTION, f"offers {', '.join(offers[:4])}" if offers else None),
    )


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
            if name == dns.ALL_SERVICES.rstrip(".") and len(self._kinds) < _MOST_KINDS:
                self._kinds[f"{target}."] = None
        yield Report(Sighting(now, Method.MDNS, address=sender, said=said(answer, sender)))
