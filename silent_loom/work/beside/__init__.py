"""What stands beside the picture: trials of settings, what is odd about a map, a second material."""
