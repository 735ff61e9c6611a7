"""The names of this computer's adapters: all that completing a name needs."""

import sys

if sys.platform == "win32":
    from portcall.host.windows.adapter_names import adapter_names
else:
    from portcall.host.linux.adapter_names import adapter_names

__all__ = ["adapter_names"]
