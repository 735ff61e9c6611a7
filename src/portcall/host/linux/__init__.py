"""The network of a computer with Linux: netlink, packet sockets, namespaces."""
