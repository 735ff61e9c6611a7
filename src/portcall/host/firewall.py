"""What is known of this computer's own firewall before anything is heard."""

import sys

if sys.platform == "win32":
    from portcall.host.windows.firewall import keeps_out
else:
    from portcall.host.linux.firewall import keeps_out

__all__ = ["keeps_out"]
