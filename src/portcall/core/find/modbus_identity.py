"""Identifying by Modbus TCP: device identification (43/14), or else the server ID (17)."""

from __future__ import annotations

from portcall.core.find.sighting import Field, Learnt, Method, Said, words
from portcall.core.printable import decoded
from portcall.core.talk.dialogue import Exchange, Script
from portcall.core.wire import modbus
from portcall.core.wire.modbus import Identification, ModbusMessage, ObjectId, ReadCode
from portcall.core.wire.octets import Malformed

UNITS = (255, 0, 1, 2, 247)
"""Messaging on TCP/IP §4.4.2.3: 255 or 0 mean the device itself; gateways are often found to speak
for the first units on their serial side, or the last."""

_MOST_PARTS = 4
_FIELDS = {
    ObjectId.VENDOR_NAME: Field.MAKER,
    ObjectId.PRODUCT_CODE: Field.PRODUCT,
    ObjectId.REVISION: Field.FIRMWARE,
    ObjectId.PRODUCT_NAME: Field.PRODUCT,
    ObjectId.MODEL_NAME: Field.KIND,
    ObjectId.APPLICATION_NAME: Field.NAME,
}


def script() -> Script[Learnt]:
    """Ask one unit after the other, until one says what it is."""
    transaction = 0
    for unit in UNITS:
        objects: dict[int, bytes] = {}
        for code in (ReadCode.BASIC, ReadCode.REGULAR):
            first: int | None = 0 if code is ReadCode.BASIC else ObjectId.VENDOR_URL
            for _ in range(_MOST_PARTS):
                if first is None:
                    break
                transaction += 1
                request = ModbusMessage(
                    transaction, unit, modbus.encode_identification_request(code, first)
                )
                reply = yield _exchange(request)
                said = _identification(reply)
                if said is None:
                    break
                objects.update(said.objects)
                first = said.next_object
            if not objects:
                break
        if objects:
            yield Learnt(_words(objects, unit))
            return
        transaction += 1
        request = ModbusMessage(transaction, unit, bytes((modbus.REPORT_SERVER_ID,)))
        reply = yield _exchange(request)
        text = _server_id(reply)
        if text:
            yield Learnt(words(Method.MODBUS, (Field.DESCRIPTION, text), *_behind(unit)))
            return


def _exchange(message: ModbusMessage) -> Exchange:
    return Exchange(modbus.encode(message), modbus.whole_length, modbus.is_answer)


def _answer(reply: bytes | None) -> bytes | None:
    """The PDU of an answer that is no refusal."""
    if reply is None:
        return None
    message = modbus.parse(reply)
    return None if message.exception is not None else message.pdu


def _identification(reply: bytes | None) -> Identification | None:
    pdu = _answer(reply)
    if pdu is None:
        return None
    try:
        return modbus.parse_identification(pdu)
    except Malformed:
        return None


def _server_id(reply: bytes | None) -> str:
    pdu = _answer(reply)
    try:
        return "" if pdu is None else decoded(modbus.parse_server_id(pdu))
    except Malformed:
        return ""


def _words(objects: dict[int, bytes], unit: int) -> tuple[Said, ...]:
    found: dict[Field, str] = {}
    for number, field in _FIELDS.items():
        value = decoded(objects.get(number, b""))
        if value:
            # Later lines of the table describe the device better: a product's name rather than its
            # code.
            found[field] = value
    return words(Method.MODBUS, *found.items(), *_behind(unit))


def _behind(unit: int) -> tuple[tuple[Field, str | None], ...]:
    own = unit in (255, 0)
    return ((Field.MANNER, None if own else f"answers Modbus as unit {unit}"),)
