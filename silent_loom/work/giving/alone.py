"""Bakes, forecasts and proofs without the application: of a library's material, or of an archive's."""

from __future__ import annotations

import tempfile
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from silent_loom.core.base.errors import FileError, LoomError, SettingError
from silent_loom.core.base.parallel import IDLE, Task
from silent_loom.core.delivery.baking.detail import losses
from silent_loom.core.delivery.baking.forecast import forecast
from silent_loom.core.delivery.completing import completed
from silent_loom.core.delivery.names import file_name
from silent_loom.core.delivery.packing import needed
from silent_loom.core.delivery.profile import Profile
from silent_loom.core.ways.bake import BakeOrder, bake
from silent_loom.core.ways.recipe_photos import through
from silent_loom.core.ways.woven import pairs_from, parse_value, with_pairs
from silent_loom.core.weave import registry
from silent_loom.core.weave.answers.cache import Cache
from silent_loom.core.weave.answers.evaluate import Evaluator
from silent_loom.core.weave.rows.beginnings import beginning, beginnings, woven_from
from silent_loom.core.weave.rows.dials import knobs, reseeded, turned
from silent_loom.core.weave.rows.model import SourceRef, Weave
from silent_loom.core.weave.rows.saved import SavedRecipe, shipped, shipped_recipe
from silent_loom.core.words.describer import shared
from silent_loom.store.archive import read_archive
from silent_loom.store.recipes import Recipes
from silent_loom.store.states import State
from silent_loom.store.store import Store, default_folder
from silent_loom.store.stored import StoredDecisions
from silent_loom.work.giving.zipping import about

CACHE = 700 << 20


@contextmanager
def library(data: Path | None, new: bool = False) -> Iterator[Store]:
    """The library in a data folder, made there if a ``new`` one will do; an application that runs on it is not in the way."""
    folder = data or default_folder()
    if not new and not (folder / "loom.sqlite").exists():
        raise LoomError("there is no library here", str(folder), "Name its folder with --data.")
    store = Store(folder)
    try:
        yield store
    finally:
        store.close()


def found(store: Store, material: str) -> str:
    """Id of a material by its id, name or file name.

    Raises
    ------
    LoomError
        There is none, or several have this name.
    """
    lines = store.listed()
    if any(line.id == material for line in lines):
        return material
    named = [line for line in lines if material.lower() in (line.name.lower(), file_name(line.name))]
    if len(named) == 1:
        return named[0].id
    if named:
        raise LoomError("several materials have this name", material, f"Use an id: {', '.join(n.id for n in named)}.")
    some = ", ".join(line.name for line in lines[:12])
    raise LoomError("there is no such material in the library", material, f"There are {some}." if some else "It is empty.")


@dataclass(frozen=True)
class Changed:
    """What is different in this bake alone.

    Attributes
    ----------
    seed : int, optional
        Another one of the same kind.
    sets : tuple of str
        ``DIAL=VALUE``, ``SETTING=VALUE`` of a pattern, or ``PATH.SETTING=VALUE``.
    photos : tuple of path
        For the slots of a recipe.
    """

    seed: int | None = None
    sets: tuple[str, ...] = ()
    photos: tuple[Path, ...] = ()

    def plain(self) -> dict[str, Any]:
        """What names no row: dials, and settings of a pattern.

        Raises
        ------
        SettingError
        """
        found = {}
        for text in self.sets:
            key, equals, value = text.partition("=")
            if not equals or not key.strip():
                raise SettingError("this is not SETTING=VALUE", text, "For example: scale_mm=80")
            if "." not in key:
                found[key.strip()] = parse_value(value.strip())
        return found

    def on(self, weave: Weave, dials: Mapping[str, Any]) -> Weave:
        """A weave with the seed, the dials, and the settings that name their rows."""
        weave = turned(reseeded(weave, self.seed or 0), dials)
        return with_pairs(weave, pairs_from([t for t in self.sets if "." in t.partition("=")[0]]))

    def closes(self, weave: Weave) -> bool:
        """Whether it says itself how edges are made to meet."""
        step = getattr(weave.able("close"), "step", None)
        return any(t.partition("=")[0].rpartition(".")[0].rpartition("/")[2].partition("#")[0] == step for t in self.sets)


