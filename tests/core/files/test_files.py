"""Reading and writing: true depth, tags, alpha, and everything that can be wrong with a file."""

from __future__ import annotations

import io
import struct
import zlib
from pathlib import Path

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from PIL import Image as Pillow
from PIL import ImageCms

from silent_loom.core.base.errors import FileError
from silent_loom.core.base.srgb import decode_srgb
from silent_loom.core.files import Limits, read, write
from silent_loom.core.files.codes import quantise
from silent_loom.core.files.png import chunk
from silent_loom.core.files.profile import TableProfile, parse
from silent_loom.core.files.tags import colour_tag

RAMP = np.linspace(0, 1, 64 * 48 * 3, dtype=np.float32).reshape(48, 64, 3)


def chunks(path: Path) -> list[bytes]:
    raw, at, found = path.read_bytes(), 8, []
    while at < len(raw):
        size, kind = struct.unpack(">I4s", raw[at : at + 8])
        assert struct.unpack(">I", raw[at + 8 + size : at + 12 + size])[0] == zlib.crc32(raw[at + 4 : at + 8 + size])
        found.append(kind)
        at += 12 + size
    return found


@pytest.mark.parametrize(
    ("fmt", "suffix", "depth", "error"),
    [
        ("png", ".png", "8", 0.5 / 255), ("png", ".png", "16", 0.5 / 65535), ("tiff", ".tif", "8", 0.5 / 255), ("tiff", ".tif", "16", 0.5 / 65535),
        ("tiff", ".tiff", "float", 0), ("targa", ".tga", "8", 0.5 / 255), ("bmp", ".bmp", "8", 0.5 / 255), ("webp", ".webp", "8", 0.5 / 255),
        ("openexr", ".exr", "half", 5e-4), ("openexr", ".exr", "float", 0), ("jpeg", ".jpg", "8", 0.03),
    ],
)  # fmt: skip
def test_data_comes_back_at_its_depth(tmp_path: Path, fmt: str, suffix: str, depth: str, error: float) -> None:
    path = tmp_path / f"m{suffix}"
    done = write(path, RAMP, fmt=fmt, depth=depth, colour=False)  # type: ignore[arg-type]
    picture = read(path)
    assert np.abs(picture.data() - RAMP).max() <= error + 1e-7
    assert picture.bits == {"8": 8, "16": 16}.get(depth, 32)
    assert done.bytes == path.stat().st_size
    assert [p.name for p in tmp_path.iterdir()] == [path.name], "no unfinished file is left"


@pytest.mark.parametrize(
    ("channels", "fmt", "suffix"),
    [
        (1, "png", "png"),
        (2, "png", "png"),
        (4, "png", "png"),
        (1, "tiff", "tif"),
        (4, "tiff", "tif"),
        (4, "targa", "tga"),
        (4, "webp", "webp"),
    ],
)
@pytest.mark.parametrize("depth", ["8", "16"])
def test_alpha_is_unassociated_and_colour_under_it_survives(
    tmp_path: Path, channels: int, fmt: str, suffix: str, depth: str
) -> None:
    if depth == "16" and fmt in ("targa", "webp"):
        pytest.skip("8 bits only")
    rng = np.random.default_rng(1)
    top = 255 if depth == "8" else 65535
    samples = (rng.integers(0, top + 1, (9, 11, channels)) / top).astype(np.float32)
    if channels in (2, 4):
        samples[2:5, 3:8, -1] = 0
    path = tmp_path / f"m.{suffix}"
    write(path, samples, fmt=fmt, depth=depth, colour=False)  # type: ignore[arg-type]
    picture = read(path)
    colour = picture.data()
    if fmt == "webp" and channels == 4:
        colour = colour[..., :3]
    assert np.abs(colour - samples[..., : 1 if channels < 3 else 3]).max() < 1e-6
    if channels in (2, 4):
        assert np.abs(picture.alpha_plane() - samples[..., -1]).max() < 1e-6


def test_exr_keeps_colour_under_alpha_zero(tmp_path: Path) -> None:
    samples = np.random.default_rng(2).random((8, 8, 4)).astype(np.float32)
    samples[:3, :, 3] = 0
    samples[4, :, 3] = 1e-3
    write(tmp_path / "m.exr", samples, fmt="openexr", depth="float", colour=True)
    picture = read(tmp_path / "m.exr")
    assert np.abs(picture.colour() - samples[..., :3]).max() < 1e-6
    assert np.abs(picture.alpha_plane() - samples[..., 3]).max() == 0


