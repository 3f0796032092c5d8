"""What goes into which channel of which file: sources, names, sizes, limits, packages, smaller sets."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from silent_loom.core.base.colour import LUMA
from silent_loom.core.base.errors import LoomError
from silent_loom.core.base.images import Image, Kind
from silent_loom.core.delivery.channel import Channel, parse_channel, undone, value
from silent_loom.core.delivery.files import Order, deliver
from silent_loom.core.delivery.fitting import fit
from silent_loom.core.delivery.naming import check_apart, check_pattern, filled
from silent_loom.core.delivery.package.manifest import Manifest, schema
from silent_loom.core.delivery.package.relief import relief_of
from silent_loom.core.delivery.placing import sha256
from silent_loom.core.delivery.profile import FileSpec, Limits, Profile, file_names
from silent_loom.core.delivery.reduce import lost, reduced, rougher
from silent_loom.core.delivery.shelf import Shelf, as_text, known, opened, profile, profiles
from silent_loom.core.delivery.unpacking import unpack
from silent_loom.core.delivery.verdict import Packed, verdict
from silent_loom.core.files import read, write
from silent_loom.core.weave.threads import spec

N = 32


def image(pixels: np.ndarray, kind: Kind = Kind.DATA, size: tuple[float, float] = (200.0, 200.0)) -> Image:
    return Image(np.ascontiguousarray(pixels, np.float32), kind, size, True)


@pytest.fixture(scope="module")
def maps() -> dict[str, Image]:
    rng = np.random.default_rng(3)
    normal = np.concatenate([rng.normal(0, 0.25, (N, N, 2)), np.ones((N, N, 1))], 2)
    return {
        "base": image(rng.random((N, N, 3)), Kind.COLOUR),
        "height": image(rng.random((N, N, 1)) * 10 - 5),
        "normal": image(normal / np.linalg.norm(normal, axis=2, keepdims=True), Kind.NORMAL),
        **{n: image(0.2 + 0.6 * rng.random((N, N, 1))) for n in ("roughness", "occlusion", "opacity")},
        "metallic": image(np.full((N, N, 1), 0.25)),
    }


# --- channels --------------------------------------------------------------------------------------------------------------

CHANNELS = st.builds(
    Channel,
    thread=st.sampled_from(["roughness", "occlusion", "opacity"]),
    invert=st.booleans(),
    scale=st.floats(0.1, 3).map(lambda v: round(v, 3)),
    offset=st.floats(-0.5, 0.5).map(lambda v: round(v, 3)),
    curve=st.sampled_from([(), ((0, 0), (0.4, 0.7), (1, 1)), ((0, 1), (1, 0))]),
    times=st.sampled_from(["", "occlusion"]),
    amount=st.floats(0, 0.9).map(lambda v: round(v, 2)),
)


@settings(max_examples=60, deadline=None)
@given(CHANNELS)
def test_whatever_is_done_to_a_channel_can_be_undone(channel: Channel) -> None:
    rng = np.random.default_rng(5)
    maps = {n: image(0.05 + 0.9 * rng.random((9, 7, 1))) for n in ("roughness", "occlusion", "opacity")}
    packed = np.asarray(value(channel, maps, {}, "up"))
    factor = maps["occlusion"].plane() if channel.times else None
    back = undone(channel, packed, factor)
    assert np.abs(back - maps[channel.thread].plane()).max() < 2e-4
    assert Channel.model_validate(channel.model_dump(mode="json")) == channel
    assert Channel.model_validate(json.loads(channel.model_dump_json())) == channel


def test_channels_are_written_short_where_that_says_all() -> None:
    for text in ("roughness", "base.g", "1-roughness", "0.5", "normal.z", "base.luminance"):
        assert parse_channel(text).model_dump(mode="json") == text
    long = parse_channel({"thread": "base", "part": "r", "times": "occlusion", "amount": 0.5})
    assert long.model_dump(mode="json") == {"thread": "base", "part": "r", "times": "occlusion", "amount": 0.5}
    for wrong in (
        "base.q",
        "1-",
        {"thread": "a", "constant": 0.5},
        {},
        {"thread": "a", "curve": [[0, 0]]},
        {"thread": "a", "curve": [[1, 0], [0, 1]]},
        {"constant": 2},
    ):
        with pytest.raises(ValueError):
            parse_channel(wrong)  # type: ignore[arg-type]
    with pytest.raises(LoomError, match="level"):
        undone(Channel(thread="a", curve=((0, 0.5), (1, 0.5))), np.zeros((2, 2), np.float32), None)
    with pytest.raises(LoomError, match="multiplied by occlusion"):
        undone(Channel(thread="a", times="occlusion"), np.zeros((2, 2), np.float32), None)


def test_luminance_and_base_times_occlusion(maps: dict[str, Image]) -> None:
    grey = np.asarray(value(parse_channel("base.luminance"), maps, {}, "up"))
    assert np.allclose(grey, maps["base"].pixels @ LUMA, atol=1e-6)
    half = np.asarray(value(parse_channel({"thread": "base", "part": "g", "times": "occlusion", "amount": 0.5}), maps, {}, "up"))
    assert np.allclose(half, maps["base"].pixels[..., 1] * (0.5 + 0.5 * maps["occlusion"].plane()), atol=1e-6)


# --- names -----------------------------------------------------------------------------------------------------------------


def test_names_follow_the_pattern_exactly(maps: dict[str, Image]) -> None:
    wanted = Profile(
        name="n", title="N", pattern="{studio}_{model}_{map}_{size}_v{version}.{counter:4}", tokens={"studio": "SkerryLight"}, model="M_Hull",
        files=(FileSpec(suffix="BaseColor", channels=("base.r", "base.g", "base.b"), colour=True), FileSpec(suffix="R", channels=("roughness",), format="targa", share=2)),
    )  # fmt: skip
    assert list(file_names(wanted, "hull", maps, size=64, version=3)) == [
        "SkerryLight_M_Hull_BaseColor_64_v3.0001.png",
        "SkerryLight_M_Hull_R_32_v3.0002.tga",
    ]


@pytest.mark.parametrize(
    ("pattern", "words"),
    [("{material}", "one name"), ("{material}_{mapp}", "no token"), ("{map", "brace"), ("a/b_{map}", "cannot hold"), ("{map:3}", "width"), ("{counter:x}", "width"), ("a?{map}", "cannot hold")],
)  # fmt: skip
def test_patterns_that_cannot_be_are_refused(pattern: str, words: str) -> None:
    with pytest.raises(ValueError, match=words):
        check_pattern(pattern, {})
    with pytest.raises(ValueError):
        Profile(name="p", title="P", pattern=pattern, files=(FileSpec(suffix="m", channels=("base.r",)),))


def test_names_that_some_system_refuses_are_told() -> None:
    for tokens in ({"map": "x", "material": "con"}, {"map": "a" * 300, "material": ""}, {"map": "x.", "material": "m"}):
        with pytest.raises(LoomError):
            filled("{material}{map}" if tokens["material"] != "con" else "{material}", tokens)
    with pytest.raises(LoomError, match="one name"):
        check_apart(["A_n.png", "a_N.png"])
    with pytest.raises(ValueError, match="two files have the suffix"):
        Profile(
            name="p", title="P", files=(FileSpec(suffix="m", channels=("base.r",)), FileSpec(suffix="M", channels=("base.r",)))
        )


# --- formats ---------------------------------------------------------------------------------------------------------------

FORMATS = [("png", "8"), ("png", "16"), ("jpeg", "8"), ("targa", "8"), ("tiff", "8"), ("tiff", "16"), ("tiff", "float"), ("bmp", "8"), ("openexr", "half"), ("openexr", "float"), ("webp", "8")]  # fmt: skip


@pytest.mark.parametrize(("fmt", "depth"), FORMATS)
@pytest.mark.parametrize("channels", [1, 2, 3, 4])
@pytest.mark.parametrize("colour", [True, False])
def test_every_format_gives_back_what_was_written(fmt: str, depth: str, channels: int, colour: bool, tmp_path: Path) -> None:
    if channels in (2, 4) and fmt in ("jpeg", "bmp"):
        with pytest.raises(ValueError, match="no alpha"):
            FileSpec(suffix="m", channels=("base.r",) * channels, format=fmt)  # type: ignore[arg-type]
        return
    y, x = np.mgrid[0:40, 0:56] / 56
    planes = [x, y, (x + y) / 2]
    samples = np.stack([*planes[: 3 if channels >= 3 else 1], *([0.5 + 0.4 * x] if channels in (2, 4) else [])], 2).astype(
        np.float32
    )
    ends = {"jpeg": "jpg", "targa": "tga", "tiff": "tif", "openexr": "exr"}
    path = tmp_path / f"a.{ends.get(fmt, fmt)}"
    write(path, samples, fmt=fmt, depth=depth, colour=colour, quality=95)  # type: ignore[arg-type]
    picture = read(path)
    got = picture.colour() if colour else picture.data()
    colours = 3 if channels >= 3 else 1
    lossy = fmt == "jpeg" or (fmt == "webp" and colour)
    code = {"8": 1 / 255, "16": 1 / 65535, "half": 1 / 700, "float": 1e-6}[depth]
    bound = 0.12 if lossy and colour else 0.03 if lossy else code * (1.3 if colour and depth in ("8", "16") else 0.51)
    assert np.abs(got[..., :colours] - samples[..., :colours]).max() <= bound
    if channels in (2, 4):
        alpha = picture.alpha_plane()
        assert alpha is not None
        assert np.abs(alpha - samples[..., -1]).max() <= 0.51 / 255
    raw = path.read_bytes()
    tagged = {"png": b"sRGB", "jpeg": b"ICC_PROFILE", "tiff": b"acsp", "webp": b"ICCP", "openexr": b"chromaticities"}
    if fmt in tagged and depth != "float":
        assert (tagged[fmt] in raw) == colour, "colour is tagged, and data never is"


def test_palettes_keep_what_is_grey_and_say_what_they_turn(maps: dict[str, Image], tmp_path: Path) -> None:
    manifest = deliver(tmp_path / "s", "deck", maps, profile("palette"), depth_mm=10)
    by = {f["file"]: f for f in manifest["files"]}
    rough = read(tmp_path / "s" / "deck_roughness.png").samples[..., 0]
    assert np.array_equal(rough, np.rint(maps["roughness"].plane() * 255))
    told = by["deck_normal.png"]["palette_degrees"]
    n = read(tmp_path / "s" / "deck_normal.png").data() * 2 - 1
    n /= np.linalg.norm(n, axis=2, keepdims=True)
    far = np.degrees(np.arccos(np.clip((n * maps["normal"].pixels).sum(2), -1, 1))).mean()
    assert told == pytest.approx(far, abs=0.05)
    assert any("palette turns normals" in w for w in manifest["warnings"])
    assert by["deck_occlusion.png"]["size"] == [N // 2, N // 2]


# --- sizes -----------------------------------------------------------------------------------------------------------------


def test_sheets_are_fitted_to_what_receivers_want() -> None:
    keep = profile("plain")
    assert (fit(keep, (400, 300), 1024).width, fit(keep, (400, 300), 1024).height) == (1024, 768)
    squares = keep.model_copy(update={"square": "repeats"})
    laid = fit(squares, (400, 300), 1024)
    assert laid.laid == (3, 4)
    assert laid.size_mm == (1200, 1200)
    assert (laid.width, laid.height, laid.ask) == (1024, 1024, 342)
    with pytest.raises(LoomError, match="no whole repeats"):
        fit(squares, (400, 391), 64)
    flat = fit(keep.model_copy(update={"square": "squeeze"}), (400, 200), 256)
    assert (flat.width, flat.height, flat.squeeze) == (256, 256, 2.0)
    assert "2 times higher than in truth" in flat.words[0]
    two = fit(profile("green-down"), (400, 300), 1000)
    assert (two.width, two.height) == (1024, 512) or (two.width, two.height) == (1024, 1024)


def test_squeezed_normals_are_those_of_the_stretched_relief(tmp_path: Path) -> None:
    y, x = np.mgrid[0:64, 0:128].astype(np.float64)
    w, h = 400.0, 200.0
    k, j = 2 * np.pi * 2 / w, 2 * np.pi * 3 / h

    def normal(width: int, height: int, real_height: float, scale: float) -> np.ndarray:
        px, py = (np.arange(width) + 0.5) / width * w, (np.arange(height) + 0.5) / height * h
        dx = 2 * k * np.cos(k * px)[None, :] * np.sin(j * py)[:, None]
        dy = 2 * j * np.sin(k * px)[None, :] * np.cos(j * py)[:, None] * scale
        n = np.stack([-dx, dy, np.ones_like(dx)], 2)
        return n / np.linalg.norm(n, axis=2, keepdims=True)

    source = {"normal": image(normal(256, 128, h, 1.0), Kind.NORMAL, (w, h))}
    wanted = Profile(
        name="q",
        title="Q",
        square="squeeze",
        files=(FileSpec(suffix="n", channels=("normal.x", "normal.y", "normal.z"), depth="16"),),
    )
    manifest = deliver(tmp_path / "s", "q", source, wanted)
    assert manifest["repeat_mm"] == [400.0, 400.0]
    assert manifest["squeeze"] == 2.0
    got = read(tmp_path / "s" / "q_n.png").data() * 2 - 1
    far = np.degrees(np.arccos(np.clip((got * normal(256, 256, h, 0.5)).sum(2), -1, 1)))
    assert far.mean() < 0.15


def test_smaller_sets_let_roughness_take_up_what_normals_lose() -> None:
    rng = np.random.default_rng(1)
    n = np.concatenate([rng.normal(0, 0.1, (64, 64, 2)), np.ones((64, 64, 1))], 2)
    n /= np.linalg.norm(n, axis=2, keepdims=True)
    maps = {"normal": image(n, Kind.NORMAL), "roughness": image(np.full((64, 64, 1), 0.2))}
    small = reduced(maps, 8, 8)
    plain = reduced(maps, 8, 8, lost_length=False)
    assert np.allclose(np.linalg.norm(small["normal"].pixels, axis=2), 1, atol=1e-6)
    assert np.allclose(plain["roughness"].pixels, 0.2)
    # Slopes of 0.1 each way: the variance that a GGX lobe of α² = 2 · 0.1² stands for
    assert small["roughness"].pixels.mean() == pytest.approx((0.2**4 + 2 * 0.1**2) ** 0.25, abs=0.01)
    flat = image(np.broadcast_to([0.0, 0, 1], (64, 64, 3)), Kind.NORMAL)
    assert np.abs(lost(flat, 8, 8)).max() < 1e-6
    assert np.allclose(rougher(np.float32([[[0.3]]]), np.float32([[[0.0]]])), 0.3)


def test_a_second_smaller_set_is_made_from_the_first(maps: dict[str, Image], tmp_path: Path) -> None:
    wanted = profile("gltf").model_copy(update={"sizes": (16, 8)})
    manifest = deliver(tmp_path / "s", "deck", maps, wanted, depth_mm=10)
    small = [f for f in manifest["files"] if f.get("set") == "8"]
    assert sum(f.get("set") == "16" for f in manifest["files"]) == 3
    assert {f["file"] for f in small} == {"deck_basecolor_8.png", "deck_normal_8.png", "deck_occlusionroughnessmetallic_8.png"}
    assert all(f["size"] == [8, 8] for f in small)
    assert unpack(tmp_path / "s").maps["base"].width == N


# --- constants, packages ----------------------------------------------------------------------------------------------------


def test_constant_maps_become_values_and_come_back(maps: dict[str, Image], tmp_path: Path) -> None:
    manifest = deliver(tmp_path / "s", "deck", maps, profile("plain"), depth_mm=10, order=Order(skip_constant=True))
    assert manifest["values"] == {"metallic": [0.25]}
    assert not (tmp_path / "s" / "deck_metallic.png").exists()
    assert np.allclose(unpack(tmp_path / "s").maps["metallic"].pixels, 0.25)


def test_a_package_says_what_its_receiver_has_to_know(maps: dict[str, Image], tmp_path: Path) -> None:
    more = {"origin": {"author": "M. Thorn", "licence": "CC0-1.0"}}
    named = {"material": "Deck of the ferry", **more}
    manifest = deliver(tmp_path / "s", "deck", maps, profile("smoothness"), depth_mm=10, order=Order(package=True), about=named)
    Manifest.model_validate(manifest)
    assert json.loads((tmp_path / "s" / "manifest.json").read_text()) == manifest
    for entry in manifest["files"]:
        assert sha256(tmp_path / "s" / entry["file"]) == entry["sha256"]
    page = (tmp_path / "s" / "read-me.txt").read_text("utf-8")
    for words in ("Deck of the ferry", "smoothness (one minus roughness) in alpha", "Metallic in red, green and blue alike", "colour (sRGB)",
                  "green points up", "a vertex every", "mesh that is divided", "not in the base colour", "0.05 where one repeat is one unit wide",
                  "0.01 m (10 mm)", "M. Thorn", "CC0-1.0"):  # fmt: skip
        assert words in " ".join(page.split()), words
    assert max(map(len, page.splitlines())) <= 110
    sheet = read(tmp_path / "s" / "contact-sheet.png")
    assert sheet.width > 1000


def test_the_read_me_tells_what_was_done_to_the_sheet(maps: dict[str, Image], tmp_path: Path) -> None:
    wide = {n: Image(m.pixels[: N // 2], m.kind, (200.0, 100.0), True) for n, m in maps.items()}
    baked = FileSpec(
        suffix="b", channels=tuple(parse_channel({"thread": "base", "part": p, "times": "occlusion"}) for p in "rgb"), colour=True
    )
    wanted = Profile(
        name="sq",
        title="Sq",
        square="squeeze",
        green="down",
        files=(baked, FileSpec(suffix="n", channels=("normal.x", "normal.y", "normal.z"))),
    )
    deliver(tmp_path / "s", "deck", wide, wanted, order=Order(package=True, two_sided=True))
    page = " ".join((tmp_path / "s" / "read-me.txt").read_text("utf-8").split())
    for words in ("Squeezed into a square: 2 times higher", "green points down", "Occlusion is in the base colour already", "from both sides",
                  "not in this delivery", "Set the roughness in the receiver", "There is no roughness here"):  # fmt: skip
        assert words in page, words


def test_what_a_profile_leaves_out_is_said(maps: dict[str, Image], tmp_path: Path) -> None:
    manifest = deliver(tmp_path / "s", "deck", maps, profile("gltf"), depth_mm=10)
    assert not any("not in this delivery" in w for w in manifest["warnings"]), "its receiver has no use for heights"
    manifest = deliver(
        tmp_path / "m", "deck", maps, profile("mro").model_copy(update={"files": profile("mro").files[:2]}), depth_mm=10
    )
    assert any("roughness" in w and "Set the roughness" in w for w in manifest["warnings"])


def test_the_schema_of_manifests_is_documented() -> None:
    kept = Path(__file__).parents[3] / "docs" / "manifest.schema.json"
    assert json.loads(kept.read_text("utf-8")) == schema(), "write it anew: python -m tools.manifest_schema"


@pytest.mark.parametrize("waves", [2, 8])
def test_the_mesh_spacing_follows_the_relief(waves: int) -> None:
    x = (np.arange(256) + 0.5) / 256
    height = image((np.sin(2 * np.pi * waves * x)[None, :] * np.ones((256, 1)))[..., None] * 3)
    found = relief_of(height, -5, 5)
    assert found.spacing_mm == pytest.approx(200 / waves / 2, rel=0.02), "two vertices a wave"
    assert (found.scale, found.middle) == (pytest.approx(10 / 200), 0.5)
    assert relief_of(height.with_pixels(np.zeros_like(height.pixels)), -5, 5).spacing_mm == 0


# --- limits -----------------------------------------------------------------------------------------------------------------


def packed(profile_: Profile, present: set[str], side: int) -> list[Packed]:
    return [Packed(s, side // s.share, side // s.share, 1_000_000) for s in file_names(profile_, "d", present).values()]


def test_graphics_memory_is_that_of_the_card() -> None:
    rgb = Packed(FileSpec(suffix="a", channels=("base.r", "base.g", "base.b"), colour=True), 1024, 1024, 0)
    grey = Packed(FileSpec(suffix="b", channels=("roughness",)), 1024, 1024, 0)
    assert rgb.memory == round(1024 * 1024 * 4 * 4 / 3)
    assert rgb.blocks == round(1024 * 1024 * 4 / 3)
    assert grey.blocks == round(1024 * 1024 / 2 * 4 / 3)


def test_limits_have_a_plain_verdict_and_a_packing_that_fits() -> None:
    present = {"base", "normal", "roughness", "metallic", "occlusion", "opacity", "height"}
    tight = profile("plain").model_copy(
        update={"limits": Limits(files=4, size=512, total_mb=3, memory_mb=4, formats=("png",), powers_of_two=True)}
    )
    told = verdict(tight, packed(tight, present, 500), present)
    assert [line.fits for line in told.lines] == [False, True, False, False, True, False]
    titles = [p.title for p in told.proposals]
    assert titles == [
        "Opacity into the alpha of the base colour",
        "occlusion, roughness, metallic in one file",
        "Grey maps at half the size",
        "Without the height",
    ]
    assert [p.consent for p in told.proposals] == [False, False, True, True]
    now, seen = tight, present
    for title in ("Opacity into the alpha of the base colour", "occlusion, roughness, metallic in one file"):
        found = verdict(now, packed(now, seen, 512), seen)
        now = next(p.profile for p in found.proposals if p.title == title)
    assert len(packed(now, present, 512)) == 4
    assert Profile.model_validate(now.model_dump(mode="json")) == now
    gone = verdict(tight, packed(tight, {"base"}, 512), {"base"})
    assert "Absent maps as constants: normal, height, roughness, metallic, occlusion" in [p.title for p in gone.proposals]


def test_a_delivery_beyond_its_receivers_limits_says_so(maps: dict[str, Image], tmp_path: Path) -> None:
    tight = profile("plain").model_copy(update={"limits": Limits(files=4, size=16)})
    told = deliver(tmp_path / "s", "deck", maps, tight, depth_mm=10)["warnings"]
    assert "beyond what its receiver takes: at most 4 pictures, and there is 7" in told
    assert "beyond what its receiver takes: sides of at most 16 texels, and there is 32" in told
    fits = deliver(tmp_path / "f", "deck", maps, profile("palette"), depth_mm=10)["warnings"]
    assert not any("beyond" in w for w in fits)


# --- the shelf --------------------------------------------------------------------------------------------------------------


def test_profiles_are_kept_shared_and_checked_when_opened(tmp_path: Path) -> None:
    shelf = Shelf(tmp_path / "own")
    mine = profile("mro").model_copy(update={"name": "quay", "title": "Quay"})
    shelf.keep(mine)
    assert shelf.all() == {"quay": mine}
    assert profile("quay", tmp_path / "own") == mine
    assert list(known(tmp_path / "own"))[-1] == "quay"
    with pytest.raises(LoomError, match="there is a profile called 'quay'"):
        shelf.keep(mine)
    shelf.keep(mine.model_copy(update={"title": "Quay 2"}), replace=True)
    assert shelf.all()["quay"].title == "Quay 2"
    with pytest.raises(LoomError, match="there is a profile called 'plain'"):
        shelf.keep(profile("plain"), replace=True)
    shared = tmp_path / "shared.json"
    shared.write_text(as_text(mine))
    assert opened(shared) == mine
    assert profile(str(shared)) == mine
    for body, words in [
        ("{", "not a profile"),
        ('{"name": "a"}', "title"),
        ("[]", "not a profile"),
        (as_text(mine).replace("metallic", "me tallic", 1), "channels"),
    ]:
        shared.write_text(body)
        with pytest.raises(LoomError, match="this is not a profile"):
            opened(shared)
        (tmp_path / "own" / "broken.json").write_text(body)
        assert "broken" not in shelf.all(), words
    shelf.forget("quay")
    assert shelf.all() == {}
    with pytest.raises(LoomError):
        shelf.forget("plain")


def test_every_shipped_profile_is_named_by_convention() -> None:
    assert len(profiles()) >= 8
    for p in profiles().values():
        assert Profile.model_validate_json(p.model_dump_json()) == p
        assert p.says.endswith(".")
        assert all(spec(t).name == t for t in p.wants())
