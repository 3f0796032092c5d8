"""Materials of an MTL: which texture each of them names for what."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from silent_loom.core.base.errors import FileError
from silent_loom.core.files.beside import safe
from silent_loom.core.form.model import Slot

MOST_BYTES = 16 << 20
USES = {
    "map_kd": "base",
    "map_pr": "roughness",
    "map_pm": "metallic",
    "map_ke": "emission",
    "map_d": "opacity",
    "map_bump": "height",
    "bump": "height",
    "disp": "height",
    "norm": "normal",
}
"""Statements of an MTL, with those for physically based maps that many programs write, and the maps that they are for."""
_OPTIONS = {
    "-o": 3, "-s": 3, "-t": 3, "-mm": 2, "-bm": 1, "-blendu": 1, "-blendv": 1, "-clamp": 1, "-imfchan": 1,
    "-boost": 1, "-texres": 1, "-type": 1,
}  # fmt: skip


def materials(folder: Path, library: str, called: str) -> dict[str, Slot]:
    """Materials by name.

    Parameters
    ----------
    folder : path
        Where the OBJ lies.
    library : str
        As the OBJ names it.

    Raises
    ------
    FileError
        It names a file elsewhere. One that is missing is no error: the model comes without its textures.
    """
    try:
        path = safe(folder, library.replace("\\", "/"), called)
    except FileError as error:
        if "missing" in error.what:
            return {}
        raise
    if path.stat().st_size > MOST_BYTES:
        raise FileError(f"its materials have {path.stat().st_size >> 20} MB", path.name, "Export them again.")
    found: dict[str, Slot] = {}
    name, textures, colour = "", dict[str, str](), (0.5, 0.5, 0.5)

    def close() -> None:
        if name:
            found[name] = Slot(name, dict(textures), colour)

    for line in path.read_bytes().decode("utf-8", "replace").splitlines():
        word, _, rest = line.strip().partition(" ")
        rest = rest.strip()
        if word == "newmtl":
            close()
            name, textures, colour = rest[:200], {}, (0.5, 0.5, 0.5)
        elif word.lower() in USES and rest:
            textures[USES[word.lower()]] = _file(rest)
        elif word == "Kd":
            colour = _three(rest) or colour
    close()
    return found


def _file(rest: str) -> str:
    """The name of a texture behind its options; it may hold blanks."""
    words: list[Any] = rest.split(" ")
    while words and words[0] in _OPTIONS:
        words = words[1 + _OPTIONS[words[0]] :]
    return " ".join(words).strip().replace("\\", "/")


def _three(rest: str) -> tuple[float, float, float] | None:
    try:
        r, g, b = (min(1.0, max(0.0, float(w))) for w in rest.split()[:3])
    except ValueError:
        return None
    return r, g, b