def test_colour_png_is_tagged_and_data_png_is_not(tmp_path: Path) -> None:
    for channels in (1, 2, 3, 4):
        samples = np.ascontiguousarray(np.repeat(RAMP[..., :1], channels, 2))
        for depth in ("8", "16"):
            write(tmp_path / f"c{channels}{depth}.png", samples, depth=depth, colour=True)  # type: ignore[arg-type]
            write(tmp_path / f"d{channels}{depth}.png", samples, depth=depth, colour=False)  # type: ignore[arg-type]
            assert b"sRGB" in chunks(tmp_path / f"c{channels}{depth}.png")
            assert not {b"sRGB", b"gAMA", b"cHRM", b"iCCP"} & set(chunks(tmp_path / f"d{channels}{depth}.png"))


def test_data_webp_is_lossless(tmp_path: Path) -> None:
    samples = (np.random.default_rng(3).integers(0, 256, (40, 40, 3)) / 255).astype(np.float32)
    write(tmp_path / "m.webp", samples, fmt="webp", colour=False)
    assert np.abs(read(tmp_path / "m.webp").data() - samples).max() < 1e-6


def test_writing_never_replaces_unless_told(tmp_path: Path) -> None:
    path = tmp_path / "m.png"
    path.write_bytes(b"mine")
    with pytest.raises(FileError, match="already a file"):
        write(path, RAMP, colour=False)
    assert path.read_bytes() == b"mine"
    write(path, RAMP, colour=False, replace=True)
    assert read(path).width == 64


def test_depth_that_a_format_lacks_is_refused(tmp_path: Path) -> None:
    with pytest.raises(FileError, match="no 16-bit form"):
        write(tmp_path / "m.jpg", RAMP, fmt="jpeg", depth="16", colour=True)


@given(st.floats(0.02, 0.98))
@settings(max_examples=25, deadline=None)
def test_dither_keeps_the_mean_of_a_smooth_area(value: float) -> None:
    plane = np.full((64, 64, 1), value, np.float32)
    plane[0, 0] += 1e-4
    codes, clipped = quantise(plane, "8", colour=False, dither=True)
    assert abs(codes.mean() / 255 - value) < 0.03 / 255 * 3
    assert clipped == 0
    assert np.abs(codes / 255 - plane[..., 0][..., None]).max() <= 1.001 / 255


def test_clipping_is_counted() -> None:
    plane = np.array([[[-0.1], [0.5], [1.2], [np.nan]]], np.float32)
    codes, clipped = quantise(plane, "16", colour=False)
    assert codes[0, :3, 0].tolist() == [0, 32768, 65535]
    assert clipped == 3


def _jpeg(pixels: np.ndarray, **options: object) -> bytes:
    stream = io.BytesIO()
    Pillow.fromarray(pixels).save(stream, "JPEG", quality=95, **options)  # type: ignore[arg-type]
    return stream.getvalue()


@pytest.mark.parametrize("turn", range(1, 9))
def test_exif_turn_is_done(tmp_path: Path, turn: int) -> None:
    upright = np.zeros((40, 64, 3), np.uint8)
    upright[:20, :32] = 255  # white at top left
    stored = {
        1: upright, 2: upright[:, ::-1], 3: upright[::-1, ::-1], 4: upright[::-1], 5: upright.transpose(1, 0, 2),
        6: np.rot90(upright, 1), 7: np.rot90(upright, 1)[:, ::-1][::-1, ::-1][:, ::1], 8: np.rot90(upright, 3),
    }[turn]  # fmt: skip
    if turn == 7:
        stored = upright[::-1, ::-1].transpose(1, 0, 2)
    exif = Pillow.Exif()
    exif[0x0112] = turn
    path = tmp_path / "t.jpg"
    path.write_bytes(_jpeg(np.ascontiguousarray(stored), exif=exif))
    got = read(path).data()[..., 0]
    assert got.shape == (40, 64)
    assert got[5, 5] > 0.9
    assert got[-5, -5] < 0.1
    assert got[5, -5] < 0.1
    assert got[-5, 5] < 0.1


def test_focal_length_from_exif(tmp_path: Path) -> None:
    exif = Pillow.Exif()
    exif.get_ifd(0x8769)[0xA405] = 50  # 35 mm equivalent
    path = tmp_path / "f.jpg"
    path.write_bytes(_jpeg(np.zeros((400, 600, 3), np.uint8), exif=exif))
    assert read(path).exif.focal_px == pytest.approx(50 / 36 * 600, rel=1e-6)  # 3:2, as film is


