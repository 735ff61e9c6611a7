"""The catalogue: names for the numbers that devices give."""
