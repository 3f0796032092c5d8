"""Sizes, and samples that are moved, bent, slid and blended."""
