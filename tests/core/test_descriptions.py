"""The description that a CIP device carries: fetched whole, or refused with the reason, soon."""

import gzip
import time
import tracemalloc
import zlib
from collections.abc import Callable
from dataclasses import dataclass
from ipaddress import IPv4Address

import pytest
from hypothesis import given
from hypothesis import strategies as st

from portcall.core.catalog.carried import eds_text
from portcall.core.catalog.catalog import Codes, Numbering, Product
from portcall.core.catalog.eds import parse_eds
from portcall.core.cip.file_object import (
    LARGEST_FILE,
    MOST_EXCHANGES,
    MOST_PIECES,
    Carried,
    NotCarried,
    fetch_description,
)
from portcall.core.talk.conversation import Report, Send, StreamBytes
from portcall.core.talk.dialogue import Dialogue
from portcall.core.trouble import BadInput
from portcall.core.wire import cip, cip_file, cip_message
from portcall.core.wire.cip_file import Attribute, Piece, Transfer, Upload

GALE = Codes(Numbering.CIP, 64102, 704)
DEVICE = '[Device]\nVendCode = {};\nVendName = "{}";\nProdCode = {};\nProdName = "{}";\n'
EDS = DEVICE.format(64102, "Whimbrel Drives", 704, "Gale 7 drive, 4 kW")


