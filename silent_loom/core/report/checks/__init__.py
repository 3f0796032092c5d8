"""What may be odd about a map: a file each. `found` says it in a few words, or nothing."""
