"""Opening folders, zips and finished sets: names, content, green direction, packing; hostile zips are refused whole."""

from __future__ import annotations

import stat
import struct
import zipfile
from pathlib import Path

import numpy as np
import pytest

from silent_loom.core.base.errors import FileError
from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.files import read, write
from silent_loom.core.maps.stairs import unstepped
from silent_loom.core.moving.resample import blur
from silent_loom.core.opening.folder import ZipLimits, pictures_in, unpack
from silent_loom.core.opening.green import green_direction
from silent_loom.core.opening.inspection import inspect
from silent_loom.core.opening.looks import look, packing
from silent_loom.core.opening.naming import tell
from silent_loom.core.opening.recognised import find
from silent_loom.core.steps.maps.normal import from_height
from silent_loom.core.steps.photo.mapset import MapSet, MapSetSettings, MapSource
from silent_loom.core.weave.answers.evaluate import Evaluator
from silent_loom.core.weave.rows.model import StepEntry, Weave
from tests.conftest import spectrum
from tests.support import varied

# --- names ------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("name", "kind", "stem"),
    [
        ("slate_roof_BaseColor.png", "base", "slate_roof"),
        ("slate_roof_base_color_2k.png", "base", "slate_roof"),
        ("slate-roof-albedo.tga", "base", "slate_roof"),
        ("SlateRoofDiffuse.jpg", "base", "Slate_Roof"),
        ("slate_roof_col_4k.jpg", "base", "slate_roof"),
        ("slate roof Colour.png", "base", "slate_roof"),
        ("slate_roof_nor_gl_2k.exr", "normal", "slate_roof"),
        ("slate_roof_Normal.png", "normal", "slate_roof"),
        ("slateRoof_NRM.png", "normal", "slate_Roof"),
        ("slate_roof_n.png", "normal", "slate_roof"),
        ("slate_roof_disp_4k.png", "height", "slate_roof"),
        ("slate_roof_Height.tif", "height", "slate_roof"),
        ("slate_roof_bump.png", "height", "slate_roof"),
        ("slate_roof_rough_1k.jpg", "roughness", "slate_roof"),
        ("slate_roof_Gloss.png", "smoothness", "slate_roof"),
        ("slate_roof_smoothness.png", "smoothness", "slate_roof"),
        ("slate_roof_metalness.png", "metallic", "slate_roof"),
        ("slate_roof_AO.png", "occlusion", "slate_roof"),
        ("slate_roof_ambient_occlusion.png", "occlusion", "slate_roof"),
        ("slate_roof_opacity.png", "opacity", "slate_roof"),
        ("slate_roof_spec.png", "specular", "slate_roof"),
        ("slate_roof_emissive.png", "emission", "slate_roof"),
        ("normal_house_wall_basecolor.png", "base", "normal_house_wall"),
        ("IMG_2041.jpg", "", "IMG_2041"),
        ("rough_stone.jpg", "roughness", "stone"),
    ],
)
def test_maps_are_told_from_their_names(name: str, kind: str, stem: str) -> None:
    found = tell(name)
    assert found.map == kind
    assert found.stem == stem


@pytest.mark.parametrize(
    ("name", "channels"),
    [
        ("slate_roof_orm.png", ("occlusion", "roughness", "metallic")),
        ("slate_roof_ARM_2k.png", ("occlusion", "roughness", "metallic")),
        ("slate_roof_RMA.tga", ("roughness", "metallic", "occlusion")),
        ("slate_roof_MRA.tga", ("metallic", "roughness", "occlusion")),
    ],
)
def test_packed_channels_are_told_from_their_letters(name: str, channels: tuple[str, ...]) -> None:
    assert tell(name).map == "packed"
    assert tell(name).channels == channels


@pytest.mark.parametrize("name", ["moss.png", "old_oars.jpg", "harm.png", "roar_1.png"])
def test_words_are_not_taken_for_packed_channels(name: str) -> None:
    assert tell(name).map != "packed"


@pytest.mark.parametrize(
    ("name", "way"),
    [("a_normal_gl.png", "up"), ("a_NormalDX.png", "down"), ("a_nor_dx_2k.png", "down"), ("a_normal.png", "")],
)
def test_green_by_name(name: str, way: str) -> None:
    assert tell(name).green == way


