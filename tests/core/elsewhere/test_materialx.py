"""MaterialX documents of the standard's kinds against values worked out by hand, and what is said of those that are wrong."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image as Pillow

from silent_loom.core.base.errors import FileError
from silent_loom.core.base.srgb import decode_srgb
from silent_loom.core.elsewhere.flatten import flattened
from silent_loom.core.elsewhere.materialx import chance, spaces
from silent_loom.core.elsewhere.materialx.nodes import NODES, of_hsv, to_hsv
from silent_loom.core.elsewhere.plain_maps import Flat

HEAD = '<?xml version="1.0"?>\n<materialx version="1.39" colorspace="lin_rec709">\n'
SURFACE = (
    '<surfacematerial name="M" type="material"><input name="surfaceshader" type="surfaceshader" nodename="S"/></surfacematerial>'
)


def document(folder: Path, body: str, shader: str = "", size: int = 8) -> Flat:
    path = folder / "m.mtlx"
    inside = (
        shader
        or '<open_pbr_surface name="S" type="surfaceshader"><input name="base_color" type="color3" nodename="out"/></open_pbr_surface>'
    )
    path.write_text(f"{HEAD}{body}{inside}{SURFACE}</materialx>", "utf-8")
    (flat,) = flattened(path, size)
    return flat


def worked(folder: Path, body: str, size: int = 8) -> Any:
    """The base colour of a document whose node 'out' is put there."""
    return document(folder, body, size=size).maps["base"].astype(np.float64)


def value(folder: Path, node: str, inputs: str, kind: str = "color3") -> list[float]:
    """What a node comes to that is the same everywhere."""
    found = worked(folder, f'<{node} name="out" type="{kind}">{inputs}</{node}>')
    assert np.ptp(found, axis=(0, 1)).max() < 1e-6
    return [float(v) for v in found[0, 0]]


def given_(name: str, kind: str, text: str) -> str:
    return f'<input name="{name}" type="{kind}" value="{text}"/>'


@pytest.mark.parametrize(
    ("node", "one", "other", "wanted"),
    [
        ("add", "0.1, 0.2, 0.3", "0.2, 0.2, 0.2", [0.3, 0.4, 0.5]),
        ("subtract", "0.5, 0.4, 0.3", "0.1, 0.1, 0.1", [0.4, 0.3, 0.2]),
        ("multiply", "0.5, 0.4, 0.3", "0.5, 0.5, 2", [0.25, 0.2, 0.6]),
        ("divide", "0.5, 0.4, 0.3", "2, 0.5, 1", [0.25, 0.8, 0.3]),
        ("power", "0.5, 0.4, 0.3", "2, 1, 3", [0.25, 0.4, 0.027]),
        ("min", "0.5, 0.1, 0.3", "0.2, 0.4, 0.3", [0.2, 0.1, 0.3]),
        ("max", "0.5, 0.1, 0.3", "0.2, 0.4, 0.3", [0.5, 0.4, 0.3]),
        ("modulo", "0.7, 0.45, 0.3", "0.5, 0.2, 0.25", [0.2, 0.05, 0.05]),
    ],
)
def test_arithmetic(tmp_path: Path, node: str, one: str, other: str, wanted: list[float]) -> None:
    inputs = given_("in1", "color3", one) + given_("in2", "color3", other)
    assert value(tmp_path, node, inputs) == pytest.approx(wanted, rel=1e-5)


@pytest.mark.parametrize(
    ("node", "inputs", "wanted"),
    [
        ("clamp", [("in", "1.4, 0.5, 0.1"), ("low", "0.2, 0.2, 0.2"), ("high", "0.8, 0.8, 0.8")], [0.8, 0.5, 0.2]),
        ("remap", [("in", "0.25, 0.5, 0.75"), ("outlow", "0.2, 0.2, 0.2"), ("outhigh", "0.6, 0.6, 0.6")], [0.3, 0.4, 0.5]),
        ("smoothstep", [("in", "0.25, 0.5, 0.75")], [0.15625, 0.5, 0.84375]),
        ("contrast", [("in", "0.6, 0.5, 0.4"), ("amount", "2, 2, 2"), ("pivot", "0.5, 0.5, 0.5")], [0.7, 0.5, 0.3]),
        ("invert", [("in", "0.25, 0.5, 0.9")], [0.75, 0.5, 0.1]),
        ("screen", [("fg", "0.5, 0.2, 0.1"), ("bg", "0.5, 0.5, 0.5")], [0.75, 0.6, 0.55]),
        ("overlay", [("fg", "0.5, 0.2, 0.9"), ("bg", "0.25, 0.25, 0.75")], [0.25, 0.1, 0.95]),
        ("dodge", [("fg", "0.5, 0.2, 0.1"), ("bg", "0.25, 0.4, 0.45")], [0.5, 0.5, 0.5]),
        ("burn", [("fg", "0.5, 0.8, 1"), ("bg", "0.75, 0.6, 0.45")], [0.5, 0.5, 0.45]),
        ("luminance", [("in", "0.5, 0.25, 1")], [0.2126 * 0.5 + 0.7152 * 0.25 + 0.0722] * 3),
        ("hsvtorgb", [("in", "0.5, 1, 0.8")], [0.0, 0.8, 0.8]),
        ("rgbtohsv", [("in", "0.2, 0.8, 0.2")], [1 / 3, 0.75, 0.8]),
        ("hsvadjust", [("in", "0.8, 0.2, 0.2"), ("amount", "0.3333333, 1, 0.5")], [0.1, 0.4, 0.1]),
    ],
)
def test_adjustment_and_colour(tmp_path: Path, node: str, inputs: list[tuple[str, str]], wanted: list[float]) -> None:
    kinds = {"amount": "vector3" if node == "hsvadjust" else "color3"}
    text = "".join(given_(n, kinds.get(n, "color3"), v) for n, v in inputs)
    assert value(tmp_path, node, text) == pytest.approx(wanted, rel=1e-2, abs=1e-4)


def test_mixing_choosing_and_channels(tmp_path: Path) -> None:
    mixed = given_("fg", "color3", "1, 0, 0.5") + given_("bg", "color3", "0, 1, 0.5") + given_("mix", "float", "0.25")
    assert value(tmp_path, "mix", mixed) == pytest.approx([0.25, 0.75, 0.5])
    chosen = given_("value1", "float", "0.6") + given_("value2", "float", "0.5") + given_("in1", "color3", "0.9, 0.9, 0.9")
    assert value(tmp_path, "ifgreater", chosen + given_("in2", "color3", "0.1, 0.1, 0.1")) == pytest.approx([0.9] * 3)
    switched = "".join(given_(f"in{k}", "color3", f"0.{k}, 0.{k}, 0.{k}") for k in (1, 2, 3)) + given_("which", "float", "1.5")
    assert value(tmp_path, "switch", switched) == pytest.approx([0.2] * 3)
    parts = "".join(
        f'<extract name="e{k}" type="float">{given_("in", "color3", "0.1, 0.5, 0.9")}{given_("index", "integer", str(k))}</extract>'
        for k in range(3)
    )
    turned = "".join(f'<input name="in{k + 1}" type="float" nodename="e{2 - k}"/>' for k in range(3))
    found = worked(tmp_path, f'{parts}<combine3 name="out" type="color3">{turned}</combine3>')
    assert found[0, 0] == pytest.approx([0.9, 0.5, 0.1])


def test_colours_are_read_in_their_space(tmp_path: Path) -> None:
    body = '<constant name="out" type="color3"><input name="value" type="color3" value="0.5, 0.25, 1" colorspace="srgb_texture"/></constant>'
    assert worked(tmp_path, body)[0, 0] == pytest.approx(decode_srgb(np.array([0.5, 0.25, 1.0])), rel=1e-5)


def in_space(folder: Path, space: str) -> Flat:
    told = f'<input name="value" type="color3" value="0.5, 0.25, 0.75" colorspace="{space}"/>'
    return document(folder, f'<constant name="out" type="color3">{told}</constant>')


@pytest.mark.parametrize(
    ("space", "wanted"),
    [  # worked out by hand from the chromaticities
        ("lin_rec709", [0.5, 0.25, 0.75]),
        ("LIN_REC709", [0.5, 0.25, 0.75]),
        ("g22_rec709_scene", [0.5**2.2, 0.25**2.2, 0.75**2.2]),
        (
            "lin_displayp3",
            [1.2249 * 0.5 - 0.2249 * 0.25, -0.0421 * 0.5 + 1.0421 * 0.25, -0.0196 * 0.5 - 0.0786 * 0.25 + 1.0983 * 0.75],
        ),
        ("acescg", [1.7051 * 0.5 - 0.6218 * 0.25 - 0.0833 * 0.75, -0.1303 * 0.5 + 1.1408 * 0.25 - 0.0105 * 0.75, 0.8205]),
        ("none", [0.5, 0.25, 0.75]),
    ],
)
def test_colour_spaces_have_their_primaries(tmp_path: Path, space: str, wanted: list[float]) -> None:
    flat = in_space(tmp_path, space)
    assert flat.maps["base"][0, 0] == pytest.approx(wanted, abs=2e-4)
    assert flat.left == []


def test_white_stays_white_in_every_space() -> None:
    for gamut in spaces.GAMUTS:
        assert spaces.to_rec709(gamut) @ np.ones(3) == pytest.approx(np.ones(3), abs=1e-9)


def test_a_colour_space_that_is_not_known_is_told(tmp_path: Path) -> None:
    flat = in_space(tmp_path, "camera_log_seven")
    assert flat.maps["base"][0, 0] == pytest.approx([0.5, 0.25, 0.75])
    assert len(flat.left) == 1
    assert "camera_log_seven" in flat.left[0]
    codes = picture(tmp_path)
    file = '<input name="file" type="filename" value="p.png" colorspace="film_nine"/>'
    flat = document(tmp_path, f'<image name="out" type="color3">{file}</image>', size=0)
    assert np.abs(flat.maps["base"] - codes / 255).max() < 1e-6
    assert ["film_nine" in words for words in flat.left] == [True]


def test_u_goes_right_and_v_up(tmp_path: Path) -> None:
    body = '<ramp4 name="out" type="color3">' + "".join(
        given_(n, "color3", v)
        for n, v in (("valuetl", "1, 0, 0"), ("valuetr", "0, 1, 0"), ("valuebl", "0, 0, 1"), ("valuebr", "1, 1, 1"))
    )
    found = worked(tmp_path, body + "</ramp4>", 64)
    corners = found[0, 0], found[0, -1], found[-1, 0], found[-1, -1]
    for corner, wanted in zip(corners, ([1, 0, 0], [0, 1, 0], [0, 0, 1], [1, 1, 1]), strict=True):
        assert corner == pytest.approx(wanted, abs=0.02)


def test_a_checkerboard_stands_as_the_standard_has_it(tmp_path: Path) -> None:
    body = f'<checkerboard name="out" type="color3">{given_("uvtiling", "vector2", "2, 2")}</checkerboard>'
    found = worked(tmp_path, body, 8)[..., 0]
    assert found[-1, 0] == 0.0  # floor 0 + 0: even, the second colour
    assert found[-1, -1] == 1.0
    assert found[0, 0] == 1.0


def picture(folder: Path, name: str = "p.png", size: tuple[int, int] = (4, 2)) -> np.ndarray[Any, Any]:
    codes = np.random.default_rng(3).integers(0, 255, (size[1], size[0], 3)).astype(np.uint8)
    Pillow.fromarray(codes).save(folder / name)
    return codes


def test_pictures_tile_and_are_decoded(tmp_path: Path) -> None:
    codes = picture(tmp_path)
    file = '<input name="file" type="filename" value="p.png" colorspace="srgb_texture"/>'
    flat = document(tmp_path, f'<image name="out" type="color3">{file}</image>', size=0)
    assert flat.size == (4, 2)
    assert np.abs(flat.maps["base"] - decode_srgb(codes / 255)).max() < 1e-6
    twice = document(
        tmp_path, f'<tiledimage name="out" type="color3">{file}{given_("uvtiling", "vector2", "2, 2")}</tiledimage>', size=8
    )
    large = twice.maps["base"]
    assert np.allclose(large, np.tile(large[:2, :4], (2, 2, 1)), atol=1e-6)
    assert np.abs(large[:2, :4] - decode_srgb(codes / 255)).max() < 1e-6


def test_graphs_in_graphs_and_definitions_of_its_own(tmp_path: Path) -> None:
    body = """
    <nodedef name="ND_twice" node="twice"><input name="in" type="color3" value="0.1, 0.1, 0.1"/>
      <input name="by" type="float" value="2"/><output name="out" type="color3"/></nodedef>
    <nodegraph name="NG_twice" nodedef="ND_twice">
      <multiply name="m" type="color3"><input name="in1" type="color3" interfacename="in"/><input name="in2" type="float" interfacename="by"/></multiply>
      <output name="out" type="color3" nodename="m"/></nodegraph>
    <nodegraph name="inner"><input name="c" type="color3" value="0.05, 0.1, 0.15"/>
      <twice name="t" type="color3"><input name="in" type="color3" interfacename="c"/></twice>
      <output name="o" type="color3" nodename="t"/></nodegraph>
    <nodegraph name="outer">
      <twice name="a" type="color3"><input name="in" type="color3" nodegraph="inner" output="o"/><input name="by" type="float" value="3"/></twice>
      <output name="o" type="color3" nodename="a"/></nodegraph>
    <dot name="out" type="color3"><input name="in" type="color3" nodegraph="outer" output="o"/></dot>
    """
    assert worked(tmp_path, body)[0, 0] == pytest.approx([0.3, 0.6, 0.9])


def test_surfaces_become_maps(tmp_path: Path) -> None:
    shader = f"""<standard_surface name="S" type="surfaceshader">{given_("base", "float", "0.5")}{given_("base_color", "color3", "0.8, 0.4, 0.2")}
    {given_("metalness", "float", "1")}{given_("specular_roughness", "float", "0.35")}{given_("opacity", "color3", "0.5, 0.5, 0.5")}
    {given_("emission", "float", "0.5")}{given_("emission_color", "color3", "1, 0.5, 0")}{given_("coat", "float", "0.3")}</standard_surface>"""
    flat = document(tmp_path, "", shader)
    wanted = {"base": [0.4, 0.2, 0.1], "metallic": [1], "roughness": [0.35], "opacity": [0.5], "emission": [0.5, 0.25, 0]}
    for name, value_ in wanted.items():
        assert flat.maps[name][0, 0] == pytest.approx(value_, rel=1e-5), name
    assert flat.left == ["a clear coat"]


def test_other_surfaces(tmp_path: Path) -> None:
    gltf = f"""<gltf_pbr name="S" type="surfaceshader">{given_("base_color", "color3", "0.2, 0.3, 0.4")}{given_("roughness", "float", "0.6")}
    {given_("metallic", "float", "0.25")}{given_("occlusion", "float", "0.7")}{given_("alpha_mode", "integer", "1")}{given_("alpha", "float", "0.4")}</gltf_pbr>"""
    flat = document(tmp_path, "", gltf)
    assert [float(flat.maps[n][0, 0, 0]) for n in ("roughness", "metallic", "occlusion", "opacity")] == pytest.approx(
        [0.6, 0.25, 0.7, 0]
    )
    assert flat.cutout
    usd = f"""<UsdPreviewSurface name="S" type="surfaceshader">{given_("diffuseColor", "color3", "0.2, 0.3, 0.4")}{given_("opacity", "float", "0.5")}
    </UsdPreviewSurface>"""
    flat = document(tmp_path, "", usd)
    assert float(flat.maps["opacity"][0, 0, 0]) == 0.5
    mixed = """<open_pbr_surface name="A" type="surfaceshader"><input name="base_color" type="color3" value="1, 0, 0"/></open_pbr_surface>
    <open_pbr_surface name="B" type="surfaceshader"><input name="base_color" type="color3" value="0, 0, 1"/>
      <input name="specular_roughness" type="float" value="0.9"/></open_pbr_surface>
    <mix name="S" type="surfaceshader"><input name="bg" type="surfaceshader" nodename="A"/><input name="fg" type="surfaceshader" nodename="B"/>
      <input name="mix" type="float" value="0.25"/></mix>"""
    flat = document(tmp_path, "", mixed)
    assert flat.maps["base"][0, 0] == pytest.approx([0.75, 0, 0.25])
    assert flat.maps["roughness"][0, 0] == pytest.approx([0.3 * 0.75 + 0.9 * 0.25])


def test_normals_and_displacement(tmp_path: Path) -> None:
    shader = """<normalmap name="n" type="vector3"><input name="in" type="vector3" value="0.75, 0.5, 1"/><input name="scale" type="float" value="2"/></normalmap>
    <open_pbr_surface name="S" type="surfaceshader"><input name="geometry_normal" type="vector3" nodename="n"/></open_pbr_surface>
    <displacement name="D" type="displacementshader"><input name="displacement" type="float" value="0.5"/><input name="scale" type="float" value="0.01"/></displacement>"""
    path = tmp_path / "m.mtlx"
    both = SURFACE.replace(
        "</surfacematerial>", '<input name="displacementshader" type="displacementshader" nodename="D"/></surfacematerial>'
    )
    path.write_text(f"{HEAD}{shader}{both}</materialx>", "utf-8")
    (flat,) = flattened(path, 4)
    assert flat.maps["normal"][0, 0] == pytest.approx(np.array([1, 0, 1]) / np.sqrt(2), rel=1e-5)
    assert float(flat.maps["height"][0, 0, 0]) == pytest.approx(5.0)


def test_what_needs_a_scene_is_said(tmp_path: Path) -> None:
    flat = document(
        tmp_path,
        '<position name="p" type="vector3"/><convert name="out" type="color3"><input name="in" type="vector3" nodename="p"/></convert>',
    )
    assert any("position" in words for words in flat.left)
    flat = document(
        tmp_path, '<sparkle name="out" type="color3"><input name="in" type="color3" value="0.2, 0.2, 0.2"/></sparkle>'
    )
    assert any("sparkle" in words and "not known" in words for words in flat.left)
    assert flat.maps["base"][0, 0] == pytest.approx([0.2] * 3)


@pytest.mark.parametrize(
    ("body", "words"),
    [
        ("<materialx version='1.39'>", "no XML"),
        ("<?xml version='1.0'?><!DOCTYPE a [<!ENTITY b 'c'>]><materialx version='1.39'/>", "entities"),
        ("<usd/>", "no MaterialX"),
        ("<materialx version='1.36'/>", "1.36"),
        ("<materialx version='1.39'/>", "no material"),
        (f"{HEAD}<include href='m.mtlx'/></materialx>", "include each other"),
        (f"{HEAD}<include href='../../other.mtlx'/></materialx>", "beside it"),
        (
            f"{HEAD}<open_pbr_surface name='S' type='surfaceshader'><input name='base_color' type='color3' nodename='gone'/></open_pbr_surface></materialx>",
            "gone",
        ),
        (
            f"{HEAD}<open_pbr_surface name='S' type='surfaceshader'><input name='base_color' type='color3' value='red'/></open_pbr_surface></materialx>",
            "no color3",
        ),
        (
            f"{HEAD}<add name='a' type='color3'><input name='in1' type='color3' nodename='a'/></add>"
            "<open_pbr_surface name='S' type='surfaceshader'><input name='base_color' type='color3' nodename='a'/></open_pbr_surface></materialx>",
            "circle",
        ),
        (
            f"{HEAD}<image name='i' type='color3'><input name='file' type='filename' value='no.png'/></image><open_pbr_surface name='S' type='surfaceshader'/></materialx>",
            "missing",
        ),
    ],
)
def test_wrong_documents_are_told_in_words(tmp_path: Path, body: str, words: str) -> None:
    path = tmp_path / "m.mtlx"
    path.write_text(body, "utf-8")
    with pytest.raises(FileError, match=words):
        flattened(path)


# --- noises: against a plain form of the same definition -------------------------------------------------------------------


def plain_hash(*xs: int) -> int:
    most = 0xFFFFFFFF
    turn = lambda v, k: ((v << k) | (v >> (32 - k))) & most  # noqa: E731
    a = b = c = (0xDEADBEEF + (len(xs) << 2) + 13) & most
    a, b = (a + xs[0]) & most, (b + (xs[1] if len(xs) > 1 else 0)) & most
    c = (c + (xs[2] if len(xs) > 2 else 0)) & most
    c = ((c ^ b) - turn(b, 14)) & most
    a = ((a ^ c) - turn(c, 11)) & most
    b = ((b ^ a) - turn(a, 25)) & most
    c = ((c ^ b) - turn(b, 16)) & most
    a = ((a ^ c) - turn(c, 4)) & most
    b = ((b ^ a) - turn(a, 14)) & most
    return ((c ^ b) - turn(b, 24)) & most


@given(st.integers(-(2**31), 2**31 - 1), st.integers(-(2**31), 2**31 - 1))
def test_the_hash_is_the_standard_s(x: int, y: int) -> None:
    assert int(chance.hashed(np.array(x), np.array(y))) == plain_hash(x & 0xFFFFFFFF, y & 0xFFFFFFFF)


@settings(deadline=None)
@given(st.floats(-50, 50), st.floats(-50, 50))
def test_gradient_noise_is_nothing_on_its_lattice_and_smooth_beside_it(x: float, y: float) -> None:
    at = np.array([[x, y]])
    assert abs(float(chance.gradient_noise(np.floor(at))[0, 0])) < 1e-12
    near = chance.gradient_noise(at + 1e-6)[0, 0] - chance.gradient_noise(at)[0, 0]
    assert abs(near) < 1e-4
    assert abs(float(chance.gradient_noise(at)[0, 0])) <= 1.4


def test_noises_have_the_channels_of_their_kind() -> None:
    p = np.random.default_rng(1).uniform(-5, 5, (16, 2))
    assert [chance.noise(p, c).shape[-1] for c in (1, 2, 3, 4)] == [1, 2, 3, 4]
    one = chance.fractal(p, 1, 3, 2.0, 0.5)
    parts = sum(0.5**k * chance.gradient_noise(p * 2.0**k) for k in range(3))
    assert np.allclose(one, parts)
    near = chance.worley(p, 3, 1.0, 0, 0)
    assert (np.diff(near, axis=-1) >= 0).all()
    assert np.allclose(near**2, chance.worley(p, 3, 1.0, 0, 1))


@given(st.tuples(*(st.floats(0, 1) for _ in range(3))))
def test_hsv_there_and_back(rgb: tuple[float, float, float]) -> None:
    assert of_hsv(to_hsv(np.array(rgb))) == pytest.approx(rgb, abs=1e-9)


def test_the_standard_s_nodes_are_there() -> None:
    assert len(NODES) >= 80
    assert {"image", "tiledimage", "noise3d", "worleynoise2d", "normalmap", "place2d", "colorcorrect", "swizzle"} <= set(NODES)
