"""A projective field of colour, against its definition written out in numpy."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from hypothesis import assume, example, given, settings
from hypothesis import strategies as st
from scipy import ndimage

from silent_loom.core.base.images import Image, Kind
from silent_loom.core.moving import carry
from silent_loom.core.moving.carry import warp_homography

SOURCE = ndimage.gaussian_filter(np.random.default_rng(5).random((190, 230, 3)), (0.8, 0.8, 0)).astype(np.float32)


def _bilinear(u: np.ndarray, v: np.ndarray, wraps: bool) -> np.ndarray:
    mode: Any = "grid-wrap" if wraps else "nearest"
    return np.stack([ndimage.map_coordinates(SOURCE[..., k].astype(float), [v, u], order=1, mode=mode) for k in range(3)], -1)


def _catmull_rom(u: np.ndarray, v: np.ndarray, wraps: bool) -> np.ndarray:
    h, w, _ = SOURCE.shape
    out = np.zeros((*u.shape, 3))
    x, y = np.floor(u).astype(int), np.floor(v).astype(int)

    def weights(t: np.ndarray) -> list[np.ndarray]:
        return [
            ((-0.5 * t + 1) * t - 0.5) * t,
            (1.5 * t - 2.5) * t * t + 1,
            ((-1.5 * t + 2) * t + 0.5) * t,
            (0.5 * t - 0.5) * t * t,
        ]

    for j, b in enumerate(weights(v - y)):
        for i, a in enumerate(weights(u - x)):
            r, c = y - 1 + j, x - 1 + i
            r, c = (r % h, c % w) if wraps else (np.clip(r, 0, h - 1), np.clip(c, 0, w - 1))
            out += (a * b)[..., None] * SOURCE[r, c]
    return out


def _defined(m: np.ndarray, width: int, height: int, wraps: bool, bulge: float) -> tuple[np.ndarray, np.ndarray]:
    """What the docstring says, texel by texel, derivatives by formula; and where it says little: where rounding may decide on
    another count of samples, and so far beyond the picture that a lens turns back on itself."""
    h, w, _ = SOURCE.shape
    x, y = np.meshgrid(np.arange(width) + 0.5, np.arange(height) + 0.5)

    def placed(px: np.ndarray, py: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        q = np.stack([px, py, np.ones_like(px)], -1) @ m.T
        u, v = q[..., 0] / q[..., 2], q[..., 1] / q[..., 2]
        r2 = ((u - w / 2) ** 2 + (v - h / 2) ** 2) / ((w / 2) ** 2 + (h / 2) ** 2)
        return w / 2 + (u - w / 2) * (1 - bulge * r2), h / 2 + (v - h / 2) * (1 - bulge * r2)

    e = 1e-4
    u, v = placed(x, y)
    (ua, va), (ub, vb) = placed(x - e, y), placed(x + e, y)
    (uc, vc), (ud, vd) = placed(x, y - e), placed(x, y + e)
    ux, vx, uy, vy = (ub - ua) / 2 / e, (vb - va) / 2 / e, (ud - uc) / 2 / e, (vd - vc) / 2 / e
    long_x, long_y = np.hypot(ux, vx) - 0.05, np.hypot(uy, vy) - 0.05
    doubtful = (np.abs(long_x - np.rint(long_x)) < 1e-3) | (np.abs(long_y - np.rint(long_y)) < 1e-3)
    q = np.stack([x, y, np.ones_like(x)], -1) @ m.T
    reach = ((q[..., 0] / q[..., 2] - w / 2) ** 2 + (q[..., 1] / q[..., 2] - h / 2) ** 2) / ((w / 2) ** 2 + (h / 2) ** 2)
    doubtful |= (bulge != 0) & (reach > 1.5)
    across, down = (np.clip(np.ceil(n), 1, 8).astype(int) for n in (long_x, long_y))
    out = np.empty((height, width, 3))
    for nx in np.unique(across):
        for ny in np.unique(down[across == nx]):
            here = (across == nx) & (down == ny)
            if nx == ny == 1:
                out[here] = _catmull_rom(u[here] - 0.5, v[here] - 0.5, wraps)
                continue
            total = np.zeros((int(here.sum()), 3))
            for oy in (np.arange(ny) + 0.5) / ny - 0.5:
                for ox in (np.arange(nx) + 0.5) / nx - 0.5:
                    at = u + ux * ox + uy * oy - 0.5, v + vx * ox + vy * oy - 0.5
                    total += _bilinear(at[0][here], at[1][here], wraps)
            out[here] = total / (nx * ny)
    return out, doubtful


@example(4.5, 0.375, 11.0, 0.0, 0.0, False, 0.15)  # a lens that turns back within sight
@settings(max_examples=25, deadline=None)
@given(
    st.floats(0.3, 9.0),
    st.floats(0.3, 3.0),
    st.floats(-180.0, 180.0),
    st.floats(-1.5e-3, 1.5e-3),
    st.floats(-1.5e-3, 1.5e-3),
    st.booleans(),
    st.sampled_from([0.0, 0.15, -0.1]),
)
def test_a_projective_field_is_what_it_is_defined_as(
    scale: float, ratio: float, degrees: float, tilt_x: float, tilt_y: float, wraps: bool, bulge: float
) -> None:
    a = np.deg2rad(degrees)
    turn = np.array([[np.cos(a), -np.sin(a), 0], [np.sin(a), np.cos(a), 0], [0, 0, 1]])
    m = np.array([[1.0, 0, 115], [0, 1, 95], [0, 0, 1]]) @ turn @ np.diag([scale, scale * ratio, 1])
    m = m @ np.array([[1.0, 0, -75], [0, 1, -60], [tilt_x, tilt_y, 1]])
    got = warp_homography(Image(SOURCE, Kind.COLOUR, (23.0, 19.0), wraps), m, 150, 120, (1.0, 1.0), bulge=bulge).pixels
    want, doubtful = _defined(m, 150, 120, wraps, bulge)
    told = np.abs(got - want).max(-1)[~doubtful]
    assume(told.size > 100)
    assert np.quantile(told, 0.995) < 2e-4


def test_a_field_seen_beyond_its_horizon_stays_finite() -> None:
    m = np.array([[1.0, 0.1, 5.0], [0.0, 1.0, 3.0], [-0.012, -0.004, 1.0]])
    got = warp_homography(Image(SOURCE, Kind.COLOUR, (23.0, 19.0)), m, 150, 120, (1.0, 1.0)).pixels
    assert np.isfinite(got).all()
    assert SOURCE.min() - 0.1 < got.min()
    assert got.max() < SOURCE.max() + 0.1


@pytest.mark.parametrize("split", [1, 33, 64, 119])
def test_bands_do_not_show(split: int, monkeypatch: pytest.MonkeyPatch) -> None:
    m = np.array([[1.37, 0.02, 9.0], [0.01, 1.36, -4.0], [3e-4, 6e-4, 1.0]])
    image = Image(SOURCE, Kind.COLOUR, (23.0, 19.0))
    whole = warp_homography(image, m, 150, 120, (1.0, 1.0)).pixels

    def two(rows: int, work: Any, *rest: object, **more: object) -> None:
        work(split, rows)
        work(0, split)

    monkeypatch.setattr(carry, "over_rows", two)
    assert np.array_equal(warp_homography(image, m, 150, 120, (1.0, 1.0)).pixels, whole)
