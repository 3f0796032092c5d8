"""What is let go of goes back to the machine."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

import pytest

PROGRAM = """
import numpy as np
from silent_loom.core.base.memory import large_apart

def now():
    return int(open("/proc/self/statm").read().split()[1]) * 4096 >> 20

def sheets():
    # Ten large ones, and something small that is kept after each
    kept, large = [], []
    for i in range(10):
        large.append(np.ones(3 << 20, np.float32))
        kept.append(bytearray(200_000))
    del large
    return kept

sheets()  # what the C library sees freed decides how it goes on
start = now()
with large_apart():
    kept = sheets()
print(now() - start)
start = now()
kept += sheets()
print(now() - start)
"""


@pytest.mark.skipif(not Path("/proc/self/statm").exists(), reason="told by the system's own figures")
def test_large_arrays_go_back_though_small_ones_stay_between_them() -> None:
    told = subprocess.run([sys.executable, "-c", PROGRAM], capture_output=True, text=True, check=True).stdout.split()
    apart, together = map(int, told)
    assert apart < 24  # MB, of 120
    assert together > apart
