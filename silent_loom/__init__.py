"""Silent Loom: from one photo to a complete, seamless, physically based map set."""

__version__ = "0.1.0"
