"""A material as one portable file: its weave, its sources, its snapshots, where it came from."""

from __future__ import annotations

import json
import os
import struct
import tempfile
import zipfile
import zlib
from dataclasses import asdict
from pathlib import Path
from typing import Any, BinaryIO

from silent_loom import __version__
from silent_loom.core.base.bounded_json import MOST_BYTES, loads
from silent_loom.core.base.errors import REFUSALS, FileError, LoomError, refusal
from silent_loom.core.delivery.placing import sha256
from silent_loom.core.files.place import drop, place
from silent_loom.core.form.reading.table import FORMATS
from silent_loom.core.weave.rows.model import SourceRef, Weave
from silent_loom.core.weave.rows.upgrade import parsed
from silent_loom.store.snapshots import Snapshots
from silent_loom.store.states import Missing, Origin, State, Unreadable
from silent_loom.store.store import Store

FORMAT = 1
FACTS, SOURCES = "material.json", "sources/"
ENDING = ".material.zip"
MOST_FACTS = MOST_BYTES
"""Bytes of the weave and its snapshots, unpacked."""
MOST_SOURCE = 8 << 30


def write_archive(store: Store, ident: str, path: Path) -> list[str]:
    """Write a material into one file; what was there before is not overwritten. Names of snapshots are given whose states
    cannot be read any more: they are left out.

    Raises
    ------
    LoomError
        There is no such material, a source is gone, or the file exists.
    """
    state = store.get(ident)
    snapshots = Snapshots(store).of(ident)
    weaves, lost = [], []
    for s in reversed(snapshots):
        try:
            weaves.append((s.name, store.weave_at(ident, s.entry)))
        except (Missing, Unreadable):  # a name without its state is no reason to keep everything else here
            lost.append(s.name)
    sources = {d: s for w in (state.weave, *(w for _, w in weaves)) for d, s in w.sources.items()}
    facts: dict[str, Any] = {
        "format": FORMAT,
        "made_by": f"Silent Loom {__version__}",
        "name": state.name,
        "origin": asdict(state.origin),
        "weave": state.weave.model_dump(mode="json"),
        "snapshots": [{"name": n, "weave": w.model_dump(mode="json")} for n, w in weaves],
        **({"lost_snapshots": lost} if lost else {}),
    }
    try:
        handle, partial = tempfile.mkstemp(prefix=f".{path.stem}.", dir=path.parent)
        os.close(handle)
    except OSError as error:
        raise refusal(error, str(path.parent)) from None
    try:
        with zipfile.ZipFile(partial, "w", zipfile.ZIP_STORED) as out:
            out.writestr(FACTS, json.dumps(facts, ensure_ascii=False, indent=1), zipfile.ZIP_DEFLATED)
            for digest in sources:
                file = store.blobs.path(digest)
                if not file.is_file():
                    raise FileError("a source of this material is gone", sources[digest].name, "Bring it in again.")
                out.write(file, SOURCES + digest)
        place(partial, path)
        return lost
    except FileExistsError:
        raise LoomError("there is already a file of this name", path.name, "Choose another.") from None
    except OSError as error:
        raise refusal(error, str(path)) from None
    finally:
        drop(partial)


def read_archive(store: Store, stream: BinaryIO, called: str) -> State:
    """Bring a material in from its file, as a new one.

    Raises
    ------
    FileError
        It is damaged, of a newer version, or no archive of a material; nothing is then kept but sources that were whole.
    """
    try:
        archive = zipfile.ZipFile(stream)
        facts = _facts(archive, called)
        weave, snapshots = _weaves(facts, called)
        wanted = set(weave.sources) | {d for _, w in snapshots for d in w.sources}
        refs = {d: s for w in (weave, *(w for _, w in snapshots)) for d, s in w.sources.items()}
        for digest in sorted(wanted):
            _bring(store, archive, digest, refs[digest], called)
    except (zipfile.BadZipFile, zlib.error, NotImplementedError, struct.error, UnicodeError):
        raise FileError(
            "this is not an archive of a material, or it is damaged", called, "Save it again where it came from."
        ) from None
    except OSError as error:
        if error.errno in REFUSALS:  # the disk, not the file
            raise refusal(error, str(store.folder)) from None
        raise FileError(f"cannot be read ({type(error).__name__})", called, "Copy it again.") from None
    except EOFError as error:
        raise FileError(f"cannot be read ({type(error).__name__})", called, "Copy it again.") from None
    origin = facts.get("origin") if isinstance(facts.get("origin"), dict) else {}
    known = {k: str(v) for k, v in (origin or {}).items() if k in Origin.__dataclass_fields__}
    kept, state = Snapshots(store), None
    for name, then in [*snapshots, ("", weave)]:
        if state is None:
            state = store.create(str(facts.get("name") or "Material")[:200], then, "From an archive", Origin(**known))
        else:
            state = store.change(state.id, state.head, then, f"Snapshot {name}" if name else "As archived")
        if name:
            kept.keep(state.id, name, state.head)
    assert state is not None
    return store.get(state.id)


def _facts(archive: zipfile.ZipFile, called: str) -> dict[str, Any]:
    try:
        if archive.getinfo(FACTS).file_size > MOST_FACTS:
            raise FileError("what it says of the material is too large", called, "Save it again where it came from.")
        facts = loads(archive.read(FACTS), called)
    except (KeyError, ValueError, RuntimeError):
        raise FileError("this is not an archive of a material", called, f"Its name ends in {ENDING}.") from None
    if not isinstance(facts, dict) or not isinstance(facts.get("format"), int):
        raise FileError("this is not an archive of a material", called, f"Its name ends in {ENDING}.")
    if facts["format"] > FORMAT:
        raise FileError("it was written by a newer version", called, "Update this Silent Loom.")
    return facts


def _weaves(facts: dict[str, Any], called: str) -> tuple[Weave, list[tuple[str, Weave]]]:
    try:
        weave = parsed(json.dumps(facts["weave"]))
        return weave, [(str(s["name"])[:200], parsed(json.dumps(s["weave"]))) for s in facts.get("snapshots", [])]
    except (KeyError, TypeError, ValueError, LoomError) as error:
        raise FileError(
            f"its weave cannot be read ({type(error).__name__})", called, "It may come from a newer version."
        ) from None


def _bring(store: Store, archive: zipfile.ZipFile, digest: str, ref: SourceRef, called: str) -> None:
    name = ref.name
    if store.knows(digest):
        return
    try:
        if archive.getinfo(SOURCES + digest).file_size > MOST_SOURCE:
            raise FileError("a source in it is too large", called, "Save it again where it came from.")
        with tempfile.NamedTemporaryFile(dir=store.folder) as copy:
            with archive.open(SOURCES + digest) as packed:
                while block := packed.read(1 << 20):
                    copy.write(block)
            copy.flush()
            if sha256(Path(copy.name)) != digest:
                raise FileError("a source in it is not what it was", f"{called}: {name}", "Copy the archive again.")
            with open(copy.name, "rb") as whole:
                if ref.format in FORMATS:
                    store.add_model_source(whole, name)
                else:
                    store.add_source(whole, name)
    except (KeyError, RuntimeError):
        raise FileError("a source is missing in it", f"{called}: {name}", "Save it again where it came from.") from None
