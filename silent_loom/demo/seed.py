"""Fill an empty library with the materials of Skerry Light."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np

from silent_loom.core.delivery.names import file_name
from silent_loom.core.ways.starting import Start, weave_for
from silent_loom.demo.shots import SHOTS, corners_of
from silent_loom.store.store import Store

PICTURES = Path(__file__).parent / "pictures"
TO_TRY = "sailcloth"
"""The photo that is left to try."""


def _sizes(*weights: float) -> list[list[float]]:
    """Weights of five feature sizes, from fine to broad."""
    return [[size, weight, 0.0] for size, weight in zip((0.006, 0.02, 0.06, 0.17, 0.5), weights, strict=True)]


TUNED: dict[str, dict[str, dict[str, Any]]] = {
    "Keeper's roof slate": {
        "seamless": {"overlap_x": 0.24, "overlap_y": 0.2417},
        "height": {"depth_mm": 14.0, "guard": 0.0, "fill": "whole depth", "sizes": _sizes(0.25, 0.6, 1.0, 0.8, 0.2)},
        "roughness": {"low": 0.42, "high": 0.72},
        "occlusion": {"radius_mm": 40.0},
    },
    "Oyster-shell plaster": {
        "height": {"depth_mm": 4.0, "guard": 0.0, "fill": "whole depth", "sizes": _sizes(0.5, 0.8, 1.0, 0.5, 0.3)},
        "roughness": {"low": 0.7, "high": 0.92},
        "occlusion": {"radius_mm": 12.0},
    },
    "Hull plate, port side": {
        "height": {
            "depth_mm": 6.0,
            "red": -0.3,
            "green": 1.0,
            "blue": 0.3,
            "guard": 0.0,
            "fill": "whole depth",
            "sizes": _sizes(0.35, 0.8, 1.0, 0.8, 0.2),
        },
        "roughness": {"low": 0.35, "high": 0.85, "invert": False, "reads_from": "base"},
        "metallic": {"mode": "by colour", "colour": [0.42, 0.30, 0.22], "tolerance": 9.0},
        "occlusion": {"radius_mm": 25.0},
    },
    "Galley tiles": {
        "seamless": {"overlap_x": 0.25, "overlap_y": 1 / 6},
        "height": {
            "depth_mm": 3.0,
            "blue": 0.9,
            "red": 0.1,
            "green": 0.2,
            "guard": 0.0,
            "fill": "whole depth",
            "sizes": _sizes(0.3, 0.9, 1.0, 0.4, 0.0),
        },
        "roughness": {"low": 0.12, "high": 0.75},
        "occlusion": {"radius_mm": 8.0},
    },
    "Tarred rope": {
        "height": {"depth_mm": 16.0, "guard": 0.0, "fill": "whole depth", "sizes": _sizes(0.3, 0.7, 1.0, 1.0, 0.1)},
        "roughness": {"low": 0.42, "high": 0.85, "invert": False},
        "occlusion": {"radius_mm": 14.0},
    },
    "Sailcloth": {
        "height": {"depth_mm": 1.2, "guard": 0.0, "fill": "whole depth", "sizes": _sizes(0.6, 1.0, 1.0, 0.3, 0.1)},
        "roughness": {"low": 0.72, "high": 0.9},
        "occlusion": {"radius_mm": 4.0},
    },
    "Cork floats": {
        "height": {"depth_mm": 4.0, "guard": 0.0, "fill": "whole depth", "sizes": _sizes(0.5, 0.9, 1.0, 0.5, 0.2)},
        "roughness": {"low": 0.78, "high": 0.94},
        "occlusion": {"radius_mm": 6.0},
    },
    "Kelp blade": {
        "height": {"depth_mm": 5.0, "guard": 0.0, "fill": "whole depth", "sizes": _sizes(0.15, 0.5, 1.0, 1.0, 0.2)},
        "roughness": {"low": 0.16, "high": 0.5, "invert": False},
        "occlusion": {"radius_mm": 16.0},
    },
}


def seed(store: Store) -> int:
    """Make the demo materials, unless there is anything in the store already.

    Returns
    -------
    int
        How many were made.
    """
    if store.count():
        return 0
    made = 0
    for name in reversed(TUNED):
        path = PICTURES / f"{file_name(name)}.jpg"
        with path.open("rb") as stream:
            digest, picture = store.add_source(stream, path.name)
        shot = SHOTS[name]
        corners = np.array(corners_of(shot, picture.width, picture.height))
        weave = weave_for(picture, path, digest, Start(corners=corners, extent_mm=shot.size_mm[0], settings=TUNED[name]))
        store.create(name, weave, f"Begun from {path.name}")
        made += 1
    return made
