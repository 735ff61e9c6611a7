"""The plan against the wire."""
