"""A CIP session, and the two objects of a CIP device that are asked and set."""
