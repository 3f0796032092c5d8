"""Patterns of things that are laid: bricks, boards, shingles, stones, rivets."""
