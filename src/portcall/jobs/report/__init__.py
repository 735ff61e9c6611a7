"""The hand-over record as pages, and whether the logbook still says what one of them says."""
