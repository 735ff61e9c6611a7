"""The workstation: its adapters, being in a device's subnet, and being put back."""
