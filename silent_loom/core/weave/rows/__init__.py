"""What is stored of a weave: rows, groups, dials, and how they are changed."""
