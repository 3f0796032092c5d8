"""What a package says of itself: manifest, read-me, contact sheet."""
