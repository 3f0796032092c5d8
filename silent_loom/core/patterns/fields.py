"""Fields drawn last, kept for the next touch of a dial: most dials of a pattern leave most of its fields as they are."""

from __future__ import annotations

from typing import Any

from silent_loom.core.base.bounded_memory import Memory

BOUND = 96 << 20
"""Bytes that are kept at most."""
LARGEST = 32 << 20
"""Bytes of what is worth keeping: what a dial waits for is drawn at 1024 texels, and larger ones are seldom asked for twice."""

FIELDS: Memory[Any, Any] = Memory(most_bytes=BOUND, largest=LARGEST)
"""Shared by all patterns; nobody changes what comes of it."""
