"""A folder of photos through a recipe into a folder of map sets, without the application; what was ended goes on."""

from __future__ import annotations

import hashlib
import json
import time
from collections.abc import Callable, Sequence
from dataclasses import asdict, dataclass, replace
from pathlib import Path
from typing import Any

from silent_loom.core.base.errors import FileError, LoomError, SettingError
from silent_loom.core.base.memory import large_apart
from silent_loom.core.base.parallel import IDLE, Task
from silent_loom.core.delivery.names import file_name
from silent_loom.core.delivery.profile import Profile
from silent_loom.core.files.formats import SUFFIXES, identify
from silent_loom.core.files.place import drop, place
from silent_loom.core.report.findings.sharpness import blurred
from silent_loom.core.ways.bake import BakeOrder, bake
from silent_loom.core.ways.recipe_photos import through
from silent_loom.core.ways.sources import FileSources, digest_of, reference
from silent_loom.core.weave.answers.cache import Cache
from silent_loom.core.weave.answers.evaluate import Evaluator
from silent_loom.core.weave.rows.model import Weave
from silent_loom.work.cards import pictured
from silent_loom.work.many.results import Result, by_urgency, failure, measured

JOURNAL = "batch.json"
PICTURES = "pictures"
CACHE = 700 << 20


@dataclass(frozen=True)
class Order:
    """What is done with every photo.

    Attributes
    ----------
    recipe : Weave
        With an open slot for a photo, its seed and dials as they are wanted.
    title : str
        Of the recipe.
    profiles : tuple of Profile
        With several, each gets a folder of its own within the photo's.
    bake : BakeOrder
    suggest : bool
        See `through`.
    find : callable
        Files that the recipe brings itself, by digest: see `FileSources`.
    """

    recipe: Weave
    title: str
    profiles: tuple[Profile, ...]
    bake: BakeOrder
    suggest: bool = True
    find: Callable[[str], tuple[Path, str, str]] | None = None

    def key(self) -> str:
        """Changes with everything that a result depends on, the photo left out."""
        said = [
            self.recipe.model_dump_json(),
            *(p.model_dump_json() for p in self.profiles),
            json.dumps(asdict(self.bake), sort_keys=True),
            str(self.suggest),
        ]
        return hashlib.sha256("\n".join(said).encode()).hexdigest()[:20]


def photos_in(what: Sequence[Path]) -> list[Path]:
    """Photos of folders (not of those within) and single files, in order of their names.

    Raises
    ------
    FileError
        Something is not there, or there is no photo.
    """
    found: list[Path] = []
    for path in what:
        if path.is_dir():
            found += sorted((p for p in path.iterdir() if _is_photo(p)), key=lambda p: p.name.lower())
        elif path.is_file():
            found.append(path)
        else:
            raise FileError("there is no such file or folder", str(path), "Check the path.")
    if not found:
        raise FileError("there is no photo here", ", ".join(str(p) for p in what), "Name a folder that holds some.")
    return list(dict.fromkeys(found))


def _is_photo(path: Path) -> bool:
    known = path.suffix.lower() in {s for suffixes in SUFFIXES.values() for s in suffixes}
    return known and path.is_file() and not path.name.startswith(".")


class Journal:
    """What has been made so far, beside the results; written anew after every photo, whole or not at all."""

    def __init__(self, out: Path, order: Order) -> None:
        self.path, self.key, self.title = out / JOURNAL, order.key(), order.title
        self.rows: dict[str, Result] = {}

    def read(self) -> None:
        """Take up what an ended run left.

        Raises
        ------
        LoomError
            The folder is of another batch.
        """
        if not self.path.is_file():
            return
        try:
            told = json.loads(self.path.read_text("utf-8"))
            key, rows = told["key"], {k: Result.read(r) for k, r in told["rows"].items()}
        except (ValueError, KeyError, TypeError, AttributeError):
            raise LoomError("this is no list of results", str(self.path), "Choose another folder.") from None
        if key != self.key:
            raise LoomError(
                "this folder holds the results of another recipe, profile or size", str(self.path), "Choose another folder."
            )
        self.rows = rows

    def write(self) -> None:
        told = {"key": self.key, "recipe": self.title, "rows": {k: r.as_dict() for k, r in self.rows.items()}}
        partial = self.path.with_name(f".{JOURNAL}.part")
        try:
            partial.write_text(json.dumps(told, indent=1, ensure_ascii=False) + "\n", "utf-8")
            place(partial, self.path, replace=True)
        finally:
            drop(partial)


