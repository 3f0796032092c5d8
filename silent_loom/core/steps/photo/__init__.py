"""Steps that bring a photo or finished maps in and mend them."""

TITLE = "Photo"
ORDER = 0