@dataclass
class Device:
    """A CIP device whose file object is right, but for what a test has changed."""

    file: bytes = EDS.encode()
    piece: int = 255
    size: int | None = None
    told: int | None = None
    checksum: bytes | None = None
    status: int = 0
    transfer: Callable[[Transfer], Transfer] = lambda right: right
    asked: int = 0

    def answer(self, request: bytes) -> bytes:
        self.asked += 1
        asked = cip.parse(request)
        if asked.command == cip.LIST_IDENTITY:
            who = cip.Identity(
                IPv4Address(1), 44818, 64102, 2, 704, 5, 2, 0, 7, b"Gale 7 drive, 4 kW", 3
            )
            return cip.encode_identity(who, asked.context)
        if asked.command == cip_message.REGISTER_SESSION:
            return cip.encode(asked._replace(session=7))
        wanted = cip_message.parse_request(cip_message.parse_unconnected(asked))
        data = b"" if self.status else self.serve(wanted)
        response = cip_message.encode_response(
            cip_message.Response(wanted.service, self.status, data)
        )
        return cip_message.encode_unconnected(7, response, asked.context)

    def serve(self, wanted: cip_message.Request) -> bytes:
        assert (wanted.class_number, wanted.instance) == (0x37, 0xC8)
        size = len(self.file) if self.size is None else self.size
        right = cip_file.encode_number(cip_file.checksum(self.file), Attribute.CHECKSUM)
        if wanted.service == cip_file.INITIATE_UPLOAD:
            return cip_file.encode_upload(Upload(size, self.piece))
        if wanted.service == cip_message.GET_ATTRIBUTE_SINGLE:
            number = size if wanted.attribute == Attribute.SIZE else self.told
            return right if number is None else cip_file.encode_number(number, wanted.attribute)
        count = -(-len(self.file) // self.piece)
        at = self.asked - 6
        assert wanted.data[0] == at & 0xFF
        data = self.file[at * self.piece : (at + 1) * self.piece]
        kind = Piece.FIRST if at == 0 else Piece.MIDDLE
        if at == count - 1:
            kind = Piece.ONLY if at == 0 else Piece.LAST
            data += right if self.checksum is None else self.checksum
        return cip_file.encode_transfer(self.transfer(Transfer(at & 0xFF, kind, data)))


def fetched(device):
    """All that was learnt, with every answer as the device gives it."""
    dialogue = Dialogue(fetch_description(), lambda fact, now: fact, most=MOST_EXCHANGES)
    facts, waiting = [], list(dialogue.begin(0))
    while waiting:
        action = waiting.pop(0)
        if isinstance(action, Report):
            facts.append(action.fact)
        elif isinstance(action, Send) and not dialogue.over:
            answer = device.answer(action.packet.data)
            waiting += dialogue.heard(StreamBytes(answer), 0)
    assert dialogue.over
    return facts


@given(st.binary(min_size=1, max_size=70_000), st.integers(1, 255), st.booleans())
def test_whatever_a_device_carries_arrives_as_it_is(file, piece, with_checksum):
    piece = max(piece, -(-len(file) // MOST_PIECES))
    device = Device(file, piece, checksum=None if with_checksum else b"")
    assert fetched(device)[-1] == Carried(file)


def test_a_file_without_any_checksum_is_taken_and_said_to_be_so(monkeypatch):
    device = Device(checksum=b"")
    serve = device.serve

    def cut_off(wanted):
        return b"\1" if wanted.attribute == Attribute.CHECKSUM else serve(wanted)

    monkeypatch.setattr(device, "serve", cut_off)
    assert fetched(device)[-1] == Carried(device.file, is_proven=False)


ENDLESS = lambda right: right._replace(kind=Piece.MIDDLE, data=bytes(255))  # noqa: E731
HOSTILE = {
    "has none": (Device(status=0x05), "carries no description of itself: it has no such object"),
    "no service": (Device(status=0x08), "carries no description of itself: service not supported"),
    "is busy": (Device(status=0x0C), "does not hand out its description: the state of the object"),
    "empty": (Device(b"", size=0), "has an empty description"),
    "huge": (Device(size=2**32 - 1), "has 4,294,967,295 octets; no more than 1,048,576 are taken"),
    "no pieces": (Device(transfer=None, piece=0), "in pieces of 0"),
    "crumbs": (Device(bytes(9_000), piece=1), "its 9,000 octets in pieces of 1; no more than"),
    "endless": (Device(transfer=ENDLESS), "sends more than the 106 octets that it told"),
    "endless, as it told": (
        Device(size=LARGEST_FILE, transfer=lambda right: ENDLESS(right)._replace(data=b"x")),
        f"had not sent its 1,048,576 octets after {MOST_PIECES:,} pieces",
    ),
    "nothing, for ever": (
        Device(transfer=lambda right: ENDLESS(right)._replace(data=b"")),
        "sent an empty piece after 0 of 106 octets",
    ),
    "short": (Device(size=200), "said that it has 200 octets, and its last came after 108"),
    "breaks off": (
        Device(transfer=lambda right: right._replace(kind=Piece.ABORTED)),
        "broke off the transfer after 0 of 106 octets",
    ),
    "out of turn": (
        Device(transfer=lambda right: right._replace(number=9)),
        "sent piece 9 for piece 0 after 0 of 106 octets",
    ),
    "checksum told": (Device(told=0x1234), "octets whose checksum is 0xe057; the one told is"),
    "checksum behind": (Device(checksum=b"\0\0"), "the one sent behind it is 0x0000"),
    "half a checksum": (Device(checksum=b"\0"), "has one octet behind its description"),
}


@pytest.mark.parametrize(("device", "reason"), HOSTILE.values(), ids=HOSTILE)
def test_a_file_object_that_is_not_right_is_refused_with_the_reason(device, reason):
    tracemalloc.start()
    last = fetched(device)[-1]
    _, most = tracemalloc.get_traced_memory()
    tracemalloc.stop()
    assert isinstance(last, NotCarried)
    assert reason in last.reason
    assert device.asked <= MOST_EXCHANGES
    assert most < 8 * LARGEST_FILE


ODD = {
    "code page": EDS.replace("Drives", "Éclair").encode("cp1252"),
    "utf-16": EDS.encode("utf-16"),
    "utf-8 with a mark": b"\xef\xbb\xbf" + EDS.encode(),
    "old line ends": EDS.replace("\n", "\r").encode(),
    "no semicolons": EDS.replace(";", "").encode(),
    "no second quote": EDS.replace('kW";', "kW").encode(),
    "comments": EDS.replace("704;", '704 $ "; [Device]\n;$ [x').encode(),
    "leading zeros": EDS.replace("704", "00704").encode(),
    "no bracket": EDS.replace("[Device]", "[ DEVICE").encode(),
    "a path before": b'[File]\nIcon = "icons\\";\nHome = "a\\";\n' + EDS.encode(),
    "quotes within": b'[File]\nDescText = "the \\"[Device]\\" part; $ 7";\n' + EDS.encode(),
    "gzip": gzip.compress(EDS.encode()),
    "gzip, icon first": gzip.compress(bytes(300)) + gzip.compress(EDS.encode()) + b"\0\0",
    "zlib, icon behind": zlib.compress(EDS.encode() + bytes(range(256))),
}


@pytest.mark.parametrize("data", ODD.values(), ids=ODD)
def test_what_makers_put_into_their_files_is_read_as_it_is_meant(data):
    catalog = parse_eds(eds_text(data, "gale7.eds"), "gale7.eds")
    assert catalog.product(GALE) == Product("Gale 7 drive, 4 kW")
    assert catalog.maker(GALE) in ("Whimbrel Drives", "Whimbrel Éclair")


def test_several_devices_in_one_file_are_each_of_them_kept():
    both = (
        EDS + "[File]\nRevision = 1.0;\n" + DEVICE.format(64102, "Whimbrel Drives", 705, "Gale 8")
    )
    catalog = parse_eds(both, "gales.eds")
    assert {codes.product: p.name for codes, p in catalog.products.items()} == {
        704: "Gale 7 drive, 4 kW",
        705: "Gale 8",
    }
    for text, complaint in (
        (
            EDS + DEVICE.format(64102, "Whimbrel Drives", 704, "Gale 8"),
            "product 704 twice, and not",
        ),
        (EDS + "[Device]\nVendCode = 1;", r"\[Device\] section 2 does not say VendName, ProdCode"),
        (EDS + DEVICE.format(1, "W", "1_0", "G"), r"section 2: ProdCode: 1_0: is not a number"),
        (EDS * 1_001, r"1,001 \[Device\] sections"),
    ):
        with pytest.raises(BadInput, match=complaint):
            parse_eds(text, "gales.eds")


def test_what_cannot_be_unpacked_is_refused_and_takes_no_room():
    bomb = gzip.compress(bytes(200_000_000), 9)
    whole = gzip.compress(EDS.encode())
    for data, complaint in (
        (bomb, "more than 4,000,000 octets long when unpacked"),
        (zlib.compress(bytes(5_000_000)), "more than 4,000,000 octets"),
        (whole[:-9], "ends too early"),
        (whole[:-8] + bytes(8), "damaged"),
        (b"PK\x03\x04" + bytes(90), "is a ZIP archive: unpack it"),
    ):
        tracemalloc.start()
        with pytest.raises(BadInput, match=complaint):
            eds_text(data, "gale7.eds")
        _, most = tracemalloc.get_traced_memory()
        tracemalloc.stop()
        assert most < 20_000_000


@given(st.text('[]"\\;=$, \nDeviceVndCo1', max_size=200))
def test_no_text_is_read_as_anything_but_a_catalogue_or_refused(text):
    try:
        catalog = parse_eds(text + "\n" + EDS, "gale7.eds")
    except BadInput:
        return
    assert catalog.product(GALE) == Product("Gale 7 drive, 4 kW")


@pytest.mark.parametrize("piece", ['\\"', '" ', '\\" ', "[a", "a=\n", '"\n', "\\", " \t"])
def test_no_text_takes_long_to_read(piece):
    def seconds(text):
        began = time.process_time()
        with pytest.raises(BadInput):
            parse_eds('[x]\na="' + text, "gale7.eds")
        return time.process_time() - began

    assert seconds(piece * (200_000 // len(piece))) < 20 * seconds("x" * 200_000) + 0.5