def run(
    photos: Sequence[Path], out: Path, order: Order, task: Task = IDLE, each: Callable[[Result], None] = lambda _: None
) -> list[Result]:
    """Put every photo through a recipe; one that fails stops nothing, and the same call goes on after a kill.

    Parameters
    ----------
    out : path
        A folder a photo, the list of results (``batch.json``) and small pictures.
    each : callable
        Is told of every result as it comes.

    Returns
    -------
    list of Result
        What needs a human look first.

    Raises
    ------
    LoomError
        The folder holds something else.
    Cancelled
    """
    if out.exists() and not out.is_dir():
        raise LoomError("this is a file, not a folder", str(out), "Name a folder.")
    if out.is_dir() and not (out / JOURNAL).is_file() and any(not p.name.startswith(".") for p in out.iterdir()):
        raise LoomError("the folder is not empty", str(out), "Choose another.")
    out.mkdir(parents=True, exist_ok=True)
    journal = Journal(out, order)
    journal.read()
    results = []
    taken: set[str] = set()
    for i, photo in enumerate(photos):
        name = _free(file_name(photo.stem), taken)
        task.report(i / len(photos), f"{photo.name} ({i + 1} of {len(photos)})")
        known = journal.rows.get(name)
        digest = digest_of(photo)
        if known is not None and known.state == "done" and known.digest == digest and all((out / f).is_dir() for f in known.out):
            results.append(known)
            each(known)
            continue
        result = Result(photo.name, digest, "running")
        journal.rows[name] = result
        journal.write()
        with large_apart():
            _one(photo, name, out, order, result, task.part(i / len(photos), (i + 1) / len(photos)))
        journal.write()
        results.append(result)
        each(result)
    task.report(1.0, "done")
    return by_urgency(results)


def _free(name: str, taken: set[str]) -> str:
    n, free = 2, name
    while free.lower() in taken or free.lower() in (PICTURES, JOURNAL):
        n, free = n + 1, f"{name}_{n}"
    taken.add(free.lower())
    return free


def _one(photo: Path, name: str, out: Path, order: Order, result: Result, task: Task) -> None:
    began = time.monotonic()
    try:
        weave, evaluator = _woven(photo, order, result, task)
        for k, wanted in enumerate(order.profiles):
            folder = out / name / wanted.name if len(order.profiles) > 1 else out / name
            part = task.part(k / len(order.profiles) * 0.9, (k + 1) / len(order.profiles) * 0.9)
            # An ended run of this very photo may have left files: those alone are replaced
            manifest = bake(
                evaluator, weave, wanted, folder, name, order.bake, about=lambda: {"recipe": order.title}, force=True, task=part
            )
            result.out.append(str(folder.relative_to(out)))
            result.files += len(manifest["files"])
        measured(result, evaluator, weave, order.bake.size, task.part(0.9, 1))
        (out / PICTURES).mkdir(exist_ok=True)
        partial = out / PICTURES / f".{name}.part"
        partial.write_bytes(pictured(evaluator, weave, task.part(1, 1)))
        place(partial, out / PICTURES / f"{name}.png", replace=True)
        result.state = "done"
    except Exception as error:
        result.error, result.state = failure(error), "failed"
    result.seconds = round(time.monotonic() - began, 2)


def _woven(photo: Path, order: Order, result: Result, task: Task) -> tuple[Weave, Evaluator]:
    def find(digest: str) -> tuple[Path, str, str]:
        if digest == result.digest:
            return photo, photo.name, identify(photo, photo.name)
        if order.find is None:
            raise KeyError(digest)
        return order.find(digest)

    sources = FileSources(find)
    evaluator = Evaluator(sources, Cache(CACHE))  # a photo's own: what it computed goes with it, so memory stays that of one
    picture = sources.picture(result.digest)
    ref = reference(photo, picture)
    result.soft = blurred(picture, task)
    weave, result.why = through(evaluator, order.recipe, [(result.digest, ref)], order.suggest, task.part(0, 0.05))
    if (error := evaluator.plan(weave).error()) is not None:
        raise error
    return weave, evaluator


def order_of(recipe: Weave, title: str, profiles: Sequence[Profile], size: int, supersample: int = 1, **more: Any) -> Order:
    """An order in the usual way.

    Raises
    ------
    SettingError
        There is no profile.
    """
    if not profiles:
        raise SettingError("no profile is named", "--profile", "'silent-loom profiles' lists them.")
    base = BakeOrder(size)
    return Order(recipe, title, tuple(profiles), replace(base, how=replace(base.how, supersample=supersample)), **more)
