"""Recipes as artists have them: a weave with open photo slots, its dials, and the words by which it is found."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Mapping, Sequence
from functools import cache
from importlib import resources
from typing import Any

from pydantic import BaseModel, ConfigDict, Field

from silent_loom.core.base.errors import WeaveError
from silent_loom.core.base.troubles import passed_over
from silent_loom.core.weave import registry
from silent_loom.core.weave.rows import edit, tree
from silent_loom.core.weave.rows.dials import knobs
from silent_loom.core.weave.rows.model import Dial, Drive, Entry, GroupEntry, SourceRef, StepEntry, Weave
from silent_loom.core.weave.rows.recipes import Recipe, made

PLACED: dict[str, Any] = {"corners": None, "sun": None, "strokes": (), "regions": (), "edits": ()}
"""Shapes of settings that belong to one photo (where something lies on it, where its light came from), and what they are
for another one."""


class SavedRecipe(BaseModel):
    """A recipe.

    Attributes
    ----------
    name : str
        Key, as the command line takes it.
    title, says, family : str
        What the screen shows.
    words : tuple of str
        By which somebody may look for it.
    weave : Weave
        Rows that bring a photo in name none: these are its open slots.
    """

    model_config = ConfigDict(extra="forbid", frozen=True)

    name: str = Field(pattern=r"^[a-z0-9][a-z0-9_-]*$")
    title: str = Field(min_length=1, max_length=200)
    says: str = Field("", max_length=1000)
    family: str = ""
    words: tuple[str, ...] = ()
    weave: Weave

    @property
    def slots(self) -> list[str]:
        """Ids of the rows that want a photo."""
        return open_slots(self.weave)

    def facts(self) -> dict[str, Any]:
        """What a list shows of it."""
        sheet = next((r for r in self.weave.rows() if registry.can(r.step, "sheet") or registry.can(r.step, "photo")), None)
        settings: Any = registry.settings_of(sheet.step, sheet.settings) if sheet is not None else None
        return {
            **self.model_dump(mode="json", include={"name", "title", "says", "family", "words"}),
            "photos": len(self.slots),
            "width_mm": getattr(settings, "width_mm", None),
            "dials": [
                {"name": k.name, "title": k.dial.title, "value": k.dial.value, "low": k.dial.low, "high": k.dial.high}
                for k in knobs(self.weave)
            ],
        }


def open_slots(weave: Weave) -> list[str]:
    """Ids of the rows of a weave that bring a photo in and name none.

    >>> from silent_loom.core.weave.rows.beginnings import woven_from
    >>> open_slots(woven_from("gravel"))
    []
    """
    return [r.id for r in weave.rows() if registry.can(r.step, "photo") and not r.settings.get("source")]


def emptied(weave: Weave) -> Weave:
    """A weave made ready for other photos: the photos go, and with them what was placed on them by hand.

    Corners, strokes, marked regions, joined elements and where the light came from belong to one photo only. Maps that were
    brought in beside it stay, with the files behind them.

    >>> from silent_loom.core.weave.rows.beginnings import woven_from
    >>> open_slots(emptied(woven_from("gravel")))
    []
    """
    for row in weave.rows():
        values = {k: PLACED[shape] for k, shape in _shapes(row.step).items() if shape in PLACED and k in row.settings}
        if registry.can(row.step, "photo"):
            values["source"] = ""
        if values:
            kept = {k: v for k, v in row.settings.items() if k not in values}
            weave = weave.with_entry(row.model_copy(update={"settings": kept}))
    named = {d for r in weave.rows() for d in edit.digests(r.settings)}
    sources = {d: ref for d, ref in weave.sources.items() if d in named}
    return weave.model_copy(update={"sources": sources})


def filled(weave: Weave, photos: Sequence[tuple[str, SourceRef]]) -> Weave:
    """A recipe's weave with photos in its slots, in order; one photo fills all of them.

    Raises
    ------
    WeaveError
        There are too few or too many.

    >>> from silent_loom.core.weave.rows.beginnings import woven_from
    >>> weave = woven_from("gravel")  # takes no photo
    >>> filled(weave, []) == weave
    True
    """
    slots = open_slots(weave)
    if not slots and photos:
        raise WeaveError("this recipe takes no photo", "recipe", "Leave the photo out, or choose one that takes it.")
    if slots and not photos:
        raise WeaveError(f"this recipe wants {_photos(len(slots))}", "recipe", "Bring a photo.")
    if len(photos) not in (0, 1, len(slots)):
        raise WeaveError(f"this recipe wants {_photos(len(slots))}, not {len(photos)}", "recipe", "Bring as many, or one.")
    for i, slot in enumerate(slots):
        digest, ref = photos[min(i, len(photos) - 1)]
        weave = weave.with_settings(slot, {"source": digest})
        weave = weave.model_copy(update={"sources": {**weave.sources, digest: ref}})
    return weave


def _photos(n: int) -> str:
    return "a photo" if n == 1 else f"{n} photos"


def _shapes(step: str) -> dict[str, str]:
    found: dict[str, str] = {}
    for name, info in registry.fields(step).items():
        extra = info.json_schema_extra
        found[name] = str(extra.get("shape", "")) if isinstance(extra, dict) else ""
    return found


@cache
def shipped() -> Mapping[str, SavedRecipe]:
    """Every recipe that comes with the application, by name, family by family.

    >>> len(shipped())
    27
    """
    folder = resources.files("silent_loom.core") / "recipes" / "surfaces"
    found: dict[str, SavedRecipe] = {}
    for file in sorted(folder.iterdir(), key=lambda f: f.name):
        if file.name.endswith(".json"):
            with passed_over(f"recipes/surfaces/{file.name}"):
                family = json.loads(file.read_text("utf-8"))
                made = [of_recipe(Recipe.model_validate({"family": family["family"], **one})) for one in family["recipes"]]
                found |= {m.name: m for m in made}
    return found


def of_recipe(told: Recipe) -> SavedRecipe:
    """A recipe that was written as data; the ids of its rows follow from their paths, so that they are the same tomorrow.

    >>> from silent_loom.core.weave.rows.recipes import recipe
    >>> of_recipe(recipe("sheet")).title
    'An empty sheet'
    """
    rows = made(told.rows, dict.fromkeys(told.slots, ""))
    kept = told.model_dump(include={"name", "title", "says", "family", "words"})
    return SavedRecipe(**kept, weave=Weave(steps=_steady(rows)))


def shipped_recipe(name: str) -> SavedRecipe:
    """One of them.

    Raises
    ------
    WeaveError

    >>> shipped_recipe("photo-concrete").title
    'Cast and concrete'
    """
    if name not in shipped():
        raise WeaveError(f"there is no recipe called '{name[:60]}'", "recipe", f"There are {', '.join(shipped())}.")
    return shipped()[name]


def _steady(rows: tuple[Entry, ...]) -> tuple[Entry, ...]:
    ids: dict[str, str] = {}
    for place in tree.walk(rows):
        path = tree.path_of(rows, place.entry.id)
        ids[place.entry.id] = _short(path)
        ids |= {d.id: _short(f"{path}.{d.title}") for d in getattr(place.entry, "dials", ())}

    def drive(d: Drive) -> Drive:
        return d.model_copy(update={"row": ids[d.row], "setting": ids.get(d.setting, d.setting)})

    def dial(d: Dial) -> Dial:
        return d.model_copy(update={"id": ids[d.id], "drives": tuple(drive(x) for x in d.drives)})

    def named(entry: Entry) -> Entry:
        if isinstance(entry, StepEntry):
            return entry.model_copy(update={"id": ids[entry.id]})
        return GroupEntry.model_validate(
            {
                **{k: getattr(entry, k) for k in ("on", "mask", "amount", "note", "name")},
                "folded": True,  # a few dials are what it shows of itself
                "id": ids[entry.id],
                "dials": tuple(dial(d) for d in entry.dials),
                "rows": tuple(named(e) for e in entry.rows),
            }
        )

    return tuple(named(e) for e in rows)


def _short(text: str) -> str:
    return hashlib.sha256(text.encode()).hexdigest()[:10]
