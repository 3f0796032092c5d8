"""Looking at files: two sets held against each other, the values of a map, a chart through a weave."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np

from silent_loom.core.base.errors import LoomError
from silent_loom.core.base.images import Image, Kind
from silent_loom.core.base.parallel import IDLE, Task
from silent_loom.core.delivery.proving.difference import Difference, differences, picture_of
from silent_loom.core.files import read
from silent_loom.core.files.picture import Picture
from silent_loom.core.files.write import write
from silent_loom.core.opening.naming import tell
from silent_loom.core.screen.charts import chart
from silent_loom.core.screen.display import shown
from silent_loom.core.screen.reading import spread
from silent_loom.core.ways.sources import FileSources, digest_of, reference
from silent_loom.core.ways.woven import put_through, read_weave
from silent_loom.core.weave.answers.cache import Cache
from silent_loom.core.weave.answers.chart_in_weave import ChartEvaluator, charted
from silent_loom.core.weave.answers.evaluate import Evaluator
from silent_loom.core.weave.threads import ThreadSpec, spec

ENDINGS = {".png", ".jpg", ".jpeg", ".tga", ".tif", ".tiff", ".bmp", ".webp", ".exr", ".hdr"}


def meaning_of(path: Path, picture: Picture, named: str = "", depth_mm: float = 10.0) -> ThreadSpec:
    """What a finished map means: by the map named, by its file's name, else colour where it has colours."""
    name = named or tell(path.name).map
    if not name or name == "packed":
        name = "base" if picture.samples.shape[2] == 3 and not named else "plain"
    found = spec(name)
    return found.over(depth_mm) if found.unit == "mm" else found


def compare_files(one: Path, other: Path, depth_mm: float = 10.0, pictures: Path | None = None) -> dict[str, Any]:
    """Hold two maps, or two folders of maps, against each other.

    Parameters
    ----------
    one, other : path
        Two files, or two folders whose files are paired by the map that their names tell.
    depth_mm : float
        Depth of heights, from black to white.
    pictures : path, optional
        Folder for a picture of each difference.

    Returns
    -------
    dict
        ``maps``: for each pair its files and numbers (see `Difference`); ``alone``: files that have no partner.

    Raises
    ------
    LoomError
        There is nothing to compare, sizes differ, or a file cannot be read.
    """
    pairs, alone = _pairs(one, other)
    if pictures is not None:
        pictures.mkdir(parents=True, exist_ok=True)
    told = []
    for first, second in pairs:
        a, b = read(first), read(second)
        meaning = meaning_of(first, a, "", depth_mm)
        found: Difference = differences(a.data(), b.data(), meaning)
        if pictures is not None:
            drawn = picture_of(found).astype(np.float32) / np.float32(255)
            write(pictures / f"{first.stem}_difference.png", drawn, colour=False)
        told.append({"map": meaning.name, "one": first.name, "other": second.name, **found.as_dict()})
    return {"maps": told, "alone": [str(p) for p in alone]}


def _pairs(one: Path, other: Path) -> tuple[list[tuple[Path, Path]], list[Path]]:
    for path in (one, other):
        if not path.exists():
            raise LoomError("there is no such file or folder", str(path), "Check the path.")
    if one.is_file() and other.is_file():
        return [(one, other)], []
    if one.is_file() or other.is_file():
        raise LoomError("one is a file and one a folder", str(one), "Name two files, or two folders.")
    sides = [{_key(p): p for p in sorted(folder.iterdir()) if p.suffix.lower() in ENDINGS} for folder in (one, other)]
    both = [key for key in sides[0] if key in sides[1]]
    if not both:
        raise LoomError("no map is in both folders", f"{one} and {other}", "Maps are paired by what their names tell.")
    alone = [p for side, that in ((sides[0], sides[1]), (sides[1], sides[0])) for key, p in side.items() if key not in that]
    return [(sides[0][key], sides[1][key]) for key in both], alone


def _key(path: Path) -> str:
    return tell(path.name).map or path.stem.lower()


def read_values(path: Path, named: str = "", depth_mm: float = 10.0) -> dict[str, Any]:
    """How the values of a finished map are spread (see `spread`).

    Raises
    ------
    FileError
        It cannot be read.
    """
    picture = read(path)
    meaning = meaning_of(path, picture, named, depth_mm)
    size = (float(picture.width), float(picture.height))
    if meaning.kind is Kind.COLOUR:
        image = Image(picture.colour(), Kind.COLOUR, size)
    else:
        scale, offset = meaning.scale()
        wide = picture.data()[..., : len(meaning.neutral)]
        kind = meaning.kind if wide.shape[2] == len(meaning.neutral) else Kind.DATA
        image = Image(np.ascontiguousarray((wide - offset) / scale, np.float32), kind, size)
    return {"file": path.name, "map": meaning.name, **spread(image, meaning)}


def draw_chart(
    name: str,
    out: Path,
    size: int = 2048,
    *,
    through: Path | None = None,
    photo: Path | None = None,
    below: str = "",
    thread: str = "base",
    task: Task = IDLE,
) -> tuple[int, int]:
    """A test chart as a file, as it is or put through a weave in place of its photo.

    Parameters
    ----------
    name : str
        Of the chart.
    out : path
        PNG to write; nothing may be there.
    size : int
        Texels along the longer side.
    through, photo : path, optional
        A weave, and the photo on which its decisions are made.
    below : str
        Id or path of the row right below which the chart is put; below the first where it is empty.
    thread : str
        The map to write.

    Returns
    -------
    tuple of int
        Width and height.

    Raises
    ------
    LoomError
        There is a file already, no such chart, or the weave cannot be run.
    """
    if out.exists():
        raise LoomError("there is a file of this name", str(out), "Name another.")
    if out.suffix.lower() != ".png":
        raise LoomError("charts are written as PNG", str(out), "Give the file the ending .png.")
    if through is None:
        drawn = chart(name, size, size)
        write(out, drawn.data(), depth="16" if drawn.bits == 16 else "8", colour=False)
        return drawn.width, drawn.height
    if photo is None:
        raise LoomError("the weave needs a photo to decide on", "--through", "Name it with --photo.")
    chart(name, 64, 64)  # before anything is computed
    picture, digest = read(photo), digest_of(photo)
    sources = FileSources(lambda d: (photo, photo.name, picture.format))
    sources.remember(digest, picture)
    plain = put_through(read_weave(through), digest, reference(photo, picture))
    evaluator = ChartEvaluator(Evaluator(sources, Cache(700 << 20)), plain)
    woven = charted(plain, name, below)
    image, meaning = evaluator.ask(woven, thread, size, task), evaluator.meaning(woven, thread)
    colour = image.kind is Kind.COLOUR
    write(out, shown(image, meaning), depth="8" if colour else "16", colour=colour)
    return image.width, image.height
