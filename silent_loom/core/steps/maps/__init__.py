"""Steps that make maps."""

TITLE = "Maps"
ORDER = 2