AS_IT_IS = Changed()
PATTERN, RECIPE = "pattern:", "recipe:"
"""Before a name: a pattern, or a recipe, is meant, whatever the library holds."""


@contextmanager
def opened(what: str, data: Path | None, changed: Changed = AS_IT_IS) -> Iterator[tuple[Store, State]]:
    """A material of the library, out of an archive, made of a recipe, or begun from a pattern.

    All but the first are opened beside the library, and forgotten.

    Raises
    ------
    LoomError
        There is no such thing, or a change does not suit it.
    """
    path = Path(what)
    if path.is_file() or path.suffix == ".zip":
        with _archived(path, what) as (store, state):
            yield store, _changed(state, changed)
        return
    meant = next((p for p in (PATTERN, RECIPE) if what.startswith(p)), "")
    if not meant and _has(what, data):
        with library(data) as store:
            yield store, _changed(store.get(found(store, what)), changed)
        return
    name = what.removeprefix(meant)
    told = None if meant == PATTERN else recipe_named(name, data)
    if told is None and meant == RECIPE:
        told = shipped_recipe(name)
    elif told is None and meant == PATTERN:
        beginning(name)
    elif told is None and name not in beginnings():
        with library(data) as store:
            found(store, what)
    with tempfile.TemporaryDirectory() as folder, _made_in(Path(folder)) as store:
        yield store, _made(store, told, name, changed, data)


def recipe_named(name: str, data: Path | None) -> SavedRecipe | None:
    """A recipe of the library, or one that ships; None where there is none."""
    try:
        with library(data) as store:
            own = next((r for r in Recipes(store).all() if name.lower() in (r.name, r.title.lower())), None)
    except LoomError:
        own = None
    return own or shipped().get(name)


@contextmanager
def recipe_sources(told: SavedRecipe, data: Path | None) -> Iterator[Callable[[str], tuple[Path, str, str]] | None]:
    """Finds the files that a recipe brings with it; None where it brings none."""
    if not told.weave.sources:
        yield None
        return
    with library(data) as store:
        known = told.weave.sources
        yield lambda digest: (store.blobs.path(digest), known[digest].name, known[digest].format)


@contextmanager
def _made_in(folder: Path) -> Iterator[Store]:
    store = Store(folder)
    try:
        yield store
    finally:
        store.close()


@contextmanager
def _archived(path: Path, what: str) -> Iterator[tuple[Store, State]]:
    if not path.is_file():
        raise FileError("there is no such file", what, "Check the path.")
    with tempfile.TemporaryDirectory() as folder, _made_in(Path(folder)) as store, path.open("rb") as stream:
        yield store, read_archive(store, stream, path.name)


def _changed(state: State, changed: Changed) -> State:
    if changed.photos:
        raise SettingError("only a recipe takes photos", str(changed.photos[0]), "Name a recipe, or leave the photo away.")
    return replace(state, weave=changed.on(state.weave, changed.plain()))


def _made(store: Store, told: SavedRecipe | None, name: str, changed: Changed, data: Path | None) -> State:
    """A material made of a recipe, or of a pattern where there is none."""
    if told is None:
        if changed.photos:
            raise SettingError("a pattern takes no photo", str(changed.photos[0]), "Name a recipe, or leave the photo away.")
        fields = registry.fields(beginnings()[name].step)
        names = [k.name for k in knobs(woven_from(name))]
        own = {k: v for k, v in changed.plain().items() if k not in names or k in fields}
        weave = woven_from(name, seed=changed.seed, settings=own)
        weave = replace(changed, seed=None).on(weave, {k: v for k, v in changed.plain().items() if k not in own})
        return store.create(beginnings()[name].title, weave, "Begun from a pattern")
    weave = changed.on(told.weave, changed.plain())
    if weave.sources:
        _copied(store, weave, data)
    photos = [_kept(store, photo) for photo in changed.photos]
    weave, _ = through(evaluator_of(store), weave, photos, suggest=not changed.closes(weave))
    title = f"{changed.photos[0].stem} {told.title}" if changed.photos else told.title
    return store.create(title[:200], weave, f"Made of the recipe {told.title}")


