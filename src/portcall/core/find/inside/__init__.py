"""What is inside a device: its interfaces, the units behind it, the modules in its rack."""
