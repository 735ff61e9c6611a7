"""Jobs: conversations put on an adapter's sockets and driven to their end."""
