"""A circuit: where a relay agent or switch says that it hears a device (RFC 3046 §3.1)."""

from __future__ import annotations

from portcall.core.address import AddressError
from portcall.core.printable import decoded

LONGEST_CIRCUIT = 120


def parse_circuit(text: str) -> bytes:
    """Read a relay agent's circuit: its text, or ``0x`` and hex digits. Raises AddressError."""
    if not text.lower().startswith("0x"):
        return text.encode()
    digits = "".join(c for c in text[2:] if c not in " :-.")
    try:
        octets = bytes.fromhex(digits)
    except ValueError:
        octets = b""
    if not 0 < len(octets) <= LONGEST_CIRCUIT:
        raise AddressError(
            f"{text}: a circuit is text, or 0x and hex digits, two for each of at most "
            f"{LONGEST_CIRCUIT} octets"
        )
    return octets


def circuit_words(circuit: bytes) -> str:
    """A circuit as ``parse_circuit`` reads it."""
    text = decoded(circuit)
    plain = text.encode() == circuit and not text.lower().startswith("0x")
    return text if plain else f"0x{circuit.hex()}"
