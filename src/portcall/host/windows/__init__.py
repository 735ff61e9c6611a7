"""The network of a computer with Windows: its tables of adapters, addresses, routes, neighbours."""
