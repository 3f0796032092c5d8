"""Small pictures of every pattern, to notice when one is no longer what it was.

``python -m tools.golden_patterns`` keeps those of today.
"""

from __future__ import annotations

import sys
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from bench.patterns import evaluator
from silent_loom.core.base.srgb import encode_srgb
from silent_loom.core.moving.resample import reduce_area
from silent_loom.core.weave.rows.beginnings import beginnings, woven_from

FILE = Path(__file__).parents[1] / "tests" / "core" / "patterns" / "golden.npz"
SIDE = 24


def small(name: str) -> NDArray[np.uint8]:
    """Colour and relief of a pattern in 24 × 24 texels, uint8, shape (24, 24, 4)."""
    weave, asked = woven_from(name), evaluator()
    base, height = (asked.ask(weave, t, 192) for t in ("base", "height"))
    depth = asked.meaning(weave, "height").depth
    colour = encode_srgb(np.clip(reduce_area(base.pixels, SIDE, SIDE), 0, 1))
    relief = reduce_area(height.pixels, SIDE, SIDE) / np.float32(depth) + np.float32(0.5)
    return np.asarray(np.rint(np.clip(np.concatenate([colour, relief], 2), 0, 1) * 255), np.uint8)


def main() -> int:
    np.savez_compressed(FILE, **{name: small(name) for name in beginnings()})
    print(FILE)
    return 0


if __name__ == "__main__":
    sys.exit(main())
