"""Maps as a screen shows them."""
