"""Steps that change tones, combine threads and mark out where others act."""

TITLE = "Tone and masks"
ORDER = 3
