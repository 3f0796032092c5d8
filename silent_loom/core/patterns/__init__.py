"""Patterns that repeat by construction: fields over a torus, in millimetres, from one seed."""
