"""What a receiver reads and shows, held against what was meant."""
