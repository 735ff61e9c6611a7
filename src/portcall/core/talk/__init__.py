"""The one shape of every exchange on the wire, and what many exchanges share."""
