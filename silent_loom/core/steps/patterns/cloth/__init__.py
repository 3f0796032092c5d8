"""Patterns of threads: cloth, knitting, ropes and nets."""
