"""Rays against the triangles of a model."""
