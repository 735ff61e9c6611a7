"""A replaced device takes its predecessor's place."""
