"""Looking at the wire: a look and what it asks, watching, finding one device."""
