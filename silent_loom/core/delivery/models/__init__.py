"""Models with delivered materials on them, for whoever receives both."""
