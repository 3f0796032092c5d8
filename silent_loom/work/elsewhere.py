"""Materials that were made elsewhere, taken into the library as plain maps."""

from __future__ import annotations

import tempfile
from collections.abc import Sequence
from pathlib import Path, PurePath
from shutil import copyfileobj
from typing import BinaryIO

from silent_loom.core.base.errors import FileError
from silent_loom.core.elsewhere.flatten import SUFFIXES, flattened, woven
from silent_loom.core.elsewhere.plain_maps import Flat
from silent_loom.core.weave.rows.model import SourceRef
from silent_loom.store.states import Origin, State
from silent_loom.store.store import Store

MOST_BYTES = 4 << 30


def taken_in(store: Store, files: Sequence[tuple[str, BinaryIO]]) -> list[tuple[State, Flat]]:
    """Every material of a glTF, GLB or MaterialX file that came with its pictures.

    Parameters
    ----------
    files : sequence of (str, stream)
        Names of the files, and what they hold.

    Raises
    ------
    FileError
        None of them is such a document, a picture is missing, or something is damaged. Nothing is then kept.
    """
    with tempfile.TemporaryDirectory(prefix="silent-loom-") as place:
        folder, total = Path(place), 0
        for name, stream in files:
            path = folder / (PurePath(name.replace("\\", "/")).name or "file")
            with path.open("wb") as out:
                copyfileobj(stream, out)
            total += path.stat().st_size
            if total > MOST_BYTES:
                raise FileError(f"these files have more than {MOST_BYTES >> 30} GB", name, "Bring fewer at a time.")
        documents = sorted(p for p in folder.iterdir() if p.suffix.lower() in SUFFIXES)
        if not documents:
            raise FileError("there is no glTF, GLB or MaterialX among them", files[0][0] if files else "", "Choose one.")
        flats = [(document, flat) for document in documents for flat in flattened(document)]
        return [(_kept(store, document.name, flat), flat) for document, flat in flats]


def _kept(store: Store, document: str, flat: Flat) -> State:
    with tempfile.TemporaryDirectory(prefix="silent-loom-") as place:
        weave, made = woven(flat, Path(place))
        sources: dict[str, SourceRef] = {}
        for digest, path in made.items():
            with path.open("rb") as stream:
                kept, _ = store.add_source(stream, weave.sources[digest].name)
            sources[kept] = store.source_ref(kept).model_copy(update={"name": weave.sources[digest].name})
    weave = weave.model_copy(update={"sources": sources})
    said = [*flat.notes, *(f"left out: {words}" for words in flat.left)]
    return store.create(flat.name[:200], weave, f"Flattened from {document}", Origin(note="\n".join(said)))
