"""What the application loads before its first page can be asked for: every package of it is waited for at each start."""

from __future__ import annotations

import subprocess
import sys

NEEDED = {
    "OpenImageIO": "which formats there are",
    "PIL": "pictures of cards",
    "annotated_doc": "fastapi",
    "annotated_types": "pydantic",
    "anyio": "starlette",
    "click": "uvicorn",
    "cv2": "formats, too",
    "cython_runtime": "numpy",
    "fastapi": "the pages",
    "isal": "PNG",
    "jinja2": "the pages",
    "llvmlite": "numba",
    "markupsafe": "jinja2",
    "numba": "kernels",
    "numpy": "everything",
    "opentelemetry": "fastapi",
    "pydantic": "settings",
    "pydantic_core": "pydantic",
    "python_multipart": "files that come in",
    "silent_loom": "itself",
    "scipy": "numba asks which one it is",
    "sqlalchemy": "the library",
    "starlette": "fastapi",
    "typing_extensions": "pydantic",
    "typing_inspection": "pydantic",
    "uvicorn": "serving",
}
"""Packages that a start may load, and for what. What takes long and is not here is loaded when it is first used."""

ASKED = """
import sys, silent_loom.web.serve
print(*{m.partition(".")[0] for m in sys.modules if not m.startswith("_")} - set(sys.stdlib_module_names))
print(*(m for m in ("scipy.fft", "scipy.ndimage", "scipy.special", "scipy.sparse", "scipy.spatial") if m in sys.modules))
"""


def test_a_start_loads_nothing_that_can_wait() -> None:
    done = subprocess.run([sys.executable, "-c", ASKED], capture_output=True, text=True, check=True)
    packages, parts = done.stdout.split("\n")[:2]
    loaded = set(packages.split())
    assert loaded <= set(NEEDED), f"loaded at the start without need: {sorted(loaded - set(NEEDED))}"
    assert {"numpy", "fastapi"} <= loaded
    assert parts == "", "scipy's parts take a third of a second"
