"""Recording on the way."""
