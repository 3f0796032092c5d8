"""Bakes, forecasts and proofs without the application: of a library's material, or of an archive's."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from silent_loom.core.base.errors import FileError, LoomError, SettingError
from silent_loom.core.base.images import Image
from silent_loom.core.base.parallel import IDLE, Task
from silent_loom.core.delivery.baking.detail import losses
from silent_loom.core.delivery.baking.forecast import forecast
from silent_loom.core.delivery.baking.makers import How, maker
from silent_loom.core.delivery.fitting import fit, fitted
from silent_loom.core.delivery.names import file_name
from silent_loom.core.delivery.packing import needed
from silent_loom.core.delivery.profile import Profile
from silent_loom.core.delivery.shelf import profile as profile_of
from silent_loom.core.delivery.unpacking import manifest_of
from silent_loom.core.ways.bake import BakeOrder, bake
from silent_loom.core.ways.repack import prove_folder, prove_maps
from silent_loom.core.ways.squared import squared
from silent_loom.core.ways.woven import pairs_from, parse_value, with_pairs
from silent_loom.core.weave.answers.cache import Cache
from silent_loom.core.weave.answers.evaluate import Evaluator
from silent_loom.core.weave.rows.beginnings import beginnings, woven_from
from silent_loom.core.weave.rows.model import Weave
from silent_loom.core.weave.rows.upgrade import parsed
from silent_loom.store.archive import read_archive
from silent_loom.store.states import State
from silent_loom.store.store import Store, default_folder
from silent_loom.store.stored import StoredDecisions
from silent_loom.work.giving.received import taken_out
from silent_loom.work.giving.zipping import about

CACHE = 700 << 20


@contextmanager
def library(data: Path | None) -> Iterator[Store]:
    """The library in a data folder; an application that runs on it is not in the way."""
    folder = data or default_folder()
    if not (folder / "loom.sqlite").exists():
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
    """What is different in this bake alone: the seed of a pattern; settings as ``NAME=VALUE`` or ``STEP.NAME=VALUE``."""

    seed: int | None = None
    sets: tuple[str, ...] = ()

    def own(self) -> dict[str, Any]:
        """Settings of the pattern itself.

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

    def deeper(self, weave: Weave) -> Weave:
        """A weave with the settings that name their step."""
        return with_pairs(weave, pairs_from([t for t in self.sets if "." in t.partition("=")[0]]))


AS_IT_IS = Changed()
PATTERN = "pattern:"
"""Before a name: the pattern is meant, whatever the library holds."""


@contextmanager
def opened(what: str, data: Path | None, changed: Changed = AS_IT_IS) -> Iterator[tuple[Store, State]]:
    """A material of the library, out of an archive, or begun from a pattern; the last two are opened beside it and forgotten."""
    with _opened(what, data, changed) as (store, state):
        yield store, replace(state, weave=changed.deeper(state.weave))


@contextmanager
def _opened(what: str, data: Path | None, changed: Changed) -> Iterator[tuple[Store, State]]:
    path = Path(what)
    name = what.removeprefix(PATTERN)
    if what.startswith(PATTERN) or (name in beginnings() and not _has(name, data)):
        with tempfile.TemporaryDirectory() as folder:
            weave = woven_from(name, seed=changed.seed, settings=changed.own())
            store = Store(Path(folder))
            try:
                yield store, store.create(beginnings()[name].title, weave, "Begun from a pattern")
            finally:
                store.close()
        return
    if changed.seed is not None or changed.own():
        raise SettingError(
            "only a pattern takes a seed or settings without their step", what, "Name the step: --set height.depth_mm=4."
        )
    if path.is_file():
        with tempfile.TemporaryDirectory() as folder:
            store = Store(Path(folder))
            try:
                with path.open("rb") as stream:
                    yield store, read_archive(store, stream, path.name)
            finally:
                store.close()
        return
    if path.suffix == ".zip":
        raise FileError("there is no such file", what, "Check the path.")
    with library(data) as store:
        yield store, store.get(found(store, what))


def _has(material: str, data: Path | None) -> bool:
    """Whether a library holds a material of this name."""
    try:
        with library(data) as store:
            return bool(found(store, material))
    except LoomError:
        return False


def _evaluator(store: Store) -> Evaluator:
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
        return bake(_evaluator(store), state.weave, wanted, out, title, order, about=lambda: about(state), force=force, task=task)


def forecast_material(
    what: str, data: Path | None, wanted: Profile, order: BakeOrder, changed: Changed = AS_IT_IS, task: Task = IDLE
) -> dict[str, Any]:
    """What a bake will make, and what is lost at its size; see `Forecast` and `Losses`."""
    with opened(what, data, changed) as (store, state):
        evaluator = _evaluator(store)
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
        names = needed(wanted, order.kept(evaluator.plan(state.weave).threads))
        return {**told, "losses": losses(evaluator, state.weave, names, order.size, task.part(0.4, 1)).as_dict()}


def prove_against(delivery: Path, against: str, data: Path | None, profile: str = "") -> dict[str, Any]:
    """Hold the folder or zip of a delivery against a material, an archive, another folder, or the material that it names itself.

    Raises
    ------
    LoomError
        Nothing says what was meant, or something cannot be read.
    """
    if delivery.is_file():
        with tempfile.TemporaryDirectory() as folder:
            taken_out(delivery, Path(folder), delivery.name)
            return prove_against(Path(folder), against, data, profile)
    if against and Path(against).is_dir():
        return prove_folder(delivery, Path(against), profile, mistakes=True)
    manifest = manifest_of(delivery) or {}
    named = against or str(manifest.get("material") or "")
    if not named:
        raise LoomError("nothing says what was meant", str(delivery), "Name a material or a folder, with --against.")
    with opened(named, data) as (store, state):
        weave = state.weave if against or "weave" not in manifest else _own_weave(manifest)
        evaluator = _evaluator(store)
        plan = evaluator.plan(weave)
        wanted = profile_of(profile or str(manifest.get("profile", "plain")))
        size = max(int(v) for v in manifest.get("size", [1024]))
        how = fit(wanted, plan.geometry.size_mm, size)
        baked = How(int(manifest.get("supersample", 1)), bool(manifest.get("lost_length", True)), bool(manifest.get("lit")))
        make = maker(evaluator, weave, how.ask, baked)
        names = [n for n in needed(wanted, plan.threads) if n in wanted.wants()]
        make = squared(make, names, wanted, plan.geometry.size_mm)
        meant: dict[str, Image] = {n: fitted(make(n), how) for n in names}
        ranges = {n: plan.spec(n) for n in names}
        return prove_maps(delivery, meant, ranges, profile, mistakes=True).as_dict()


def _own_weave(manifest: dict[str, Any]) -> Any:
    import json

    return parsed(json.dumps(manifest["weave"]))
