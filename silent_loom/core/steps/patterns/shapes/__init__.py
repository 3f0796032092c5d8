"""Patterns of plain forms: ribs, gradients, outlines."""
