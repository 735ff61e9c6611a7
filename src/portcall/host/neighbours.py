"""The operating system's own ARP table."""

import sys

if sys.platform == "win32":
    from portcall.host.windows.neighbours import fixed_neighbours, known_neighbours, provoke
else:
    from portcall.host.linux.neighbours import fixed_neighbours, known_neighbours, provoke

__all__ = ["fixed_neighbours", "known_neighbours", "provoke"]