# --- green direction --------------------------------------------------------------------------------------------


def heights() -> list[tuple[str, Floats]]:
    out: list[tuple[str, Floats]] = []
    for name in ("plaster", "gravel", "cobbles", "rubble", "planks", "cracks", "tiles", "hexes", "rust", "fur"):
        light = getattr(varied, name)(np.random.default_rng(4))
        out.append((name, light[:512, :512].mean(2).astype(np.float32)))
    return out


@pytest.mark.parametrize(("name", "plane"), heights(), ids=[n for n, _ in heights()])
@pytest.mark.parametrize("strength", [2.0, 12.0])
def test_green_is_told_from_the_slopes(name: str, plane: Floats, strength: float) -> None:
    n = from_height(Image(np.ascontiguousarray(plane[..., None] * strength), Kind.DATA, (512.0, 512.0), False)).pixels
    codes = np.rint((n * 0.5 + 0.5) * 255).astype(np.float32) / 255 * 2 - 1
    up, down = green_direction(codes), green_direction(codes * np.array([1, -1, 1], np.float32))
    assert up.way in ("up", "unknown")
    assert down.way in ("down", "unknown")
    assert (up.way, down.way) == ("up", "down"), (name, up, down)
    assert up.confidence > 0.6


def test_no_direction_is_claimed_where_there_is_none() -> None:
    flat = np.zeros((128, 128, 3), np.float32)
    flat[..., 2] = 1
    assert green_direction(flat).way == "unknown"
    along = np.zeros((256, 256, 3), np.float32)
    along[..., 0] = 0.3 * np.sin(np.arange(256) / 5.0)[None, :]
    along[..., 2] = np.sqrt(1 - along[..., 0] ** 2)
    told = green_direction(along)
    assert told.way == "unknown", "slopes in x alone say nothing of y"
    assert told.confidence < 0.6
    rng = np.random.default_rng(0)
    noise = rng.normal(0, 0.3, (256, 256, 3)).astype(np.float32)
    noise[..., 2] = 1
    noise /= np.linalg.norm(noise, axis=2, keepdims=True)
    assert green_direction(noise).way == "unknown", "no height has such slopes"


def test_a_height_helps_where_the_curl_does_not_tell() -> None:
    v, u = np.mgrid[0:256, 0:256].astype(np.float32)
    plane = np.sin(u / 6) + np.sin(v / 9)  # no mixed slopes: no curl either way
    n = from_height(Image(plane[..., None] * 2, Kind.DATA, (256.0, 256.0), False)).pixels
    assert green_direction(n).way == "unknown"
    assert green_direction(n, plane).way == "up"
    assert green_direction(n * np.array([1, -1, 1], np.float32), plane).way == "down"


# --- content ----------------------------------------------------------------------------------------------------


def test_packed_files_are_told_from_colours() -> None:
    rng = np.random.default_rng(1)
    packed = np.stack(
        [
            1 - 0.5 * np.clip(-spectrum(256, 1.5, 1), 0, 1),
            np.clip(0.6 + 0.1 * spectrum(256, 1.0, 2), 0, 1),
            (spectrum(256, 2, 3) > 0.5).astype(np.float32),
        ],
        -1,
    ).astype(np.float32)
    told = packing(packed)
    assert told.packed
    assert told.confidence > 0.4
    for name in ("plaster", "grass", "tiles", "rust"):
        light = getattr(varied, name)(rng)
        assert not packing(np.clip(light, 0, 1).astype(np.float32)).packed, name


def test_a_constant_channel_says_its_value() -> None:
    plane = np.full((64, 64), 0.25, np.float32)
    assert look(plane).value == pytest.approx(0.25)
    assert "0.25" in look(plane).words()
    assert look((spectrum(128, 2, 3) > 0.5).astype(np.float32)).looks_like in ("mask", "metallic")


# --- a set on disk ----------------------------------------------------------------------------------------------


