"""Finding out why a device is not reachable: what is looked at, rung by rung."""
