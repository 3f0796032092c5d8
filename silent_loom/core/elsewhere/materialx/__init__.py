"""MaterialX 1.38 and 1.39 documents, worked out over a sheet: documents, nodes, shaders."""
