"""Colour differences, differences of maps, charts, readings, shading and models: against known numbers."""

from __future__ import annotations

import json
import struct
import tempfile
from contextlib import suppress
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from silent_loom.core.base.delta_e import delta_e00
from silent_loom.core.base.errors import FileError, LoomError
from silent_loom.core.base.images import Image, Kind
from silent_loom.core.base.srgb import decode_srgb
from silent_loom.core.delivery.proving.difference import as_filed, differences, picture_of
from silent_loom.core.form.packed import Mesh, read_mesh
from silent_loom.core.screen.charts import CHARTS, chart
from silent_loom.core.screen.reading import PLOT, TOO_BRIGHT, TOO_DARK, colour_plot, seen, spread
from silent_loom.core.screen.shading import lamp_light, on_screen
from silent_loom.core.weave.threads import spec

PAIRS = """50 2.6772 -79.7751 50 0 -82.7485 2.0425
50 3.1571 -77.2803 50 0 -82.7485 2.8615
50 2.8361 -74.02 50 0 -82.7485 3.4412
50 -1.3802 -84.2814 50 0 -82.7485 1.0
50 -1.1848 -84.8006 50 0 -82.7485 1.0
50 -0.9009 -85.5211 50 0 -82.7485 1.0
50 0 0 50 -1 2 2.3669
50 -1 2 50 0 0 2.3669
50 2.49 -0.001 50 -2.49 0.0009 7.1792
50 2.49 -0.001 50 -2.49 0.0010 7.1792
50 2.49 -0.001 50 -2.49 0.0011 7.2195
50 2.49 -0.001 50 -2.49 0.0012 7.2195
50 -0.001 2.49 50 0.0009 -2.49 4.8045
50 -0.001 2.49 50 0.0010 -2.49 4.8045
50 -0.001 2.49 50 0.0011 -2.49 4.7461
50 2.5 0 50 0 -2.5 4.3065
50 2.5 0 73 25 -18 27.1492
50 2.5 0 61 -5 29 22.8977
50 2.5 0 56 -27 -3 31.9030
50 2.5 0 58 24 15 19.4535
50 2.5 0 50 3.1736 0.5854 1.0
50 2.5 0 50 3.2972 0 1.0
50 2.5 0 50 1.8634 0.5757 1.0
50 2.5 0 50 3.2592 0.3350 1.0
60.2574 -34.0099 36.2677 60.4626 -34.1751 39.4387 1.2644
63.0109 -31.0961 -5.8663 62.8187 -29.7946 -4.0864 1.2630
61.2901 3.7196 -5.3901 61.4292 2.2480 -4.9620 1.8731
35.0831 -44.1164 3.7933 35.0232 -40.0716 1.5901 1.8645
22.7233 20.0904 -46.6940 23.0331 14.9730 -42.5619 2.0373
36.4612 47.8580 18.3852 36.2715 50.5065 21.2231 1.4146
90.8027 -2.0831 1.4410 91.1528 -1.6435 0.0447 1.4441
90.9257 -0.5406 -0.9208 88.6381 -0.8985 -0.7239 1.5381
6.7747 -0.2908 -2.4247 5.8714 -0.0985 -2.2286 0.6377
2.0776 0.0795 -1.1350 0.9033 -0.0636 -0.5514 0.9082"""
"""L*, a*, b* of two colours and their difference: the test data of Sharma, Wu & Dalal (2005)."""


def test_colour_differences_are_those_of_the_published_pairs() -> None:
    pairs = np.array([[float(v) for v in line.split()] for line in PAIRS.splitlines()])
    np.testing.assert_allclose(delta_e00(pairs[:, :3], pairs[:, 3:6]), pairs[:, 6], atol=1e-4)
    np.testing.assert_allclose(delta_e00(pairs[:, 3:6], pairs[:, :3]), pairs[:, 6], atol=1e-4)


def colour(values: np.ndarray) -> Image:
    return Image(np.ascontiguousarray(decode_srgb(values / 255), np.float32), Kind.COLOUR, (100, 100), True)


