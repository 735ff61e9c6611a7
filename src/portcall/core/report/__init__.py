"""The hand-over record: what a site's logbook comes to, as a document that carries its grounds."""
