"""Everything that can be done to a material: a small class each, the same for the page, for HTTP and for the command line."""
