"""The operating system's own ARP table."""

from portcall.host.linux.neighbours import fixed_neighbours, known_neighbours, provoke

__all__ = ["fixed_neighbours", "known_neighbours", "provoke"]
