"""Multicast DNS and DNS-SD (RFC 6762, RFC 6763); the DNS messages themselves are a library's.

It is imported when the first message is made or read, since most commands need none.
"""

from __future__ import annotations

from collections.abc import Sequence
from ipaddress import IPv4Address
from typing import NamedTuple

from portcall.core.wire.octets import Malformed

PORT = 5353
GROUP = IPv4Address("224.0.0.251")
ALL_SERVICES = "_services._dns-sd._udp.local."
"""RFC 6763 §9: who asks for this is told every kind of service."""
QUESTION = bytes.fromhex(
    "000000000001000000000000095f7365727669636573075f646e732d7364045f756470056c6f63616c00000c0001"
)
"""The query for that name alone, ready-made: loading the library takes longer than asking."""
LONGEST = 9000
"""RFC 6762 §17."""
_MOST_RECORDS = 200


class Answer(NamedTuple):
    """The records of one message; names without their final dot."""

    pointers: tuple[tuple[str, str], ...] = ()
    """Each who is asked for, and who that is: kinds of service, instances, names of addresses."""
    hosts: tuple[tuple[str, IPv4Address], ...] = ()
    texts: tuple[tuple[str, str], ...] = ()
    """Instances and their key=value pairs, joined by a blank."""


def encode_query(names: Sequence[str]) -> bytes:
    """A query for the pointers of some names, as a one-shot question (RFC 6762 §5.1)."""
    import dns.flags
    import dns.message
    import dns.rdatatype

    message = dns.message.make_query(names[0], dns.rdatatype.PTR, id=0, flags=0)
    for name in names[1:]:
        extra = dns.message.make_query(name, dns.rdatatype.PTR)
        message.question += extra.question
    return message.to_wire()


def parse_query(data: bytes) -> tuple[str, ...]:
    """The names a query asks for. Raises Malformed for what is none."""
    message = _message(data)
    if _is_response(message):
        raise Malformed("DNS: is an answer", 2)
    return tuple(str(question.name) for question in message.question)


def encode_answer(said: Answer, transaction: int = 0) -> bytes:
    """A response with these records, ten seconds long as RFC 6762 §6.7 has it for one-shots."""
    import dns.flags
    import dns.message
    import dns.rrset

    message = dns.message.Message(id=transaction)
    message.flags = dns.flags.QR | dns.flags.AA
    for name, target in said.pointers:
        message.answer.append(dns.rrset.from_text(f"{name}.", 10, "IN", "PTR", f"{target}."))
    for name, address in said.hosts:
        message.additional.append(dns.rrset.from_text(f"{name}.", 10, "IN", "A", str(address)))
    for name, text in said.texts:
        quoted = " ".join(f'"{pair}"' for pair in text.split())
        message.additional.append(dns.rrset.from_text(f"{name}.", 10, "IN", "TXT", quoted))
    return message.to_wire()


def parse(data: bytes) -> Answer:
    """Read a response. Raises Malformed."""
    import dns.rdatatype

    message = _message(data)
    if not _is_response(message):
        raise Malformed("DNS: is a query", 2)
    pointers, hosts, texts = [], [], []
    count = 0
    for section in (message.answer, message.authority, message.additional):
        for records in section:
            name = _text(records.name)
            for record in records:
                count += 1
                if count > _MOST_RECORDS:
                    break
                if records.rdtype == dns.rdatatype.PTR:
                    pointers.append((name, _text(record.target)))
                elif records.rdtype == dns.rdatatype.A:
                    # By its octets: with the cache-flush bit (RFC 6762 §10.2) in its class, the
                    # library does not know the record.
                    octets = record.to_wire()
                    if len(octets) == 4:
                        hosts.append((name, IPv4Address(octets)))
                elif records.rdtype == dns.rdatatype.TXT:
                    pairs = b" ".join(record.strings).decode("utf-8", "replace")
                    texts.append((name, pairs))
    return Answer(tuple(pointers), tuple(hosts), tuple(texts))


def _text(name: object) -> str:
    return str(name).rstrip(".")


