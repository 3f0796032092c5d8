"""Files of every odd but honest kind: palettes, one bit, grey, other gammas, other colour spaces, wide range."""

from __future__ import annotations

import struct
import subprocess
import sys
import zlib
from pathlib import Path
from types import SimpleNamespace

import numpy as np
import OpenImageIO as oiio
import pytest
from PIL import Image as Pillow
from PIL import ImageCms

from silent_loom.core.base.errors import FileError, Full
from silent_loom.core.base.srgb import decode_srgb
from silent_loom.core.files import Limits, read, write
from silent_loom.core.files.png import chunk, png_bytes

write_module = sys.modules["silent_loom.core.files.write"]
RNG = np.random.default_rng(4)


def test_palette_one_bit_and_grey(tmp_path: Path) -> None:
    rgb = RNG.integers(0, 256, (12, 10, 3)).astype(np.uint8)
    few = Pillow.fromarray(rgb).quantize(16)
    few.save(tmp_path / "p.png")
    assert np.array_equal(np.rint(read(tmp_path / "p.png").data() * 255), np.asarray(few.convert("RGB")))
    bits = RNG.random((9, 13)) > 0.5
    Pillow.fromarray(bits).save(tmp_path / "b.png")
    assert np.array_equal(read(tmp_path / "b.png").data()[..., 0] > 0.5, bits)
    grey = RNG.integers(0, 65536, (7, 5)).astype(np.uint16)
    Pillow.fromarray(grey).save(tmp_path / "g.png")
    picture = read(tmp_path / "g.png")
    assert (picture.bits, picture.channels) == (16, 1)
    assert np.array_equal(picture.samples[..., 0], grey)
    assert picture.colour().shape == (7, 5, 3)


def test_a_transparent_palette_keeps_its_alpha(tmp_path: Path) -> None:
    image = Pillow.fromarray(RNG.integers(0, 4, (8, 8)).astype(np.uint8), "P")
    image.putpalette([0, 0, 0, 255, 0, 0, 0, 255, 0, 0, 0, 255] + [0] * 756)
    image.save(tmp_path / "t.png", transparency=0)
    picture = read(tmp_path / "t.png")
    assert picture.alpha_plane() is not None
    assert np.array_equal(picture.alpha_plane() == 0, np.asarray(image) == 0)


@pytest.mark.parametrize("gamma", [1.0, 1.8])
def test_a_png_that_states_its_gamma_is_read_by_it(tmp_path: Path, gamma: float) -> None:
    codes = RNG.integers(0, 256, (6, 6, 3)).astype(np.uint8)
    raw = png_bytes(codes, colour=False)
    raw = raw[:33] + chunk(b"gAMA", struct.pack(">I", round(100000 / gamma))) + raw[33:]
    (tmp_path / "g.png").write_bytes(raw)
    assert np.abs(read(tmp_path / "g.png").colour() - (codes / 255) ** gamma).max() < 1e-4


def test_srgb_chunk_wins_over_gamma(tmp_path: Path) -> None:
    codes = RNG.integers(0, 256, (6, 6, 3)).astype(np.uint8)
    raw = png_bytes(codes, colour=True)
    at = 33 + 13
    (tmp_path / "g.png").write_bytes(raw[:at] + chunk(b"gAMA", struct.pack(">I", 100000)) + raw[at:])
    assert np.abs(read(tmp_path / "g.png").colour() - decode_srgb(codes / 255)).max() < 1e-6


def test_wide_range_keeps_values_beyond_1(tmp_path: Path) -> None:
    samples = (RNG.random((8, 8, 3)) * 50 - 1).astype(np.float32)
    write(tmp_path / "w.exr", samples, fmt="openexr", depth="float", colour=True)
    assert np.array_equal(read(tmp_path / "w.exr").colour(), samples)
    import cv2

    lamp = (RNG.random((16, 16, 3)) * 30).astype(np.float32)
    cv2.imwrite(str(tmp_path / "l.hdr"), lamp[..., ::-1])
    got = read(tmp_path / "l.hdr")
    assert got.bits == 32
    assert np.abs(got.colour() - lamp).max() < 0.01 * lamp.max()


def test_what_is_not_a_number_is_mended_from_around_and_said(tmp_path: Path) -> None:
    samples = np.ones((4, 4, 3), np.float32)
    samples[1, 1, 0], samples[2, 2, 1] = np.nan, np.inf
    write(tmp_path / "n.exr", samples, fmt="openexr", depth="float", colour=True)
    picture = read(tmp_path / "n.exr")
    assert (picture.colour() == 1).all()
    assert "2 samples were no light" in picture.warnings[0]


