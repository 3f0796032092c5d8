"""Steps for what a surface is laid of: bricks, stones, slates, planks."""

TITLE = "Elements"
ORDER = 4