def _kept(store: Store, photo: Path) -> tuple[str, SourceRef]:
    if not photo.is_file():
        raise FileError("there is no such file", str(photo), "Check the path.")
    with photo.open("rb") as stream:
        digest, _ = store.add_source(stream, photo.name)
    return digest, store.source_ref(digest).model_copy(update={"name": photo.name})


def _copied(store: Store, weave: Weave, data: Path | None) -> None:
    """Files that a recipe of the library brings with it."""
    with library(data) as other:
        for digest, ref in weave.sources.items():
            with other.blobs.path(digest).open("rb") as stream:
                store.add_source(stream, ref.name)


def _has(material: str, data: Path | None) -> bool:
    """Whether a library holds a material of this name."""
    try:
        with library(data) as store:
            return bool(found(store, material))
    except LoomError:
        return False


def evaluator_of(store: Store) -> Evaluator:
    return Evaluator(store.sources, Cache(CACHE), StoredDecisions(store))


def bake_material(
    what: str,
    data: Path | None,
    wanted: Profile,
    out: Path,
    order: BakeOrder,
    *,
    name: str = "",
    force: bool = False,
    changed: Changed = AS_IT_IS,
    task: Task = IDLE,
) -> dict[str, Any]:
    """Bake a material into a folder; its manifest."""
    with opened(what, data, changed) as (store, state):
        title = file_name(name or state.name)
        return bake(
            evaluator_of(store), state.weave, wanted, out, title, order, about=lambda: about(state), force=force, task=task
        )


def bake_weave(
    weave: Weave, title: str, wanted: Profile, out: Path, order: BakeOrder, force: bool = False, task: Task = IDLE
) -> dict[str, Any]:
    """Bake a weave that no library holds, and that needs no files; its manifest."""
    with tempfile.TemporaryDirectory() as folder, _made_in(Path(folder)) as store:
        return bake(evaluator_of(store), weave, wanted, out, file_name(title), order, force=force, task=task)


def own_recipes(data: Path | None) -> list[SavedRecipe]:
    """Recipes of a library; none where there is no library."""
    try:
        with library(data) as store:
            return Recipes(store).all()
    except LoomError:
        return []


def materials_like(words: str, data: Path | None) -> list[str]:
    """Names of materials of a library that share a word with a phrase."""
    try:
        with library(data) as store:
            return [m.name for m in store.listed() if shared(words, m.name)]
    except LoomError:
        return []


def forecast_material(
    what: str, data: Path | None, wanted: Profile, order: BakeOrder, changed: Changed = AS_IT_IS, task: Task = IDLE
) -> dict[str, Any]:
    """What a bake will make, and what is lost at its size; see `Forecast` and `Losses`."""
    with opened(what, data, changed) as (store, state):
        evaluator = evaluator_of(store)
        told = forecast(
            evaluator,
            state.weave,
            wanted,
            file_name(state.name),
            order.size,
            order.how,
            skip_constant=order.skip_constant,
            leave=order.leave,
            task=task.part(0, 0.4),
        ).as_dict()
        weave = completed(evaluator, state.weave, wanted.without(order.leave), order.leave)
        names = needed(wanted, order.kept(evaluator.plan(weave).threads))
        return {**told, "losses": losses(evaluator, weave, names, order.size, task.part(0.4, 1)).as_dict()}
