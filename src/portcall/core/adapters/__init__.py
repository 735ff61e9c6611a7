"""The workstation's side: its adapters, its own address, what is in the way."""