def _profile(gamma: float) -> bytes:
    """A matrix profile with Rec. 709 primaries, red and blue swapped, and one gamma."""
    base = bytearray(ImageCms.ImageCmsProfile(ImageCms.createProfile("sRGB")).tobytes())
    count = struct.unpack(">I", base[128:132])[0]
    at = {}
    for i in range(count):
        name, offset, size = struct.unpack(">4sII", base[132 + 12 * i : 144 + 12 * i])
        at[name] = (132 + 12 * i, offset, size)
    for one, other in ((b"rXYZ", b"bXYZ"),):
        a, b = at[one][0], at[other][0]
        base[a + 4 : a + 12], base[b + 4 : b + 12] = base[b + 4 : b + 12], base[a + 4 : a + 12]
    curve = struct.pack(">4s4xIH2x", b"curv", 1, round(gamma * 256))
    offset = len(base)
    base += curve
    for name in (b"rTRC", b"gTRC", b"bTRC"):
        base[at[name][0] + 4 : at[name][0] + 12] = struct.pack(">II", offset, len(curve))
    base[0:4] = struct.pack(">I", len(base))
    return bytes(base)


@pytest.mark.parametrize("depth", [8, 16])
def test_matrix_profile_is_applied_exactly_at_any_depth(tmp_path: Path, depth: int) -> None:
    top = 2**depth - 1
    codes = np.random.default_rng(5).integers(0, top + 1, (6, 7, 3)).astype(np.uint8 if depth == 8 else np.uint16)
    from silent_loom.core.files.png import chunk, png_bytes

    raw = png_bytes(codes, colour=False)
    raw = raw[:33] + chunk(b"iCCP", b"p\0\0" + zlib.compress(_profile(1.8))) + raw[33:]
    (tmp_path / "p.png").write_bytes(raw)
    want = (codes / top) ** (round(1.8 * 256) / 256)
    assert np.abs(read(tmp_path / "p.png").colour() - want[..., ::-1]).max() < 6e-4  # the profile rounds its primaries


def test_srgb_profile_is_recognised(tmp_path: Path) -> None:
    profile = ImageCms.ImageCmsProfile(ImageCms.createProfile("sRGB")).tobytes()
    assert parse(profile).plain
    pixels = np.random.default_rng(6).integers(0, 256, (8, 8, 3)).astype(np.uint8)
    Pillow.fromarray(pixels).save(tmp_path / "s.png", icc_profile=profile)
    assert np.abs(read(tmp_path / "s.png").colour() - decode_srgb(pixels / 255)).max() < 1e-6


def test_damaged_profile_is_one_clear_error() -> None:
    with pytest.raises(TableProfile):
        parse(b"\0" * 200)
    with pytest.raises(TableProfile):
        parse(b"short")


def test_cmyk_without_profile_is_refused_in_one_line(tmp_path: Path) -> None:
    Pillow.new("CMYK", (8, 8)).save(tmp_path / "c.jpg")
    with pytest.raises(FileError, match="CMYK without a colour profile") as caught:
        read(tmp_path / "c.jpg")
    assert "\n" not in str(caught.value)


def _good(tmp_path: Path, suffix: str) -> bytes:
    path = tmp_path / f"good{suffix}"
    fmt = {".png": "png", ".jpg": "jpeg", ".tif": "tiff", ".tga": "targa", ".bmp": "bmp", ".webp": "webp", ".exr": "openexr"}[
        suffix
    ]
    if not path.exists():
        write(
            path,
            np.random.default_rng(0).random((64, 64, 3)).astype(np.float32),
            fmt=fmt,
            depth="half" if fmt == "openexr" else "8",
            colour=False,
        )
    return path.read_bytes()


@pytest.mark.parametrize("suffix", [".png", ".jpg", ".tif", ".bmp", ".webp", ".exr"])
@pytest.mark.parametrize("part", [0.0, 0.02, 0.5, 0.97])
def test_a_file_cut_short_is_one_clear_error(tmp_path: Path, suffix: str, part: float) -> None:
    raw = _good(tmp_path, suffix)
    path = tmp_path / f"cut{suffix}"
    path.write_bytes(raw[: int(len(raw) * part)])
    with pytest.raises(FileError) as caught:
        read(path)
    assert caught.value.where == path.name
    assert caught.value.todo
    assert "\n" not in str(caught.value)


