"""What is loaded when, which decides how soon the command line begins to work."""

from __future__ import annotations

import subprocess
import sys

import pytest

from silent_loom.core.base.lazy_modules import later


def test_a_module_comes_at_the_first_look_into_it() -> None:
    assert later("math").sqrt(9.0) == 3.0
    missing = later("silent_loom.no_such_module")
    with pytest.raises(ImportError):
        _ = missing.anything


def test_deriving_begins_without_the_slow_parts_of_scipy() -> None:
    code = "import sys, silent_loom.core.ways.derive; print(*sorted(m for m in sys.modules if m.count('.') == 1))"
    loaded = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True).stdout.split()
    assert "numba.core" in loaded
    assert {"scipy.ndimage", "scipy.special", "scipy.fft"} & set(loaded) == set()


def test_a_photo_is_read_before_what_computes_with_it_is_loaded() -> None:
    code = "import sys, silent_loom.core.files; print(*sorted(m for m in sys.modules if m.count('.') == 0))"
    loaded = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True).stdout.split()
    assert "OpenImageIO" in loaded
    assert {"numba", "cv2", "scipy"} & set(loaded) == set()
