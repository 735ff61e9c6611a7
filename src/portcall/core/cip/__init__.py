"""A CIP session, and the objects of a CIP device that are asked and set."""
