"""Ways of finding devices, one module a method; ``devices`` merges what they saw."""
