"""The address of a logbook that a team shares, and whether the server there has to prove itself."""

from __future__ import annotations

from pathlib import Path

import sqlalchemy as sql
from sqlalchemy.engine import make_url
from sqlalchemy.exc import ArgumentError

from portcall.core.printable import printable
from portcall.core.trouble import BadInput

_THIS_COMPUTER = ("localhost", "127.0.0.1", "::1")
_OF_A_SITE = {"host", "sslrootcert"}
"""What may stand behind the question mark in an address of a site's file."""


def shown_address(url: sql.URL) -> str:
    """An address as it may be printed: without a password, wherever it stands in it."""
    return printable(url.set(query={}).render_as_string(hide_password=True), 80)


def check_url(text: str, own: bool) -> sql.URL:
    """The address of a shared logbook: the person's ``own``, or a site's. Raises BadInput.

    A site's file may come from anybody, and the server gets the team's password: it has to prove by
    a certificate who it is, unless it is on this computer. An address of one's own is taken as it
    is.
    """
    try:
        url = make_url(text)
    except (ArgumentError, ValueError):
        raise BadInput("the shared logbook is written as postgresql://USER@HOST/DATABASE") from None
    shown = shown_address(url)
    if "password" in url.query or "sslpassword" in url.query:
        raise BadInput(
            f"{shown}: a password behind the question mark is written into logs and lists",
            "put it into ~/.pgpass or PGPASSWORD",
        )
    if url.get_backend_name() != "postgresql":
        raise BadInput(f"{shown}: a shared logbook is a PostgreSQL database: postgresql://…")
    if url.password and not own:
        raise BadInput(
            f"{shown}: a password in a file of the site is read by everybody who has it",
            "put it into ~/.pgpass or PGPASSWORD, or give the whole address by PORTCALL_LOGBOOK",
        )
    url = url.set(drivername="postgresql+psycopg")
    return url if own else _with_proof(url, shown)


def _with_proof(url: sql.URL, shown: str) -> sql.URL:
    """A site's address, with which the server has to prove who it is."""
    odd = ", ".join(sorted(set(url.query) - _OF_A_SITE))
    if odd:
        raise BadInput(
            f"{shown}: {printable(odd, 40)} is not taken from a file of the site",
            "give the whole address by PORTCALL_LOGBOOK",
        )
    named = url.query.get("host", url.host or "")
    hosts = named if isinstance(named, tuple) else tuple(named.split(","))
    if all(not host or host.startswith("/") or host in _THIS_COMPUTER for host in hosts):
        return url
    proof = {"sslmode": "verify-full"}
    if not (Path.home() / ".postgresql" / "root.crt").exists():
        proof["sslrootcert"] = "system"
    return url.set(query={**proof, **url.query})
