"""Surfaces out of nothing: noise, cells, shapes laid side by side or over each other, threads that cross. All of it repeats."""
