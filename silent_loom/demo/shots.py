"""How each photo of the demo is taken, and where its rectangle's corners are."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray


@dataclass(frozen=True)
class Shot:
    """How a photo is taken.

    Attributes
    ----------
    surface : str
        Name in `SURFACES`.
    size_mm : tuple of float
        The flat rectangle that is photographed.
    tilt_deg, pan_deg, roll_deg : float
        Turns of the camera away from looking straight at it.
    focal : float
        Focal length as a part of the photo's width.
    slope, vignette, patches : float
        Unevenness of the light: stops across, stops lost in the corners, stops of soft patches.
    noise : float
        Standard deviation of the sensor's noise at mid-grey, linear.
    """

    surface: str
    size_mm: tuple[float, float]
    tilt_deg: float = 0.0
    pan_deg: float = 0.0
    roll_deg: float = 0.0
    focal: float = 1.0
    slope: float = 0.5
    vignette: float = 0.6
    patches: float = 0.15
    noise: float = 0.006
    light_from_deg: float = 130.0
    margin: float = 1.16
    exposure: float = 0.36
    seed: int = 5


def camera(shot: Shot, width: int, height: int) -> NDArray[np.float64]:
    """Homography from millimetres on the sheet (x right, y down, corner at 0) to texel centres of the photo."""
    w, h = shot.size_mm
    t, p, r = np.deg2rad([shot.tilt_deg, shot.pan_deg, shot.roll_deg])
    rx = np.array([[1, 0, 0], [0, np.cos(t), -np.sin(t)], [0, np.sin(t), np.cos(t)]])
    ry = np.array([[np.cos(p), 0, np.sin(p)], [0, 1, 0], [-np.sin(p), 0, np.cos(p)]])
    rz = np.array([[np.cos(r), -np.sin(r), 0], [np.sin(r), np.cos(r), 0], [0, 0, 1]])
    turn = rz @ rx @ ry
    f = shot.focal * width
    k = np.array([[f, 0, (width - 1) / 2], [0, f, (height - 1) / 2], [0, 0, 1.0]])
    corners = np.array([[-w / 2, -h / 2, 0], [w / 2, -h / 2, 0], [w / 2, h / 2, 0], [-w / 2, h / 2, 0]])

    def seen(distance: float) -> NDArray[Any]:
        q = corners @ turn.T + [0, 0, distance]
        return (q[:, :2] / q[:, 2:]) * f

    low, high = max(w, h) * 0.4, max(w, h) * 50
    for _ in range(60):  # nearest distance from which the whole rectangle fits
        mid = (low + high) / 2
        s = np.abs(seen(mid))
        fits = (s[:, 0] < width / 2 / shot.margin).all() and (s[:, 1] < height / 2 / shot.margin).all()
        low, high = (low, mid) if fits else (mid, high)
    extrinsic = np.c_[turn[:, :2], [0, 0, high]]
    centre = np.array([[1, 0, -w / 2], [0, 1, -h / 2], [0, 0, 1.0]])
    return np.asarray(k @ extrinsic @ centre)


def corners_of(shot: Shot, width: int, height: int) -> NDArray[np.float64]:
    """Corners of the photographed rectangle, clockwise from top left, texel centres, shape (4, 2)."""
    w, h = shot.size_mm
    rect = np.array([[0, 0, 1], [w, 0, 1], [w, h, 1], [0, h, 1.0]]) @ camera(shot, width, height).T
    return np.asarray(rect[:, :2] / rect[:, 2:])


SHOTS: dict[str, Shot] = {
    "Keeper's roof slate": Shot(
        "slate", (1500, 1200), tilt_deg=24, roll_deg=3, slope=0.6, vignette=0.8, focal=0.95, exposure=0.24, seed=5
    ),
    "Oyster-shell plaster": Shot(
        "plaster",
        (600, 480),
        tilt_deg=0,
        pan_deg=0,
        roll_deg=0,
        slope=0.9,
        vignette=0.7,
        patches=0.2,
        exposure=0.5,
        seed=6,
    ),
    "Hull plate, port side": Shot(
        "hull",
        (1900, 1500),
        tilt_deg=8,
        pan_deg=19,
        roll_deg=-2,
        slope=0.5,
        vignette=0.6,
        focal=1.1,
        exposure=0.16,
        seed=7,
    ),
    "Galley tiles": Shot(
        "tiles",
        (810, 607),
        tilt_deg=12,
        pan_deg=-14,
        roll_deg=1,
        slope=0.7,
        vignette=0.5,
        focal=1.2,
        light_from_deg=60,
        seed=8,
    ),
    "Tarred rope": Shot(
        "rope", (425, 345), tilt_deg=6, pan_deg=-5, roll_deg=1, slope=0.5, focal=1.2, light_from_deg=20, exposure=0.12, seed=10
    ),
    "Cork floats": Shot("cork", (260, 208), tilt_deg=5, pan_deg=4, slope=0.6, vignette=0.5, focal=1.3, exposure=0.4, seed=11),
    "Kelp blade": Shot(
        "kelp", (300, 240), tilt_deg=7, pan_deg=-6, roll_deg=-1, focal=1.2, light_from_deg=160, exposure=0.16, seed=12
    ),
    "Sailcloth": Shot("sailcloth", (210, 165), tilt_deg=17, pan_deg=6, roll_deg=-4, slope=0.8, vignette=0.7, focal=1.4, seed=9),
}