def test_a_difference_of_colour_counts_codes_and_looks() -> None:
    one = np.full((8, 8, 3), 100.0)
    other = one.copy()
    other[0, 0, 1] += 12
    found = differences(as_filed(colour(one), spec("base")), as_filed(colour(other), spec("base")), spec("base"))
    assert found.max_code == pytest.approx(12, abs=1e-3)
    assert found.rmse == pytest.approx(np.sqrt(144 / 192), abs=1e-3)
    assert found.psnr == pytest.approx(20 * np.log10(255 / np.sqrt(144 / 192)), abs=1e-3)
    assert found.mean == pytest.approx(found.max / 64)
    assert 2 < found.max < 12
    assert (found.picture > 0).sum() == 1
    shown = picture_of(found)
    assert shown[0, 0].tolist() == [255, 255, 246]
    assert shown[1:].max() == 0


def test_equal_maps_differ_by_nothing() -> None:
    same = as_filed(colour(np.full((4, 4, 3), 77.0)), spec("base"))
    found = differences(same, same, spec("base"))
    assert (found.mean, found.max, found.rmse, found.max_code) == (0, 0, 0, 0)
    assert found.as_dict()["psnr"] is None
    assert json.dumps(found.as_dict())


@pytest.mark.parametrize("degrees", [0.5, 7.0, 60.0])
def test_a_difference_of_normals_is_an_angle(degrees: float) -> None:
    up = np.zeros((4, 4, 3), np.float32)
    up[..., 2] = 1
    turned = np.zeros_like(up)
    turned[..., 0], turned[..., 2] = np.sin(np.radians(degrees)), np.cos(np.radians(degrees))
    maps = [as_filed(Image(v, Kind.NORMAL, (1, 1), True), spec("normal")) for v in (up, turned)]
    assert differences(*maps, spec("normal")).mean == pytest.approx(degrees, abs=0.01)


def test_a_difference_of_heights_is_in_millimetres() -> None:
    low, high = (Image(np.full((4, 4, 1), v, np.float32), Kind.DATA, (1, 1), True) for v in (-1.0, 1.5))
    found = differences(as_filed(low, spec("height")), as_filed(high, spec("height")), spec("height"))
    assert (found.measure, round(found.max, 3), round(found.rmse, 3)) == ("mm", 2.5, 2.5)


def test_maps_of_two_sizes_are_not_compared() -> None:
    with pytest.raises(LoomError, match="different sizes"):
        differences(np.zeros((4, 4, 1), np.float32), np.zeros((4, 5, 1), np.float32), spec("roughness"))


@pytest.mark.parametrize("name", list(CHARTS))
def test_charts_have_a_top_and_a_left(name: str) -> None:
    drawn = chart(name, 256, 192)
    assert (drawn.width, drawn.height) == (256, 192)
    picture = drawn.samples.astype(float) / (255 if drawn.bits == 8 else 65535)
    turns = (picture[::-1, ::-1], picture[:, ::-1], picture[::-1])
    assert all(np.abs(picture - turned).mean() > 0.02 for turned in turns)
    assert np.array_equal(drawn.samples, chart(name, 256, 192).samples)


def test_a_gradient_has_a_level_for_every_texel() -> None:
    ramp = chart("gradient", 512, 320).samples
    assert len(np.unique(ramp[0, :, 0])) == 512
    assert len(np.unique(ramp[100, :, 0])) == 21


def test_a_chart_that_nobody_could_read_is_refused() -> None:
    for name, width in (("checker", 8), ("rings", 256), ("checker", 40_000)):
        with pytest.raises(LoomError):
            chart(name, width, 256)


def test_one_channel_and_lightness_are_shown_as_grey() -> None:
    image = colour(np.tile(np.array([200.0, 100.0, 50.0]), (3, 3, 1)))
    assert seen(image, spec("base"), "r")[1, 1].tolist() == [200, 200, 200, 255]
    assert seen(image, spec("base"), "b")[1, 1].tolist() == [50, 50, 50, 255]
    grey = seen(colour(np.full((2, 2, 3), 119.0)), spec("base"), "lightness")[0, 0]
    assert grey[0] == 128, "code 119 is L* 50.03"


