"""Patterns of wear and tear: cracks, scratches, pits, runs, flakes."""
