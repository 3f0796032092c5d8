"""The same things from the command line."""

from silent_loom.cli.main import main

__all__ = ["main"]