def test_what_is_cut_off_is_marked() -> None:
    plane = np.float32([[-0.1, 0.0, 0.5, 1.0, 1.2, np.nan]])[..., None]
    out = seen(Image(plane, Kind.DATA, (1, 1), True), spec("roughness"), clipped=True)[0, :, :3].tolist()
    assert out[:2] == [list(TOO_DARK)] * 2
    assert out[3:5] == [list(TOO_BRIGHT)] * 2
    assert out[5] == list(TOO_DARK)
    assert out[2] == [128, 128, 128]
    facts = spread(Image(np.nan_to_num(plane), Kind.DATA, (1, 1), True), spec("roughness"))
    assert facts["dark"] == pytest.approx(3 / 6)
    assert facts["bright"] == pytest.approx(2 / 6)
    red = colour(np.tile(np.array([255.0, 0.0, 0.0]), (1, 1, 1)))
    assert seen(red, spec("base"), clipped=True)[0, 0, :3].tolist() == list(TOO_BRIGHT)


def test_colours_lie_where_their_hue_is() -> None:
    def strongest(codes: tuple[float, float, float]) -> tuple[int, int]:
        plot = colour_plot(colour(np.tile(np.array(codes), (4, 4, 1))))[0][..., 3]
        return tuple(np.argwhere(plot == plot.max())[0])  # type: ignore[return-value]

    middle = PLOT // 2
    assert strongest((128, 128, 128)) == (middle, middle)
    assert [colour_plot(colour(np.full((2, 2, 3), 90.0) + np.array([d, 0, 0])))[1] for d in (5, 60, 165)] == [24, 48, 96]
    assert strongest((200, 40, 40))[1] > middle + 20
    assert strongest((220, 200, 40))[0] < middle - 20, "yellow lies above"
    assert strongest((40, 60, 200))[0] > middle + 20, "blue lies below"


@pytest.mark.parametrize(("rough", "metal"), [(0.3, 0.0), (0.3, 1.0), (0.9, 0.0), (0.9, 1.0)])
def test_a_white_surface_under_an_even_sky_is_white(rough: float, metal: float) -> None:
    """The light of all directions together, as the eye sees it: nothing is lost and nothing won."""
    up, eye = np.array([0.0, 0.0, 1.0]), np.array([np.sin(0.5), 0.0, np.cos(0.5)])
    total, rings, spokes = 0.0, 100, 60
    for c in (np.arange(rings) + 0.5) / rings:
        for a in (np.arange(spokes) + 0.5) * 2 * np.pi / spokes:
            lamp = np.array([np.sqrt(1 - c * c) * np.cos(a), np.sqrt(1 - c * c) * np.sin(a), c])
            light = lamp_light(np.ones(3), up, np.array(rough), np.array(metal), to_light=lamp, to_eye=eye, light=np.ones(3))
            total += float(light.mean()) * 2 * np.pi / (rings * spokes)
    assert total == pytest.approx(1, abs=0.03)


def test_the_screen_bends_nothing_below_its_shoulder() -> None:
    grey = np.array([[0.04 + 0.2] * 3, [50.0, 40.0, 30.0], [0.0] * 3])
    codes = on_screen(grey)
    assert codes[0, 0] == round(255 * (1.055 * 0.2 ** (1 / 2.4) - 0.055))
    assert codes[1].max() <= 255
    assert codes[2].tolist() == [0, 0, 0]
    assert on_screen(grey[:1], 2.0)[0, 0] > codes[0, 0]


CUBE = """# a block
v 0 0 0
v 1 0 0
v 1 1 0
v 0 1 0
vt 0 0
vt 1 0
vt 1 1
vt 0 1
f 1/1 2/2 3/3 4/4
"""


