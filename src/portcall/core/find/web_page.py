"""Identifying by HTTP: status, server, title, and where it redirects.

The messages are read by a library that does nothing else (RFC 9110, RFC 9112), within bounds.
"""

from __future__ import annotations

import html
import re
import zlib
from dataclasses import dataclass
from functools import partial
from ipaddress import IPv4Address
from urllib.parse import urljoin, urlsplit

from portcall.core.find.protocol import Behind, Protocol
from portcall.core.find.sighting import Field, Learnt, Method, said_by
from portcall.core.printable import decoded, printable
from portcall.core.talk.dialogue import Exchange, Script
from portcall.core.wire.octets import Malformed

PORT, SECURE_PORT, OTHER_PORT = 80, 443, 8080
PAGES = {PORT: "http", SECURE_PORT: "https", OTHER_PORT: "http"}
"""The ports at which a device has its page, and how it is asked for there."""

_LONGEST_PAGE = 16_384
"""Octets of a page that are read: the title is near the top, and the rest is not waited for."""

_LONGEST_UNPACKED = 65_536
_ANY_HEADER = 47
"""zlib: of gzip or of deflate."""

_META = 1024
"""Octets at the start of a page in which it may tell its character set (HTML §13.2.3.2)."""

_NO_PAGE = 300
"""From here on, a status says that this is not what was asked for (RFC 9110 §15)."""

MOST_HOPS = 3
_TITLE = re.compile(rb"<title[^>]*>([^<]{1,400})", re.IGNORECASE)
_REALM = re.compile(rb'realm="([^"]{1,200})"', re.IGNORECASE)
_CHARSET = re.compile(rb"""charset=["']?([A-Za-z0-9_.:-]{1,40})""", re.IGNORECASE)


@dataclass(frozen=True, slots=True)
class Page:
    """The contents of a response; ``complete`` when its end was seen.

    ``realm`` is what it wants a password for, ``title`` that of a page that was asked for: that of
    an error is not the device's.
    """

    status: int
    server: str
    title: str
    location: str
    realm: str
    stays_open: bool
    complete: bool


@dataclass(frozen=True, slots=True)
class Onward:
    """A page sends on to another one of this device, for which a new connection is needed.

    ``otherwise`` is what is to be said where that leads to nothing.
    """

    port: int
    secure: bool
    path: str
    otherwise: Learnt


def script(
    address: IPv4Address, port: int, secure: bool, path: str = "/"
) -> Script[Learnt | Onward]:
    """Ask for a page, and go where it sends us as long as that is on this device."""
    scheme = "https" if secure else "http"
    usual = port == (SECURE_PORT if secure else PORT)
    host = str(address) if usual else f"{address}:{port}"
    what = scheme if usual else f"{scheme} at port {port}"
    for hop in range(MOST_HOPS):
        reply = yield Exchange(_request(host, path), whole_length, until_close=True)
        if not reply:
            return
        page = read_page(reply)
        learnt = Learnt(said_by(Method.WEB, (Field.DESCRIPTION, _described(page, what))))
        onward = _on_this_device(f"{scheme}://{host}{path}", page.location, address)
        if onward is None or onward == (port, secure, path) or hop + 1 == MOST_HOPS:
            yield learnt
            return
        if onward[:2] != (port, secure) or not page.stays_open:
            yield Onward(*onward, learnt)
            return
        path = onward[2]


def _described(page: Page, what: str) -> str:
    if page.realm:
        parts = [f'{what} wants a password for "{page.realm}"']
    else:
        parts = [f'{what} page "{page.title}"' if page.title else f"{what} answers {page.status}"]
    if page.location:
        parts.append(f"sends on to {page.location}")
    if page.server:
        parts.append(f"server {page.server}")
    return ", ".join(parts)


def _request(host: str, path: str) -> bytes:
    lines = (f"GET {path} HTTP/1.1", f"Host: {host}", "Accept: text/html, */*;q=0.1", "", "")
    return "\r\n".join(lines).encode("latin-1", "replace")


