"""Port Call: find, address and prove the devices on a plant network."""

__version__ = "1.0.0"
