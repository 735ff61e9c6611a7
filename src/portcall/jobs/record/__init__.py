"""What is recorded on the way."""
