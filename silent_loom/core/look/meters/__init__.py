"""Figures for what an eye would mind."""
