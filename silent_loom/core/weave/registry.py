"""Finds every step in the core by itself."""

from __future__ import annotations

import importlib
import inspect
import json
import pkgutil
from collections.abc import Collection
from functools import cache
from itertools import count
from pathlib import Path
from types import MappingProxyType, ModuleType
from typing import Any

from pydantic import ValidationError
from pydantic.fields import FieldInfo

from silent_loom.core.base.errors import SettingError, WeaveError
from silent_loom.core.base.troubles import note, passed_over
from silent_loom.core.weave.settings import Settings
from silent_loom.core.weave.step import AnyStep, Step
from silent_loom.core.weave.threads import THREADS

STEPS = "silent_loom.core.steps"
"""The one folder that is scanned, to any depth; a folder in it is a family of steps."""


@cache
def steps() -> MappingProxyType[str, AnyStep]:
    """Every step by name, family by family; folders may have folders in them.

    >>> steps()["height"].title
    'Height'
    """
    found: dict[str, AnyStep] = {}
    _tell_of_bare(Path(next(iter(importlib.import_module(STEPS).__path__))))
    for family in families():
        package = importlib.import_module(f"{STEPS}.{family}")
        for name in _modules(package):
            with passed_over(f"{name.replace('.', '/')}.py"):
                _take(importlib.import_module(name), found)
    return MappingProxyType(found)


def _modules(package: ModuleType) -> list[str]:
    """Modules of a family, to any depth."""
    return [i.name for i in pkgutil.walk_packages(package.__path__, f"{package.__name__}.")]


def _tell_of_bare(root: Path) -> None:
    """Tell of folders of steps that Python does not take for packages."""
    for folder in root.rglob("*/"):
        if folder.name != "__pycache__" and not (folder / "__init__.py").is_file() and any(folder.glob("*.py")):
            note(f"{folder.relative_to(root.parents[2])} is left out: it has no __init__.py. Add an empty one.")


def _take(module: ModuleType, found: dict[str, AnyStep]) -> None:
    """The steps of a module."""
    for _, member in inspect.getmembers(module, inspect.isclass):
        if issubclass(member, Step) and not inspect.isabstract(member) and member.__module__ == module.__name__:
            if member.name in found:
                raise TypeError(f"there is a step called {member.name} already")
            made = member()
            made.Settings()  # its defaults hold
            found[member.name] = made


def families() -> dict[str, str]:
    """Folders of steps and their titles, in the order in which they are shown: ``ORDER`` and ``TITLE`` of each package.

    >>> families()["maps"]
    'Maps'
    """
    package = importlib.import_module(STEPS)
    names = [info.name for info in pkgutil.iter_modules(package.__path__) if info.ispkg]
    found = {name: importlib.import_module(f"{STEPS}.{name}") for name in names}
    ordered = sorted(found.items(), key=lambda item: (getattr(item[1], "ORDER", 99), item[0]))
    return {name: getattr(module, "TITLE", name.replace("_", " ").capitalize()) for name, module in ordered}


def family(name: str) -> str:
    """The folder that a step lies in, directly or deeper, by which steps are sorted on screen.

    >>> family("height")
    'maps'
    """
    return type(step(name)).__module__.removeprefix(f"{STEPS}.").split(".")[0]


def known(name: str) -> AnyStep | None:
    """One step, or None where there is none of this name.

    >>> known("height").title, known("none such")
    ('Height', None)
    """
    return steps().get(name)


def can(name: str, what: str) -> bool:
    """Whether a step says that it can do something (`Step.can`); one that is not known can nothing.

    >>> can("height", "depth")
    True
    """
    found = known(name)
    return found is not None and what in found.can


def able(what: str) -> str:
    """Name of the first step that says that it can do something (`Step.can`).

    Raises
    ------
    WeaveError
        None can.

    >>> able("depth")
    'height'
    """
    for name, found in steps().items():
        if what in found.can:
            return name
    raise WeaveError(f"there is no step for this: {what}", "weave", "Install the application anew.")


def all_able(what: str) -> list[str]:
    """Names of all steps that say that they can do something.

    >>> all_able("depth")
    ['height', 'integrate']
    """
    return [name for name, found in steps().items() if what in found.can]


