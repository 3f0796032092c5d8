"""Models out of files, a file a format."""
