"""The plan: its rows, reading and editing it, and MACs that are nearly planned."""
