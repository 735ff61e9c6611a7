"""The practice plant: simulated devices on real kernel sockets, in namespaces of their own."""
