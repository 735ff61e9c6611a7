"""The tool's deeds at a site, written down as they happen."""
