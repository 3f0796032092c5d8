"""Materials that were made elsewhere, worked out into plain maps: glTF and MaterialX."""
