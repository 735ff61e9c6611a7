"""What commands draw and print."""
