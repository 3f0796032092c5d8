"""A sheet laid on a model: through its UVs, from three sides, from a camera; and where on the model what is."""
