"""The network that the application comes with: what it reads of surfaces that are known, the same each time and at any turn."""

from __future__ import annotations

from pathlib import Path

import cv2
import numpy as np
import pytest

from silent_loom.core.base.errors import FileError
from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.reading import network
from silent_loom.core.reading.inputs import CHANNELS
from silent_loom.core.reading.network import OUTPUTS, OnnxNetwork, shipped
from silent_loom.core.reading.sheet import Reading, read_sheet
from silent_loom.core.reading.windows import SIDE

FILE = Path(network.__file__).with_name("relief.onnx")
GOLDEN = Path(__file__).with_name("one_window.npz")
TOLERANCE = 0.02
"""How far answers may differ from machine to machine: OpenCV sums in another order on each kind of processor."""


def bumps(seed: int = 3, side: int = 256, sigma: float = 5.0) -> Floats:
    rng = np.random.default_rng(seed)
    plane = cv2.GaussianBlur(rng.standard_normal((side, side)).astype(np.float32), (0, 0), sigma, borderType=cv2.BORDER_REFLECT)
    return plane / plane.std() * np.float32(0.5 * sigma)


def lit(height: Floats, toward_deg: float, seed: int = 4, paint: float = 0.15) -> Image:
    """A photo of a surface: sun from one side, sky, and paint that has nothing to do with the relief."""
    gy, gx = np.gradient(height)
    n = np.stack([-gx, gy, np.ones_like(gx)], -1) / np.sqrt(1 + gx**2 + gy**2)[..., None]
    a, rise = np.radians(toward_deg), np.radians(40)
    way = np.array([np.cos(a) * np.cos(rise), np.sin(a) * np.cos(rise), np.sin(rise)])
    rng = np.random.default_rng(seed)
    spots = cv2.GaussianBlur(rng.standard_normal(height.shape).astype(np.float32), (0, 0), 9.0)
    albedo = 0.35 * np.exp(paint * spots / spots.std())
    light = 0.3 * n[..., 2] + np.maximum(0, n @ way)
    colour = np.stack([albedo * c for c in (1.0, 0.9, 0.8)], -1) * light[..., None]
    return Image(colour.astype(np.float32), Kind.COLOUR, (float(height.shape[1]), float(height.shape[0])))


def alike(a: Floats, b: Floats) -> float:
    return float(np.corrcoef(a.ravel(), b.ravel())[0, 1])


def read(height: Floats, toward: float, told: float | None, **more: float) -> Reading:
    return read_sheet(shipped(), lit(height, toward, **more), told)  # type: ignore[arg-type]


@pytest.mark.parametrize("toward", [0.0, 90.0, 220.0])
def test_bumps_are_read_by_the_light_that_is_told(toward: float) -> None:
    height = bumps()
    assert alike(read(height, toward, toward).height(), height) > 0.5
    assert alike(read(height, toward, toward + 180).height(), height) < -0.3, "light from the other side turns them inside out"


def test_twenty_degrees_wrong_cost_little() -> None:
    height = bumps(5)
    right, off = (alike(read(height, 30.0, told).height(), height) for told in (30.0, 50.0))
    assert off > right - 0.12


def test_slopes_are_those_of_the_surface() -> None:
    height = bumps(6)
    said = read(height, 0.0, 0.0)
    gy, gx = np.gradient(height)
    assert alike(said.right, -gx) > 0.6, "along the light they are seen"
    assert alike(said.down, -gy) > 0.15, "across it they are guessed"


def test_paint_on_a_plane_is_no_relief() -> None:
    painted = read(np.zeros((256, 256), np.float32), 0.0, 0.0, paint=0.4)
    surface = read(bumps(), 0.0, 0.0)
    slopes = [float(np.hypot(r.right, r.down).mean()) for r in (painted, surface)]
    assert slopes[0] < 0.35 * slopes[1]


def test_a_turned_photo_gives_a_turned_answer() -> None:
    height = bumps(7)
    straight = read_sheet(shipped(), lit(height, 0.0), 0.0)
    photo = lit(height, 0.0)
    turned = Image(np.ascontiguousarray(np.rot90(photo.pixels)), Kind.COLOUR, photo.size_mm)
    back = np.rot90(read_sheet(shipped(), turned, 90.0).height(), -1)
    assert alike(straight.height(), back) > 0.999


def test_one_window_is_what_it_was() -> None:
    window = np.random.default_rng(8).standard_normal((CHANNELS, SIDE, SIDE)).astype(np.float32) * 0.3
    said = shipped()(window)
    assert np.array_equal(said, shipped()(window)), "the same each time"
    with np.load(GOLDEN) as kept:
        assert kept["said"].shape == (len(OUTPUTS), 16, 16)
        assert np.abs(said[:, ::16, ::16] - kept["said"]).max() < TOLERANCE


def test_the_file_is_small() -> None:
    assert FILE.stat().st_size < 4_000_000


def test_a_file_that_is_no_network_is_refused(tmp_path: Path) -> None:
    wrong = tmp_path / "relief.onnx"
    wrong.write_bytes(FILE.read_bytes()[:5000])
    with pytest.raises(FileError, match="cannot be read"):
        OnnxNetwork(wrong)