def test_an_obj_is_read_with_its_uv_and_smooth_normals(tmp_path: Path) -> None:
    path = tmp_path / "block.obj"
    path.write_text(CUBE)
    mesh = read_mesh(path)
    assert mesh.own_uv
    assert mesh.triangles.tolist() == [[0, 1, 2], [0, 2, 3]]
    assert mesh.normals[0].tolist() == [0, 0, 1]
    assert mesh.uv[2].tolist() == [1, 1]
    path.write_text(CUBE.replace("f 1/1 2/2 3/3 4/4", "f -4 -3 -2"))
    bare = read_mesh(path)
    assert not bare.own_uv
    assert bare.uv.tolist() == [[0, 0], [1, 0], [1, 1]], "laid from the side that it faces"


def glb(primitive: dict[str, object], data: bytes, views: list[dict[str, int]], accessors: list[dict[str, object]]) -> bytes:
    scene = {
        "asset": {"version": "2.0"},
        "scene": 0,
        "scenes": [{"nodes": [0]}],
        "nodes": [{"children": [1], "translation": [0, 0, 5]}, {"mesh": 0, "scale": [2, 2, 2]}],
        "meshes": [{"primitives": [primitive]}],
        "buffers": [{"byteLength": len(data)}],
        "bufferViews": [{"buffer": 0, **v} for v in views],
        "accessors": accessors,
    }
    text = json.dumps(scene).encode()
    text += b" " * (-len(text) % 4)
    chunks = struct.pack("<I4s", len(text), b"JSON") + text + struct.pack("<I4s", len(data), b"BIN\0") + data
    return struct.pack("<4sII", b"glTF", 2, 12 + len(chunks)) + chunks


def triangle() -> bytes:
    at = np.float32([[0, 0, 0], [1, 0, 0], [0, 1, 0]]).tobytes()
    laid = np.float32([[0, 0], [1, 0], [0, 1]]).tobytes()
    return glb(
        {"attributes": {"POSITION": 0, "TEXCOORD_0": 1}},
        at + laid,
        [{"byteOffset": 0, "byteLength": 36}, {"byteOffset": 36, "byteLength": 24}],
        [
            {"bufferView": 0, "componentType": 5126, "count": 3, "type": "VEC3"},
            {"bufferView": 1, "componentType": 5126, "count": 3, "type": "VEC2"},
        ],
    )


def test_a_glb_lies_where_its_nodes_put_it(tmp_path: Path) -> None:
    path = tmp_path / "piece.glb"
    path.write_bytes(triangle())
    mesh = read_mesh(path)
    assert mesh.positions.tolist() == [[0, 0, 5], [2, 0, 5], [0, 2, 5]]
    assert mesh.normals[1].tolist() == [0, 0, 1]
    assert mesh.uv.tolist() == [[0, 1], [1, 1], [0, 0]], "v goes up here"


@given(st.integers(12, len(triangle()) - 1), st.integers(0, 255), st.booleans())
def test_damaged_models_are_refused_in_words(at: int, byte: int, cut: bool) -> None:
    body = bytearray(triangle())
    body[at] = byte
    with tempfile.NamedTemporaryFile(suffix=".glb") as file:
        file.write(body[:at] if cut else body)
        file.flush()
        mesh: Mesh | None = None
        with suppress(FileError):
            mesh = read_mesh(Path(file.name))
        if mesh is not None:
            assert np.isfinite(mesh.positions).all()
            assert mesh.triangles.max() < len(mesh.positions)


@pytest.mark.parametrize(
    "text", ["", "v 0 0 0\n", "f 1 2 3\n", "v a b c\nf 1 1 1\n", "v 0 0 0\nf 1 2 9\n", "v nan 0 0\nv 0 0 1\nv 1 0 0\nf 1 2 3\n"]
)
def test_an_obj_that_shows_nothing_says_so(tmp_path: Path, text: str) -> None:
    path = tmp_path / "nothing.obj"
    path.write_text(text)
    with pytest.raises(FileError):
        read_mesh(path)
