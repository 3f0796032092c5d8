"""Models: what a material is laid on."""
