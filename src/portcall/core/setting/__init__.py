"""Writing to devices: the address they hold, their name, the signal by which they are found."""
