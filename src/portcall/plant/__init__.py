"""The practice plant: simulated devices on real kernel sockets, in namespaces of their own."""

from portcall.core.trouble import NotPossibleHere
from portcall.system import HAS_NAMESPACES


def require_namespaces() -> None:
    """Raise NotPossibleHere where no plant can be made."""
    if not HAS_NAMESPACES:
        raise NotPossibleHere(
            "the practice plant is made of private networks, which only Linux has",
            "a virtual machine with Linux on this computer will do",
        )
