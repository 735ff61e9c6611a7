"""Drawing a site."""