def maker(thread: str, kind: str = "") -> str | None:
    """Name of the step that makes a map out of others as it comes fresh: where its own name is the map's, that one.

    Parameters
    ----------
    thread : str
    kind : str
        Of what it is to be made from: a step that reads this kind goes before one that does not.

    >>> maker("normal", "normal")
    'normal'
    """
    made = []
    for found in steps().values():
        s = found.Settings()
        reads = found.reads(s)
        own = found.name == thread
        if not own and thread in _chosen(found.name):
            continue  # it makes whatever the artist names
        if not found.geometric and (reads or own) and thread in found.writes(s) and thread not in reads:
            made.append(found.name)
    fitting = [name for name in made if kind in _taken(name) or not step(name).reads(step(name).Settings())]
    made = fitting or made
    return thread if thread in made else next(iter(made), next((n for n, f in steps().items() if thread in f.asked), None))


def _chosen(name: str) -> set[str]:
    """Threads that a fresh step makes because a setting names them."""
    named = (i for i in fields(name).values() if isinstance(i.json_schema_extra, dict) and i.json_schema_extra.get("new"))
    return {str(i.get_default()) for i in named}


def _taken(name: str) -> set[str]:
    """Kinds of the threads that a fresh step reads."""
    reads = step(name).reads(step(name).Settings())
    found: set[str] = set()
    for info in fields(name).values():
        extra = info.json_schema_extra
        if isinstance(extra, dict) and info.get_default() in reads:
            found.update(str(k) for k in extra.get("kinds") or ())  # type: ignore[union-attr]
    return found


def asked_for(thread: str) -> dict[str, Any]:
    """Settings with which a thread is made that its step does not make as it comes fresh.

    >>> asked_for("roughness")
    {}
    """
    return next((dict(f.asked[thread]) for f in steps().values() if thread in f.asked), {})


def fields(name: str) -> dict[str, FieldInfo]:
    """Declared settings of a step by name, in the order in which they are shown; none of a step that is not known.

    >>> list(fields("metallic"))[:2]
    ['mode', 'value']
    """
    found = known(name)
    if found is None:
        return {}
    declared, last = found.Settings.model_fields, found.Settings.last
    return {n: declared[n] for n in (*(n for n in declared if n not in last), *last)}


def step(name: str) -> AnyStep:
    """One step.

    Raises
    ------
    WeaveError
        When there is none of this name.

    >>> step("height").title
    'Height'
    """
    try:
        return steps()[name]
    except KeyError:
        raise WeaveError(f"there is no step called '{name}'", "weave", f"There are {', '.join(steps())}.") from None


def settings_of(name: str, values: dict[str, Any]) -> Settings:
    """Validated settings of a step.

    Raises
    ------
    SettingError
        Names the first setting that is wrong, what is wrong with it, and what it takes.

    >>> settings_of("height", {"depth_mm": 4}).depth_mm
    4.0
    """
    model = step(name).Settings
    try:
        return model.model_validate(values)
    except ValidationError as error:
        first = error.errors()[0]
        where = ".".join([name, *(str(p) for p in first["loc"])])
        top = str(first["loc"][0]) if first["loc"] else ""
        info = model.model_fields.get(top)
        todo = f"It takes: {', '.join(model.model_fields)}." if info is None else (info.description or "")
        raise SettingError(first["msg"].lower().rstrip("."), where, todo) from None


def plain(values: Any) -> Any:
    """Settings as JSON keeps them: tuples as lists, numpy numbers as numbers.

    >>> plain({"a": (1, 2)})
    {'a': [1, 2]}
    """
    return json.loads(json.dumps(values, default=float))


def fresh_names(name: str, present: Collection[str]) -> dict[str, str]:
    """Names for the threads that a new row makes, where those of a fresh step are taken: settings by field.

    Maps keep theirs: a row that makes one works on the one that is there.

    >>> fresh_names("where_on_model", ["where"]), fresh_names("where_on_model", ["base"])
    ({'name': 'where_2'}, {})
    """
    out = {}
    for field, info in fields(name).items():
        extra = info.json_schema_extra
        usual = str(info.get_default())
        if isinstance(extra, dict) and extra.get("new") and usual in present and usual not in THREADS:
            out[field] = next(n for k in count(2) if (n := f"{usual}_{k}") not in present)
    return out
