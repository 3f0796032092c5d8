"""Benchmarks, as ratios: run with `python -m bench`."""
