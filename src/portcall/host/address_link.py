"""Asking on one adapter who has an address, and speaking BOOTP and DHCP there.

It needs less than raw Ethernet where the operating system asks by itself.
"""

import sys

if sys.platform == "win32":
    from portcall.host.windows.address_link import AddressLink
else:
    from portcall.host.linux.address_link import AddressLink

__all__ = ["AddressLink"]