def _on_this_device(here: str, location: str, address: IPv4Address) -> tuple[int, bool, str] | None:
    """Where a redirect leads (RFC 9110 §10.2.2), if that is this device by its address: port,
    whether it is secure, and path.
    """
    if not location:
        return None
    try:
        there = urlsplit(urljoin(here, location))
        port = there.port
    except ValueError:
        return None
    secure = there.scheme == "https"
    if there.scheme not in ("http", "https") or there.hostname != str(address) or port == 0:
        return None
    path = (there.path or "/") + (f"?{there.query}" if there.query else "")
    if not path.isascii() or not path.isprintable() or " " in path:
        return None
    return port or (SECURE_PORT if secure else PORT), secure, path


def whole_length(received: bytes) -> int | None:
    """The length of the response, once it is complete or long enough. Raises Malformed."""
    if len(received) >= _LONGEST_PAGE:
        return len(received)
    return len(received) if read_page(received, partial=True).complete else None


def read_page(received: bytes, partial: bool = False) -> Page:
    """Read a response as far as it goes. Raises Malformed when it is no HTTP."""
    import h11

    connection = h11.Connection(h11.CLIENT, max_incomplete_event_size=_LONGEST_PAGE)
    connection.send(h11.Request(method="GET", target="/", headers=[("Host", "device")]))
    connection.send(h11.EndOfMessage())
    body = b""
    head: h11.Response | None = None
    complete = False
    try:
        connection.receive_data(received)
        while True:
            event = connection.next_event()
            if isinstance(event, h11.Response):
                head = event
            elif isinstance(event, h11.Data):
                body += event.data
            elif isinstance(event, h11.EndOfMessage):
                complete = True
                break
            elif isinstance(event, h11.InformationalResponse):
                continue
            else:
                break
    except h11.RemoteProtocolError as error:
        if head is None:
            raise Malformed(f"HTTP: {printable(str(error))}", 0) from None
    if head is None:
        if not partial:
            raise Malformed("HTTP: no response", 0)
        return Page(0, "", "", "", "", False, False)
    fields = {name.lower(): value for name, value in head.headers}
    body = _unpacked(body, fields.get(b"content-encoding", b""))
    found = _TITLE.search(body) if head.status_code < _NO_PAGE else None
    text = _text(found[1], fields.get(b"content-type", b"") + body[:_META]) if found else ""
    realm = _REALM.search(fields.get(b"www-authenticate", b""))
    return Page(
        head.status_code,
        printable(decoded(fields.get(b"server", b"")), 40),
        printable(html.unescape(text), 60),
        printable(decoded(fields.get(b"location", b"")), 80),
        printable(decoded(realm[1]), 60) if realm else "",
        complete and connection.their_state is h11.DONE,
        complete,
    )


def _unpacked(body: bytes, encoding: bytes) -> bytes:
    """A body as it was before gzip or deflate (RFC 9110 §8.4.1), as far as it goes.

    Some devices have their pages packed only, and send them so unasked.
    """
    if encoding.strip().lower() not in (b"gzip", b"x-gzip", b"deflate"):
        return body
    try:
        return zlib.decompressobj(_ANY_HEADER).decompress(body, _LONGEST_UNPACKED)
    except zlib.error:
        return b""


def _text(data: bytes, told: bytes) -> str:
    """Text in the character set that a header or a page tells, or else as other texts are read."""
    charset = _CHARSET.search(told)
    try:
        if charset:
            return data.decode(charset[1].decode("ascii"), "replace")
    except (LookupError, ValueError):
        pass
    return decoded(data)


ASK_FOR_PAGE = b"GET / HTTP/1.0\r\n\r\n"
_TLS_ALERT, _TLS_HANDSHAKE = 0x15, 0x16
"""RFC 8446 §5.1, ContentType."""


def _is_tls(reply: bytes) -> bool:
    return reply[0] in (_TLS_ALERT, _TLS_HANDSHAKE)


def _behind(secure: bool) -> Behind:
    return Behind(
        lambda door, is_known: (partial(script, door.address, door.port, secure),),
        ASK_FOR_PAGE,
        _is_tls if secure else read_page,
        secure,
    )


PROTOCOL = Protocol(
    Method.WEB,
    "its web page",
    35,
    doors={port: _behind(scheme == "https") for port, scheme in PAGES.items()},
)
