"""The commands: parse, call, show."""
