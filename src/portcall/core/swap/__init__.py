"""A replaced device: which of those that are found takes the place of the one that is gone."""