def test_a_tiny_alpha_sets_no_scale(tmp_path: Path) -> None:
    """Divided by it, a sample would be brighter than anything else by thirty-eight powers of ten."""
    samples = np.full((8, 8, 4), 0.5, np.float32)
    samples[..., 3] = 1
    samples[3, 4, 3] = 1e-42
    samples[5, 5] = (np.inf, 0.5, 0.5, 0.5)
    spec = oiio.ImageSpec(8, 8, 4, "float")
    out = oiio.ImageOutput.create("openexr")
    assert out.open(str(tmp_path / "a.exr"), spec)
    out.write_image(samples)
    out.close()
    picture = read(tmp_path / "a.exr")
    assert np.abs(picture.colour()).max() <= 1
    assert "1 samples were no light" in picture.warnings[0]


@pytest.mark.parametrize("tiled", [False, True])
def test_a_large_file_takes_little_more_than_its_samples(tmp_path: Path, tiled: bool) -> None:
    w, h = 4096, 3072
    spec = oiio.ImageSpec(w, h, 3, "float")
    if tiled:
        spec.tile_width = spec.tile_height = 256
    out = oiio.ImageOutput.create("openexr")
    assert out.open(str(tmp_path / "big.exr"), spec)
    out.write_image(np.zeros((h, w, 3), np.float32))
    out.close()
    code = (
        "import sys; from silent_loom.core.files import read\n"
        "def peak(): return int(next(l for l in open('/proc/self/status') if l.startswith('VmHWM')).split()[1]) * 1024\n"
        "before = peak(); p = read(sys.argv[1]); print((peak() - before) / p.samples.nbytes)"
    )
    run = subprocess.run([sys.executable, "-c", code, str(tmp_path / "big.exr")], capture_output=True, text=True, check=True)
    assert float(run.stdout) < 1.3 + 64e6 / (w * h * 12)  # and a band or two in hand


def test_the_bound_on_memory_counts_copies(tmp_path: Path) -> None:
    write(tmp_path / "f.exr", np.ones((64, 64, 1), np.float32), fmt="openexr", depth="float", colour=True)
    limits = Limits(max_bytes=64 * 64 * 8)  # its samples would fit, the light made of them would not
    with pytest.raises(FileError, match="more memory than is allowed"):
        read(tmp_path / "f.exr", limits=limits)


def test_lab_is_converted_by_its_profile_and_said(tmp_path: Path) -> None:
    profile = ImageCms.ImageCmsProfile(ImageCms.createProfile("LAB")).tobytes()
    Pillow.new("LAB", (8, 8), (140, 128, 128)).save(tmp_path / "l.tif", icc_profile=profile)
    picture = read(tmp_path / "l.tif")
    assert picture.bits == 8
    assert "8 bits" in picture.warnings[0]


def test_names_without_an_ending_and_upper_case(tmp_path: Path) -> None:
    body = png_bytes(RNG.integers(0, 256, (5, 6, 3)).astype(np.uint8), colour=True)
    for name in ("noending", "LOUD.PNG"):
        (tmp_path / name).write_bytes(body)
        assert read(tmp_path / name).width == 6
    (tmp_path / "odd.xyz").write_bytes(body)
    assert read(tmp_path / "odd.xyz").height == 5


def test_memory_is_bounded_on_the_header(tmp_path: Path) -> None:
    path = tmp_path / "f.exr"
    write(path, np.zeros((64, 64, 3), np.float32), fmt="openexr", depth="float", colour=False)
    with pytest.raises(FileError, match="SILENT_LOOM_MAX_BYTES"):
        read(path, limits=Limits(max_bytes=64 * 64 * 12 - 1))
    assert read(path, limits=Limits(max_bytes=64 * 64 * 12)).width == 64


def test_a_png_bomb_is_refused_before_it_unfolds(tmp_path: Path) -> None:
    rows = zlib.compress(b"\0" * (30000 * 3 + 1) * 40, 9)
    head = struct.pack(">IIBBBBB", 30000, 30000, 8, 2, 0, 0, 0)
    (tmp_path / "bomb.png").write_bytes(b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", head) + chunk(b"IDAT", rows) + chunk(b"IEND", b""))
    with pytest.raises(FileError, match="30000 × 30000"):
        read(tmp_path / "bomb.png")


@pytest.mark.parametrize("failure", [OSError(28, "No space left on device"), OSError("File output failed.")])
def test_a_full_disk_is_said_as_one(tmp_path: Path, monkeypatch: pytest.MonkeyPatch, failure: OSError) -> None:
    def fails(*_: object, **__: object) -> None:
        raise failure

    monkeypatch.setattr(write_module, "_encoder", lambda _fmt: fails)
    monkeypatch.setattr(write_module.shutil, "disk_usage", lambda _: SimpleNamespace(free=0))
    with pytest.raises(Full, match=r"deck.png: the disk is full. Make room"):
        write(tmp_path / "deck.png", np.zeros((4, 4, 3), np.float32), colour=True)
    assert list(tmp_path.iterdir()) == []
