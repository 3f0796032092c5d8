"""Materials as portable files: out of one library, into another."""

from __future__ import annotations

import shutil
import tempfile
from pathlib import Path, PurePath
from typing import Any

from fastapi import APIRouter, File, Response, UploadFile
from fastapi.responses import FileResponse
from starlette.background import BackgroundTask

from silent_loom.core.delivery.names import file_name
from silent_loom.store.archive import ENDING, read_archive, write_archive
from silent_loom.web.common import Stored

router = APIRouter()


@router.get("/api/materials/{ident}/archive")
def write(ident: str, store: Stored) -> Response:
    """The material as one file: weave, sources, snapshots, origin."""
    name = file_name(store.get(ident).name) + ENDING
    folder = Path(tempfile.mkdtemp(prefix=".part-", dir=store.folder / "deliveries"))
    try:
        write_archive(store, ident, folder / name)
    except BaseException:
        shutil.rmtree(folder, ignore_errors=True)
        raise
    gone = BackgroundTask(shutil.rmtree, folder, ignore_errors=True)
    return FileResponse(folder / name, media_type="application/zip", filename=name, background=gone)


@router.post("/api/archives", status_code=201)
def read(store: Stored, file: UploadFile = File()) -> dict[str, Any]:
    """Bring a material in from its file."""
    state = read_archive(store, file.file, PurePath(file.filename or "archive").name)
    return {"id": state.id, "name": state.name}
