"""Sheets that begin from nothing."""

TITLE = "From nothing"
ORDER = 6