def _is_response(message: object) -> bool:
    import dns.flags

    return bool(message.flags & dns.flags.QR)  # type: ignore[attr-defined]


_HEADER = 12
_POINTER = 0xC0
_NAME_IN = {2: 0, 5: 0, 12: 0, 15: 2, 33: 6, 39: 0, 47: 0}
"""Where a record's data has a name: NS, CNAME, PTR, MX, SRV, DNAME, NSEC."""

_NO_NAME_IN = {1, 13, 16, 28, 41}
"""Records without a name in their data: A, HINFO, TXT, AAAA, OPT."""

_MOST_LABELS_OF_A_NAME = 127
_MOST_LABELS = 2000
"""Labels that all names of a message have together, each as often as a pointer leads to it. A full
message of real services has some hundred; a crafted one makes 15,000 of 1,400 octets.
"""


class _Labels:
    """Counts the labels of names without making the names; each octet is looked at once."""

    def __init__(self, data: bytes) -> None:
        self._data = data
        self._known: dict[int, int] = {}

    def name(self, at: int) -> tuple[int, int]:
        """How many labels a name has (RFC 1035 §4.1.4), and where what follows it begins."""
        data, known = self._data, self._known
        passed: list[int] = []
        behind = count = 0
        start = at
        while True:
            if at >= len(data):
                raise Malformed("DNS: a name goes on behind the end", at)
            if at in known:
                count = known[at]
                if behind:
                    break
            length = data[at]
            if length >= _POINTER:
                if at + 2 > len(data):
                    raise Malformed("DNS: half a pointer", at)
                behind = behind or at + 2
                target = int.from_bytes(data[at : at + 2], "big") & 0x3FFF
                # Each pointer must lead to a place before its own: so every chain of pointers ends.
                if target >= start:
                    raise Malformed("DNS: a pointer that leads forward", at)
                at = start = target
            elif length == 0:
                count = 0
                behind = behind or at + 1
                break
            else:
                passed.append(at)
                at += 1 + length
        for back, place in enumerate(reversed(passed), start=1):
            known[place] = count + back
        return count + len(passed), behind


def _check_work(data: bytes) -> None:
    """Raise Malformed for a message whose names take far longer to read than to send."""
    if len(data) < _HEADER:
        raise Malformed(f"DNS message of {len(data)} octets", len(data))
    questions, *records = (int.from_bytes(data[at : at + 2], "big") for at in range(4, 12, 2))
    labels, at, total = _Labels(data), _HEADER, 0
    for number in range(questions + sum(records)):
        if at >= len(data):
            return  # The library says what is missing.
        count, at = labels.name(at)
        total += count
        if number < questions:
            at += 4
        else:
            kind = int.from_bytes(data[at : at + 2], "big")
            length = int.from_bytes(data[at + 8 : at + 10], "big")
            at += 10
            if kind in _NAME_IN and length > _NAME_IN[kind] and at + length <= len(data):
                total += labels.name(at + _NAME_IN[kind])[0]
            elif kind not in _NO_NAME_IN:
                total += _MOST_LABELS_OF_A_NAME
            at += length
        if total > _MOST_LABELS:
            raise Malformed(f"DNS: names of more than {_MOST_LABELS} labels", at)


def _message(data: bytes):  # type: ignore[no-untyped-def]
    if len(data) > LONGEST:
        raise Malformed(f"DNS message of {len(data)} octets", LONGEST)
    _check_work(data)
    import dns.message

    try:
        # A record that the library does not read is left out, and the rest stays: it forbids
        # compressed names in NSEC records, where RFC 6762 §18.14 allows them.
        message = dns.message.from_wire(data, ignore_trailing=True, continue_on_error=True)
    except Exception as error:
        # The library's errors are of many kinds; hostile bytes reach all of them.
        raise Malformed(f"DNS: {type(error).__name__}", 0) from None
    records = message.answer or message.authority or message.additional
    if message.errors and not (records if _is_response(message) else message.question):
        raise Malformed(f"DNS: {type(message.errors[0].exception).__name__}", 0)
    return message
