"""The engineer's files: the site folder, its plan and settings, and what match left open."""
