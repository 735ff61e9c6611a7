"""Setting devices: keeping an address, moving, a series, proof by a power cycle."""
