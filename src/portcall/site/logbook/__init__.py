"""What the tool did at a site, written down as it happens."""
