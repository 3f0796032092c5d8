"""Sheets made of pieces of others."""
