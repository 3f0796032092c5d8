"""Steps on a model: the sheet is laid on, and masks know where on it what is."""

TITLE = "On a model"
ORDER = 7
