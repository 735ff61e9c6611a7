"""The names of this computer's adapters: all that completing a name needs."""

from portcall.host.linux.adapter_names import adapter_names

__all__ = ["adapter_names"]
