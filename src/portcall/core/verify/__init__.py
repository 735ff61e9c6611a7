"""The plan against what was found on the wire."""
