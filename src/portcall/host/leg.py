"""A second leg on the wire: an address borrowed in a subnet that the workstation is not in."""

from portcall.host.linux.leg import Leg

__all__ = ["Leg"]
