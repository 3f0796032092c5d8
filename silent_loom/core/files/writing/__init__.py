"""How each format is written: a file a format, each with one function ``encode``."""
