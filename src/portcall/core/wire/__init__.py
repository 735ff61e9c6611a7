"""One module a protocol: bytes to frozen values and back, nothing else."""
