"""What a dense mesh, or the model itself, gives the texels of a model."""