@given(data=st.data())
@settings(max_examples=60, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
def test_damaged_bytes_never_crash(tmp_path: Path, data: st.DataObject) -> None:
    suffix = data.draw(st.sampled_from([".png", ".jpg", ".tif", ".tga", ".bmp", ".webp", ".exr"]))
    raw = bytearray(_good(tmp_path, suffix))
    for _ in range(data.draw(st.integers(1, 6))):
        raw[data.draw(st.integers(0, len(raw) - 1))] = data.draw(st.integers(0, 255))
    path = tmp_path / f"bad{suffix}"
    path.write_bytes(raw)
    try:
        picture = read(path, limits=Limits(max_pixels=1_000_000))
    except FileError:
        return
    assert np.isfinite(picture.data()).all()


@pytest.mark.parametrize(("name", "content", "words"), [
    ("empty.png", b"", "empty"), ("text.png", b"hello, this is a letter", "not a PNG"), ("notes.txt", b"hello, this is a letter!", "not an image"),
    ("page.jpg", b"<!doctype html><html></html>", "not a JPEG"),
])  # fmt: skip
def test_what_is_no_image_says_so(tmp_path: Path, name: str, content: bytes, words: str) -> None:
    (tmp_path / name).write_bytes(content)
    with pytest.raises(FileError, match=words):
        read(tmp_path / name)


def test_a_mislabelled_file_names_its_true_format(tmp_path: Path) -> None:
    (tmp_path / "photo.png").write_bytes(_good(tmp_path, ".jpg"))
    with pytest.raises(FileError, match=r"JPEG file, though its name says PNG.*\.jpg"):
        read(tmp_path / "photo.png")


def test_missing_file_and_folder() -> None:
    with pytest.raises(FileError, match="no such file"):
        read("nowhere/at/all.png")
    with pytest.raises(FileError, match="folder"):
        read(Path(__file__).parent)


def test_a_huge_file_is_refused_before_decoding(tmp_path: Path) -> None:
    # A header that promises 60,000 × 60,000, and next to nothing behind it
    from silent_loom.core.files.png import chunk

    raw = (
        b"\x89PNG\r\n\x1a\n"
        + chunk(b"IHDR", struct.pack(">IIBBBBB", 60000, 60000, 8, 2, 0, 0, 0))
        + chunk(b"IDAT", zlib.compress(b"\0" * 1000))
        + chunk(b"IEND", b"")
    )
    (tmp_path / "huge.png").write_bytes(raw)
    with pytest.raises(FileError, match="more than"):
        read(tmp_path / "huge.png")
    (tmp_path / "ok.png").write_bytes(_good(tmp_path, ".png"))
    with pytest.raises(FileError, match="SILENT_LOOM_MAX_PIXELS"):
        read(tmp_path / "ok.png", limits=Limits(max_pixels=64 * 64 - 1))
    assert read(tmp_path / "ok.png", limits=Limits(max_pixels=64 * 64)).width == 64


@pytest.mark.parametrize("channels", [1, 2, 3, 4])
def test_alpha_is_never_encoded(channels: int) -> None:
    plane = np.full((3, 5, channels), 0.5, np.float32)
    codes, _ = quantise(plane, "8", colour=True)
    light = channels - (channels % 2 == 0)
    assert (codes[..., :light] == 188).all()  # sRGB of half the light
    assert (codes[..., light:] == 128).all()


def test_a_damaged_profile_of_a_png_is_left_out_with_a_word(tmp_path: Path) -> None:
    write(tmp_path / "plain.png", np.random.default_rng(0).random((8, 8, 3)).astype(np.float32), colour=False)
    raw = (tmp_path / "plain.png").read_bytes()
    (tmp_path / "torn.png").write_bytes(raw[:33] + chunk(b"iCCP", b"p\0\0" + b"this is no zlib stream") + raw[33:])
    torn, plain = read(tmp_path / "torn.png"), read(tmp_path / "plain.png")
    assert any("colour profile is damaged" in w for w in torn.warnings), torn.warnings
    assert np.array_equal(torn.samples, plain.samples)
    assert plain.warnings == ()


@pytest.mark.parametrize(
    ("chunks", "tag"),
    [
        ([], ""),
        ([(b"sRGB", b"\0")], "srgb"),
        ([(b"gAMA", struct.pack(">I", 45455))], "srgb"),
        ([(b"gAMA", struct.pack(">I", 100000))], "linear"),
        ([(b"iCCP", b"p\0\0x")], "profile"),
        ([(b"gAMA", b"1")], ""),
    ],
)
def test_colour_tags_are_read_from_the_header(tmp_path: Path, chunks: list[tuple[bytes, bytes]], tag: str) -> None:
    write(tmp_path / "plain.png", np.zeros((4, 4, 3), np.float32), colour=False)
    raw = (tmp_path / "plain.png").read_bytes()
    (tmp_path / "t.png").write_bytes(raw[:33] + b"".join(chunk(k, b) for k, b in chunks) + raw[33:])
    assert colour_tag(tmp_path / "t.png") == tag
