"""Shared sources, pictures and weaves, all made here."""

from __future__ import annotations

import os
import tempfile
from pathlib import Path

import numpy as np
import pytest

from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.files.picture import Exif, Picture
from silent_loom.core.files.profile import SRGB
from silent_loom.core.form.model import Model
from silent_loom.core.weave.answers.evaluate import Evaluator
from silent_loom.core.weave.rows.model import SourceRef, Weave
from silent_loom.core.weave.rows.recipes import starting_weave
from silent_loom.core.weave.step import SourceInfo, info_of
from silent_loom.demo.shots import Shot
from silent_loom.demo.surfaces import noise

DIGEST = "a" * 64


SLOW = Path(__file__).parent / "slow_tests.txt"


def pytest_addoption(parser: pytest.Parser) -> None:
    parser.addoption("--quick", action="store_true", help="Leave out the browser, and what tests/slow_tests.txt lists.")


@pytest.hookimpl(trylast=True)
def pytest_collection_modifyitems(config: pytest.Config, items: list[pytest.Item]) -> None:
    """A quick run leaves out what takes minutes."""
    if not config.getoption("--quick"):
        return
    slow = set(SLOW.read_text("utf-8").split())
    left = [item for item in items if "browser" in item.nodeid or _called(item.nodeid) in slow]
    config.hook.pytest_deselected(items=left)
    items[:] = [item for item in items if item not in set(left)]


def _called(nodeid: str) -> str:
    """A test as the list of slow ones names it.

    >>> _called("tests/core/test_one.py::test_a[3-b]")
    'tests.core.test_one::test_a'
    """
    module, _, test = nodeid.partition("::")
    return f"{module.removesuffix('.py').replace('/', '.')}::{test.split('[')[0]}"


def pytest_configure(config: pytest.Config) -> None:
    """Let every process of the tests note kernels that are compiled for types they do not declare."""
    if not hasattr(config, "workerinput"):
        handle, path = tempfile.mkstemp(prefix="late-kernels-")
        os.close(handle)
        os.environ["SILENT_LOOM_LATE_KERNELS"] = path


def pytest_sessionfinish(session: pytest.Session) -> None:
    """Nothing may be compiled while somebody waits: what was, fails the run."""
    if not hasattr(session.config, "workerinput"):
        path = Path(os.environ.pop("SILENT_LOOM_LATE_KERNELS"))
        late = sorted(set(path.read_text("utf-8").splitlines()))
        path.unlink()
        if late:
            print("\nkernels were compiled late, for types they do not declare:", *late, sep="\n  ")
            session.exitstatus = pytest.ExitCode.TESTS_FAILED


SHARING = {
    "browser": ("tests/browser/",),
    "what is suggested for every photo": ("tiling/test_methods.py", "suggest"),
    "suggestions over HTTP": ("web/test_preparation.py", "suggest"),
}
"""Tests that run one after the other on one worker, by parts of their names."""


@pytest.hookimpl(optionalhook=True)
def pytest_xdist_make_scheduler(config: pytest.Config, log: object) -> object:
    """The browser's tests on one worker: two applications and two browsers would only wait for one another. So are tests that
    share what takes minutes to compute: `SHARING`."""
    from xdist.scheduler import LoadScopeScheduling

    class OneBrowser(LoadScopeScheduling):  # type: ignore[misc]
        def _split_scope(self, nodeid: str) -> str:
            return next((name for name, parts in SHARING.items() if all(part in nodeid for part in parts)), nodeid)

    return OneBrowser(config, log)


class OnePicture:
    """Sources that hold one picture."""

    def __init__(self, picture: Picture) -> None:
        self.one = picture

    def picture(self, digest: str) -> Picture:
        return self.one

    def info(self, digest: str) -> SourceInfo:
        return info_of(self.one)

    def model(self, digest: str) -> Model:
        raise KeyError(digest)


def spectrum(n: int, beta: float, seed: int, keep: float = 0.5) -> Floats:
    """Periodic noise with amplitude falling as frequency to the −beta, nothing above ``keep`` cycles a texel."""
    rng = np.random.default_rng(seed)
    f = np.fft.fft2(rng.normal(size=(n, n)))
    k = np.hypot(*np.meshgrid(np.fft.fftfreq(n), np.fft.fftfreq(n)))
    k[0, 0] = 1
    f = f * k**-beta * (k <= keep)
    f[0, 0] = 0
    a = np.fft.ifft2(f).real
    return (a / a.std()).astype(np.float32)


def as_colour(plane: Floats, size_mm: tuple[float, float] = (1000.0, 1000.0), wraps: bool = True) -> Image:
    """A greyish image whose lightness follows a plane of unit spread."""
    base = np.clip(0.25 + 0.06 * plane, 0.01, 1)
    return Image(np.stack([base * 1.05, base, base * 0.9], -1).astype(np.float32), Kind.COLOUR, size_mm, wraps)


def codes_of(plane: Floats, seed: int = 0) -> np.ndarray:
    rng = np.random.default_rng(seed)
    tint = np.stack([plane, plane * 0.9 + 0.1, plane * 0.8], -1) * 28 + 120
    return np.clip(tint + rng.normal(0, 1.5, tint.shape), 0, 255).astype(np.uint8)


@pytest.fixture(scope="session")
def photo() -> Picture:
    """A small photo that repeats nowhere: 640 × 480, with a focal length."""
    return Picture(codes_of(noise((480, 640), 90, 4, 6, 0.6)), None, SRGB, 8, "png", Exif(600.0, 0.005))


def weave_of(photo: Picture) -> Weave:
    """The weave that the small photo starts with."""
    return starting_weave(DIGEST, SourceRef(name="p.png", format="png", width=640, height=480, bytes=1))


@pytest.fixture
def weave(photo: Picture) -> Weave:
    return weave_of(photo)


@pytest.fixture
def evaluator(photo: Picture) -> Evaluator:
    return Evaluator(OnePicture(photo), decision_size=256)


@pytest.fixture(scope="session")
def plaster_jpeg(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The demo's plaster photo."""
    from silent_loom.demo.seed import PICTURES

    return PICTURES / "oyster-shell_plaster.jpg"


@pytest.fixture(scope="session")
def small_shot() -> Shot:
    return Shot("slate", (1500, 1200), tilt_deg=20, roll_deg=2, focal=1.0, noise=0.004)
