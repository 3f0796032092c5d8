"""Patterns of chance: noise, cells, waves, streaks, spots."""