@pytest.fixture(scope="module")
def folder(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A set as somebody else may hand it over: green down, smoothness, occlusion-roughness-metallic packed, 8-bit height."""
    to = tmp_path_factory.mktemp("set") / "cellar_door"
    to.mkdir()
    plane = spectrum(256, 1.8, 5, keep=0.2)
    height = Image(plane[..., None] * 2, Kind.DATA, (256.0, 256.0), True)
    normal = from_height(height).pixels * np.array([1, -1, 1], np.float32)
    base = np.clip(0.3 + 0.05 * np.stack([plane, spectrum(256, 1, 6), plane], -1), 0, 1).astype(np.float32)
    write(to / "cellar_door_Albedo.png", base, colour=True)
    write(to / "cellar_door_Normal.png", normal * 0.5 + 0.5, colour=False)
    write(to / "cellar_door_Height.png", np.clip(plane[..., None] * 0.12 + 0.5, 0, 1), colour=False)
    write(to / "cellar_door_Smoothness.png", np.clip(0.4 + 0.1 * spectrum(256, 1, 7)[..., None], 0, 1), colour=False)
    (to / "notes.txt").write_text("made in March")
    return to


def test_a_set_is_found_and_its_faults_are_told(folder: Path) -> None:
    sets = find(pictures_in(folder))
    assert len(sets) == 1
    by = {c.map: (f, c) for f in sets[0].files for c in f.channels}
    assert set(by) == {"base", "normal", "height", "smoothness"}
    assert sets[0].name == "cellar_door"
    assert by["normal"][0].green == "down"
    assert by["normal"][0].green_confidence > 0.6
    assert any("turned up" in n for n in by["normal"][0].notes)
    assert any("inverted" in n for n in by["smoothness"][0].notes)
    assert any("8 bits" in n for n in by["height"][0].notes)
    assert sets[0].as_dict()["files"]


def test_names_that_lie_are_overruled_by_content(tmp_path: Path) -> None:
    n = from_height(Image(spectrum(128, 1.8, 5, keep=0.2)[..., None] * 2, Kind.DATA, (128.0, 128.0), True)).pixels
    write(tmp_path / "door_roughness.png", n * 0.5 + 0.5, colour=False)
    write(tmp_path / "gate_normal.png", np.clip(spectrum(128, 1.2, 2)[..., None] * 0.1 + 0.5, 0, 1), colour=False)
    write(tmp_path / "wall_normal_dx.png", n * 0.5 + 0.5, colour=False)
    made = {f.file: f for s in find(pictures_in(tmp_path)) for f in s.files}
    assert made["door_roughness.png"].channels[0].map == "normal"
    assert "holds normals" in made["door_roughness.png"].notes[0]
    assert made["gate_normal.png"].channels[0].map == "height"
    assert made["wall_normal_dx.png"].green == "up"
    assert any("slopes are believed" in note for note in made["wall_normal_dx.png"].notes)


def test_two_sets_in_one_folder_are_parted_and_sizes_mended(tmp_path: Path) -> None:
    for name, n in (("a_albedo", 64), ("a_roughness", 32), ("b_albedo", 64), ("b_height", 64)):
        pixels = np.clip(np.random.default_rng(n).random((n, n, 3 if "albedo" in name else 1)), 0, 1).astype(np.float32)
        write(tmp_path / f"{name}.png", pixels, colour="albedo" in name)
    sets = {s.name: s for s in find(pictures_in(tmp_path))}
    assert set(sets) == {"a", "b"}
    assert any("differ in size" in n for n in sets["a"].notes)
    assert not any("differ in size" in n for n in sets["b"].notes)


class _Files:
    """Sources by digest."""

    def __init__(self, paths: dict[str, Path]) -> None:
        self.paths = paths

    def picture(self, digest: str):  # type: ignore[no-untyped-def]
        return read(self.paths[digest])

    def info(self, digest: str):  # type: ignore[no-untyped-def]
        from silent_loom.core.weave.step import info_of

        return info_of(self.picture(digest))


def test_a_set_comes_in_mended(folder: Path) -> None:
    paths = {
        "1" * 64: folder / "cellar_door_Albedo.png",
        "2" * 64: folder / "cellar_door_Normal.png",
        "3" * 64: folder / "cellar_door_Height.png",
        "4" * 64: folder / "cellar_door_Smoothness.png",
    }
    s = MapSetSettings(
        maps=(
            MapSource(thread="base", source="1" * 64),
            MapSource(thread="normal", source="2" * 64, green_down=True),
            MapSource(thread="height", source="3" * 64),
            MapSource(thread="roughness", source="4" * 64, channel="r", invert=True),
        ),
        width_mm=500.0,
        depth_mm=8.0,
    )
    weave = Weave(steps=(StepEntry(step="mapset", settings=s.model_dump(mode="json")),))
    maps = Evaluator(_Files(paths)).ask_many(weave, ("base", "normal", "height", "roughness"), 256)  # type: ignore[arg-type]
    assert maps["height"].size_mm == (500.0, 500.0)
    assert maps["height"].wraps
    plane = spectrum(256, 1.8, 5, keep=0.2)
    want = from_height(Image(plane[..., None] * 2, Kind.DATA, (256.0, 256.0), True)).pixels
    angle = np.degrees(np.arccos(np.clip((maps["normal"].pixels * want).sum(2), -1, 1)))
    assert angle.mean() < 0.5, "green was turned up"
    assert np.abs(maps["height"].plane() - (np.clip(plane * 0.12 + 0.5, 0, 1) - 0.5) * 8).max() < 0.05
    smooth = read(paths["4" * 64]).data()[..., 0]
    assert np.abs(maps["roughness"].plane() - (1 - smooth)).max() < 1e-5
    assert MapSet().writes(s) == ("base", "normal", "height", "roughness")


def test_steps_of_eight_bits_are_smoothed_by_no_more_than_they_hid() -> None:
    v, u = np.mgrid[0:256, 0:256].astype(np.float32)
    truth = (0.4 + 0.1 * np.sin(u / 256 * 6.2832) * np.cos(v / 256 * 6.2832)).astype(np.float32)
    codes = (np.rint(truth * 255) / 255).astype(np.float32)
    made = unstepped(codes, 1 / 255, True)
    assert np.abs(made - codes).max() <= 0.5 / 255 + 1e-6
    assert np.abs(made - truth).mean() < 0.6 * np.abs(codes - truth).mean()

    def slopes(a: Floats) -> Floats:
        return np.roll(a, -1, 1) - a

    assert np.square(slopes(made) - slopes(truth)).mean() < 0.1 * np.square(slopes(codes) - slopes(truth)).mean()


# --- hostile zips -----------------------------------------------------------------------------------------------


def png_bytes(tmp: Path) -> bytes:
    write(tmp / "one.png", np.full((8, 8, 3), 0.5, np.float32), colour=True)
    return (tmp / "one.png").read_bytes()


def packed(tmp: Path, entries: dict[str, bytes], **more: int) -> Path:
    target = tmp / "set.zip"
    with zipfile.ZipFile(target, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, data in entries.items():
            info = zipfile.ZipInfo(name)
            info.compress_type = zipfile.ZIP_DEFLATED
            info.external_attr = more.get("mode", 0o644) << 16
            archive.writestr(info, data)
    return target


def refused(path: Path, to: Path, words: str, limits: ZipLimits | None = None) -> None:
    with pytest.raises(FileError, match=words):
        unpack(path, to, limits)
    assert not to.exists() or not any(to.iterdir()), "nothing was written"


@pytest.mark.parametrize("name", ["../up.png", "a/../../up.png", "/root/up.png", "C:/up.png", "..\\up.png"])
def test_names_that_climb_refuse_the_zip(tmp_path: Path, name: str) -> None:
    data = png_bytes(tmp_path)
    refused(packed(tmp_path, {"good.png": data, name: data}), tmp_path / "to", "outside")
    assert not (tmp_path / "up.png").exists()


def test_links_refuse_the_zip(tmp_path: Path) -> None:
    refused(packed(tmp_path, {"l.png": b"/etc/passwd"}, mode=stat.S_IFLNK | 0o777), tmp_path / "to", "link")


def test_bombs_refuse_the_zip(tmp_path: Path) -> None:
    bomb = packed(tmp_path, {"b.png": bytes(8 << 20)})
    refused(bomb, tmp_path / "to", "far more")
    many = packed(tmp_path, {f"{i}.png": b"x" for i in range(20)})
    refused(many, tmp_path / "to", "entries", ZipLimits(files=10))
    large = packed(tmp_path, {f"{i}.png": np.random.default_rng(i).bytes(1000) for i in range(20)})
    refused(large, tmp_path / "to", "too much", ZipLimits(total_bytes=10_000))


def test_sizes_that_lie_are_caught_while_unpacking(tmp_path: Path) -> None:
    path = packed(tmp_path, {"b.png": np.random.default_rng(0).bytes(50_000)})
    raw = bytearray(path.read_bytes())
    at = raw.rindex(b"PK\x01\x02")
    assert struct.unpack_from("<I", raw, at + 24)[0] == 50_000
    struct.pack_into("<I", raw, at + 24, 100)
    path.write_bytes(bytes(raw))
    with pytest.raises(FileError):
        unpack(path, tmp_path / "to")
    assert all(p.stat().st_size <= 100 for p in (tmp_path / "to").glob("*"))


def test_locked_damaged_empty_and_other_files_are_told_apart(tmp_path: Path) -> None:
    path = packed(tmp_path, {"b.png": png_bytes(tmp_path)})
    raw = bytearray(path.read_bytes())
    locked = bytearray(raw)
    for mark, offset in ((b"PK\x03\x04", 6), (b"PK\x01\x02", 8)):
        at = locked.index(mark)
        struct.pack_into("<H", locked, at + offset, 1)
    path.write_bytes(bytes(locked))
    refused(path, tmp_path / "to", "password")
    path.write_bytes(bytes(raw[: len(raw) // 2]))
    refused(path, tmp_path / "to", "cannot be read")
    path.write_text("no zip at all")
    refused(path, tmp_path / "to", "cannot be read")
    refused(packed(tmp_path, {"readme.txt": b"hello"}), tmp_path / "to", "no picture")
    with pytest.raises(FileError, match="no picture"):
        pictures_in((tmp_path / "empty").parent / "to" if (tmp_path / "to").is_dir() else _made(tmp_path / "empty"))


def _made(folder: Path) -> Path:
    folder.mkdir()
    return folder


def test_a_good_zip_comes_out_flat_with_no_name_lost(tmp_path: Path) -> None:
    data = png_bytes(tmp_path)
    path = packed(tmp_path, {"a/one.png": data, "b/one.png": data, "b/.hidden.png": data, "b/readme.txt": b"x"})
    out = unpack(path, tmp_path / "to")
    assert [p.name for p in out] == ["one.png", "one_2.png"]
    assert all(p.read_bytes() == data for p in out)


def test_links_in_a_folder_are_left_out(tmp_path: Path) -> None:
    (tmp_path / "f").mkdir()
    data = png_bytes(tmp_path)
    (tmp_path / "f" / "real.png").write_bytes(data)
    (tmp_path / "f" / "link.png").symlink_to(tmp_path / "one.png")
    assert [p.name for p in pictures_in(tmp_path / "f")] == ["real.png"]
    with pytest.raises(FileError, match="not a folder"):
        pictures_in(tmp_path / "nowhere")


def test_a_height_beside_it_settles_the_green_of_a_normal(tmp_path: Path) -> None:
    v, u = np.mgrid[0:192, 0:256].astype(np.float32)
    plane = np.sin(u / 6) + np.sin(v / 9)
    n = from_height(Image(plane[..., None] * 2, Kind.DATA, (256.0, 192.0), False)).pixels * np.array([1, -1, 1], np.float32)
    write(tmp_path / "net_normal.png", n * 0.5 + 0.5, colour=False)
    alone = find(pictures_in(tmp_path))[0].files[0]
    assert alone.green == "unknown"
    write(tmp_path / "net_height.png", plane[::2, ::2, None] * 0.2 + 0.5, colour=False)
    beside = next(f for f in find(pictures_in(tmp_path))[0].files if f.green)
    assert beside.green == "down"
    assert any("turned up" in note for note in beside.notes)


def test_numbers_that_tell_sets_apart_stay_and_sizes_go() -> None:
    assert tell("pattern_40_normal.png").stem != tell("pattern_41_normal.png").stem
    assert tell("deck_2K_normal.png").stem == tell("deck_4k_rough.png").stem == tell("deck_1024_basecolor.png").stem == "deck"
    assert tell("deck_16bit_height.png").stem == "deck"


@pytest.mark.parametrize(
    ("name", "look", "wanted"),
    [
        ("deck_r.png", "grey", "roughness"),
        ("deck_d.png", "colour", "base"),
        ("deck_n.png", "normal", "normal"),
        ("deck_s.png", "grey", ""),
    ],
)
def test_initials_are_read_where_the_content_agrees_and_asked_where_not(
    tmp_path: Path, name: str, look: str, wanted: str
) -> None:
    rng = np.random.default_rng(1)
    grain = blur(rng.normal(0, 1, (128, 128)).astype(np.float32), 0.8, True)
    if look == "normal":
        pixels = from_height(Image(grain[..., None], Kind.DATA, (60.0, 60.0), True)).pixels * 0.5 + 0.5
    elif look == "colour":
        pixels = np.stack([0.5 + 0.1 * grain, 0.3 + 0.08 * grain, 0.2 + 0.05 * grain], -1)
    else:
        pixels = (0.6 + 0.08 * grain)[..., None]
    write(tmp_path / name, np.clip(pixels, 0, 1).astype(np.float32), colour=look == "colour")
    found = find([tmp_path / name])[0]
    channel = found.files[0].channels[0]
    assert channel.map == wanted
    if not wanted:
        assert any("may mean smoothness or specular" in n for n in found.files[0].notes)
    assert found.name == "deck"


def test_pictures_of_a_material_are_left_out_and_several_sets_are_told_apart(tmp_path: Path) -> None:
    rng = np.random.default_rng(2)
    for stem in ("sail_40", "sail_41"):
        for kind in ("basecolor", "roughness"):
            write(
                tmp_path / f"{stem}_{kind}.png",
                rng.random((32, 32, 3 if kind == "basecolor" else 1)).astype(np.float32),
                colour=True,
            )
    write(tmp_path / "sail_preview.png", rng.random((32, 32, 3)).astype(np.float32), colour=True)
    found = find(sorted(tmp_path.glob("*.png")))
    assert sorted(s.name for s in found) == ["sail_40", "sail_41"]
    assert all(len(s.files) == 2 for s in found)


def test_maps_that_changed_places_in_a_packed_file_and_colour_called_height_are_noted(tmp_path: Path) -> None:
    rng = np.random.default_rng(3)
    mask = (np.mgrid[0:128, 0:128][0] // 32 % 2).astype(np.float32)
    rough = np.clip(0.6 + 0.1 * rng.normal(size=(128, 128)), 0, 1)
    shade = np.clip(1 - 0.5 * blur((np.abs(rng.normal(0, 1, (128, 128))) > 2).astype(np.float32), 2.0, True), 0, 1)
    write(tmp_path / "quay_orm.png", np.stack([shade, mask, rough], -1).astype(np.float32), colour=False)
    notes = find([tmp_path / "quay_orm.png"])[0].files[0].notes
    assert any("Metallic and roughness look as if they had changed places" in n for n in notes)
    grain = 0.1 * rng.normal(size=(128, 128, 1))
    write(tmp_path / "wall_height.png", np.clip(np.array([0.7, 0.4, 0.2]) + grain, 0, 1).astype(np.float32), colour=True)
    notes = find([tmp_path / "wall_height.png"])[0].files[0].notes
    assert any("is a colour picture" in n for n in notes)


def test_a_packed_file_is_not_called_colour(tmp_path: Path) -> None:
    rng = np.random.default_rng(5)
    planes = np.stack([np.ones((96, 96)), rng.random((96, 96)), np.zeros((96, 96))], -1).astype(np.float32)
    write(tmp_path / "mask.png", planes, colour=False)
    told = inspect(read(tmp_path / "mask.png"))
    assert told["packed"]
    assert told["kind"] == "data"


def test_files_are_read_as_told(tmp_path: Path) -> None:
    write(tmp_path / "p.png", np.full((8, 8, 3), 0.2, np.float32), colour=True)
    picture = read(tmp_path / "p.png")
    assert picture.encoding == "8 bits, sRGB"
    assert picture.read_as("tagged") is picture
    assert picture.colour()[0, 0, 0] == pytest.approx(0.2, abs=0.004)
    assert picture.read_as("linear").colour()[0, 0, 0] == pytest.approx(picture.samples[0, 0, 0] / 255)
    assert picture.read_as("linear") is picture.read_as("linear"), "what was made of it is kept with it"
