"""Identifying by HTTP: status, server, title, and where it redirects.

The messages are read by a library that does nothing else (RFC 9110, RFC 9112), within bounds.
"""

from __future__ import annotations

import html
import re
from dataclasses import dataclass
from ipaddress import IPv4Address

from portcall.core.find.sighting import Field, Learnt, Method, words
from portcall.core.printable import decoded, printable
from portcall.core.talk.dialogue import Exchange, Script
from portcall.core.wire.octets import Malformed

PORT, SECURE_PORT, OTHER_PORT = 80, 443, 8080
_LONGEST_PAGE = 16_384
"""Octets of a page that are read: the title is near the top, and the rest is not waited for."""

_MOST_HOPS = 3
_TITLE = re.compile(rb"<title[^>]*>([^<]{1,400})", re.IGNORECASE)


@dataclass(frozen=True, slots=True)
class Page:
    """What a response says; ``complete`` when its end was seen."""

    status: int
    server: str
    title: str
    location: str
    stays_open: bool
    complete: bool


def script(address: IPv4Address, port: int, secure: bool) -> Script[Learnt]:
    """Ask for the front page, and go where it sends us as long as that is on this device."""
    path = "/"
    scheme = "https" if secure else "http"
    usual = port == (SECURE_PORT if secure else PORT)
    host = str(address) if usual else f"{address}:{port}"
    what = scheme if usual else f"{scheme} at port {port}"
    for hop in range(_MOST_HOPS):
        reply = yield Exchange(_request(host, path), whole_length, until_close=True)
        if not reply:
            return
        page = read_page(reply)
        onward = _same_device(page.location, f"{scheme}://{host}")
        if onward and onward != path and page.stays_open and hop + 1 < _MOST_HOPS:
            path = onward
            continue
        yield Learnt(words(Method.WEB, (Field.DESCRIPTION, _described(page, what))))
        return


def _described(page: Page, what: str) -> str:
    parts = [f'{what} page "{page.title}"' if page.title else f"{what} answers {page.status}"]
    if page.location:
        parts.append(f"sends on to {page.location}")
    if page.server:
        parts.append(f"server {page.server}")
    return ", ".join(parts)


def _request(host: str, path: str) -> bytes:
    lines = (f"GET {path} HTTP/1.1", f"Host: {host}", "Accept: text/html, */*;q=0.1", "", "")
    return "\r\n".join(lines).encode("latin-1", "replace")


def _same_device(location: str, origin: str) -> str | None:
    """The path of a redirect that stays here, else None."""
    path = location.removeprefix(origin)
    fits = path.startswith("/") and not path.startswith("//")
    return path if fits and path.isascii() and " " not in path else None


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
        return Page(0, "", "", "", False, False)
    fields = {name.lower(): value for name, value in head.headers}
    found = _TITLE.search(body)
    title = printable(html.unescape(decoded(found[1])), 60) if found else ""
    return Page(
        head.status_code,
        printable(decoded(fields.get(b"server", b"")), 40),
        title,
        printable(decoded(fields.get(b"location", b"")), 80),
        complete and connection.their_state is h11.DONE,
        complete,
    )
