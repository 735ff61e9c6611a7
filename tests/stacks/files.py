"""A CIP device whose file object means no good: ``files.py HOW ADDRESS``.

Made with our own codecs: what is wrong with it is what it says, not how.
"""

import gzip
import socket
import sys
from ipaddress import IPv4Address

from portcall.core.wire import cip, cip_file, cip_message
from portcall.core.wire.cip_file import Piece, Transfer, Upload

NAMES = b'[Device] VendCode=64101; VendName="Sandlark"; ProdCode=%d; ProdName="Skerry 40";'
FILES = {
    "bomb": gzip.compress(bytes(100_000_000), 9),
    "other": NAMES % 41,
    "noise": b"\0\xff[" * 30,
}
OWN = NAMES % 40


def answer(how: str, own: IPv4Address, request: bytes, piece: int) -> bytes:
    asked = cip.parse(request)
    if asked.command == cip.LIST_IDENTITY:
        return cip.encode_identity(
            cip.Identity(own, 44818, 64101, 14, 40, 20, 13, 0, 7, b"Skerry 40", 3), asked.context
        )
    if asked.command == cip_message.REGISTER_SESSION:
        return cip.encode(asked._replace(session=7))
    wanted = cip_message.parse_request(cip_message.parse_unconnected(asked))
    file = FILES.get(how, OWN)
    told = cip_file.checksum(file) + (how == "checksum")
    size = len(file) + 100 * (how == "size")
    if wanted.service == cip_file.INITIATE_UPLOAD:
        data = cip_file.encode_upload(Upload(size, 40 if len(file) < 1000 else 255))
    elif wanted.attribute is not None:
        number = size if wanted.attribute == cip_file.Attribute.SIZE else told
        data = cip_file.encode_number(number, cip_file.Attribute(wanted.attribute))
    else:
        length = 40 if len(file) < 1000 else 255
        part = file[piece * length : (piece + 1) * length]
        kind = Piece.LAST if (piece + 1) * length >= len(file) else Piece.MIDDLE
        if how == "endless":
            part, kind = bytes(40), Piece.MIDDLE
        data = cip_file.encode_transfer(Transfer(wanted.data[0], kind, part))
    response = cip_message.encode_response(cip_message.Response(wanted.service, 0, data))
    return cip_message.encode_unconnected(7, response, asked.context)


def serve(how: str, own: IPv4Address) -> None:
    """Serve one connection after the other; ``flood`` answers the first piece without end."""
    listener = socket.create_server((str(own), cip.PORT))
    while True:
        connection, _ = listener.accept()
        piece = 0
        with connection:
            try:
                while request := connection.recv(4096):
                    is_piece = bytes((cip_file.UPLOAD_TRANSFER, 2)) in request
                    if how == "flood" and is_piece:
                        while True:
                            connection.sendall(b"\x6f\0\xff\xff" + bytes(65_000))
                    connection.sendall(answer(how, own, request, piece))
                    piece += is_piece
            except OSError:
                pass


if __name__ == "__main__":
    serve(sys.argv[1], IPv4Address(sys.argv[2]))
