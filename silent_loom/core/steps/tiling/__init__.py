"""Steps that make a sheet repeat."""

TITLE = "Repeat"
ORDER = 1
