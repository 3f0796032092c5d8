"""Patterns to begin a material from, as data: the relief, what colours and finishes it, and its real size."""

from __future__ import annotations

import json
from collections.abc import Mapping
from functools import cache
from importlib import resources
from typing import Any

from pydantic import BaseModel, ConfigDict, Field

from silent_loom.core.base.errors import SettingError, WeaveError
from silent_loom.core.base.troubles import passed_over
from silent_loom.core.weave import registry
from silent_loom.core.weave.rows.model import AMOUNT, Dial, Drive, Entry, GroupEntry, Mask, MixMode, StepEntry, Weave

Hex = str
"""A colour as ``#rrggbb``."""


class _Said(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)


class By(_Said):
    """What something goes by: a thread, a channel of it, and the part of its range."""

    thread: str = "height"
    channel: str = "first"
    low: float = 0.0
    high: float = 1.0


class Layer(_Said):
    """Colours laid over what is there."""

    by: By = By()
    colours: tuple[tuple[float, Hex], ...]
    mask: Mask | None = None
    amount: float = Field(1.0, ge=0, le=1)
    mix: MixMode = "replace"
    dial: str = Field("", description="Name of a dial that moves its amount.")


class Level(_Said):
    """Plain numbers laid over what is there."""

    by: By = By()
    start: float = 0.5
    end: float = 0.5
    mask: Mask | None = None


class More(_Said):
    """Another pattern, after the first."""

    step: str
    settings: dict[str, Any] = {}
    mix: MixMode = "add"
    amount: float = Field(1.0, ge=0, le=1)
    mask: Mask | None = None


class Beginning(_Said):
    """A pattern that a material may begin from.

    Attributes
    ----------
    name, title, says, family : str
        Key, words on screen, and where it stands among the others.
    words : tuple of str
        By which somebody may look for it.
    size_mm : tuple of float
        Of one repeat.
    step, settings
        The pattern itself.
    more : tuple of More
        Further patterns: added to the relief, or threads to colour by.
    mottle : tuple of float
        Scale in mm and octaves of the noise called ``mottle``, which layers may go by.
    layers, roughness, metallic, opacity
        What it looks like, each in order.
    """

    name: str = Field(pattern=r"^[a-z][a-z0-9-]*$")
    title: str
    says: str
    family: str
    words: tuple[str, ...] = ()
    size_mm: tuple[float, float]
    step: str
    settings: dict[str, Any] = {}
    more: tuple[More, ...] = ()
    mottle: tuple[float, int] = (200.0, 6)
    layers: tuple[Layer, ...]
    roughness: tuple[Level, ...]
    metallic: tuple[Level, ...] = (Level(start=0.0, end=0.0),)
    opacity: tuple[Level, ...] = ()
    made: dict[str, dict[str, Any]] = Field({}, description="Settings of the steps that make normal and occlusion, by thread.")


@cache
def beginnings() -> dict[str, Beginning]:
    """Every pattern that ships, by name, family by family.

    >>> len(beginnings()) >= 40
    True
    """
    folder = resources.files("silent_loom.core") / "recipes" / "patterns"
    found: list[Beginning] = []
    for file in sorted(folder.iterdir(), key=lambda f: f.name):
        if file.name.endswith(".json"):
            with passed_over(f"recipes/patterns/{file.name}"):
                family = json.loads(file.read_text("utf-8"))
                found += [Beginning.model_validate({"family": family["family"], **one}) for one in family["patterns"]]
    return {b.name: b for b in found}


def beginning(name: str) -> Beginning:
    """One pattern.

    Raises
    ------
    WeaveError
        There is none of this name.

    >>> beginning("gravel").title
    'Gravel'
    """
    if name not in beginnings():
        near = [n for n in beginnings() if name[:4] in n] or list(beginnings())
        raise WeaveError(f"there is no pattern called '{name[:60]}'", "pattern", f"There are {', '.join(near[:12])} …")
    return beginnings()[name]


def woven_from(
    name: str, *, seed: int | None = None, settings: Mapping[str, Any] | None = None, size_mm: tuple[float, float] | None = None
) -> Weave:
    """A weave that begins from a pattern: relief, colour, finish, each a group with its dials.

    Parameters
    ----------
    seed : int, optional
        Another one of the same kind.
    settings : mapping
        Changed settings of the pattern's own step.
    size_mm : tuple of float, optional
        Of one repeat; the pattern keeps its own size in millimetres.

    Raises
    ------
    WeaveError, SettingError

    >>> [row.step for row in woven_from("gravel").rows()][-3:]
    ['grade', 'normal', 'occlusion']
    """
    told = beginning(name)
    width, height = size_mm or told.size_mm
    ground = told.layers[0].colours[len(told.layers[0].colours) // 2][1]
    sheet = StepEntry(
        step=registry.able("sheet"), settings={"colour": ground, "width_mm": float(width), "height_mm": float(height)}
    )
    made = [
        StepEntry(step=step, settings=told.made.get(thread, {}))
        for thread in ("normal", "occlusion")
        if (step := registry.maker(thread)) is not None
    ]
    return Weave(steps=(sheet, *of_pattern(name, seed, settings or {}), *made))


def of_pattern(name: str, seed: int | None, settings: Mapping[str, Any]) -> tuple[Entry, ...]:
    """Relief, colours and finish of a pattern, for a sheet that is there already; see `woven_from`.

    Raises
    ------
    WeaveError, SettingError

    >>> [type(entry).__name__ for entry in of_pattern("gravel", 3, {})][:1]
    ['GroupEntry']
    """
    told = beginning(name)
    own = {**told.settings, **dict(settings)}
    if seed is not None:
        own["seed"] = seed
    unknown = next((k for k in own if k not in registry.fields(told.step)), None)
    if unknown is not None:
        raise SettingError(
            "there is no such setting", f"{told.title}.{unknown}", f"It takes: {', '.join(registry.fields(told.step))}."
        )
    registry.settings_of(told.step, own)
    later = 1000 * (seed or 0)
    relief = [StepEntry(step=told.step, settings=own), *(_more(m, later) for m in told.more)]
    return (
        GroupEntry(name="Relief", rows=tuple(relief)) if len(relief) > 1 else relief[0],
        _coloured(told, later),
        _finished(told),
    )


def _more(more: More, later: int) -> StepEntry:
    seed = {"seed": int(more.settings.get("seed", 1)) + later}
    return StepEntry(step=more.step, settings={**more.settings, **seed}, mix=more.mix, amount=more.amount, mask=more.mask)


def _by(by: By) -> dict[str, Any]:
    return by.model_dump(exclude_defaults=True)


def _coloured(told: Beginning, later: int) -> GroupEntry:
    scale, octaves = told.mottle
    noise = {"scale_mm": scale, "octaves": octaves, "warp": 0.4, "seed": 77 + later, "into": "mottle"}
    rows = [StepEntry(step=registry.able("noise"), settings=noise)]
    dials: dict[str, list[tuple[str, float]]] = {}
    for layer in told.layers:
        stops = [[at, *_rgb(colour)] for at, colour in layer.colours]
        row = StepEntry(
            step=registry.able("dye"),
            settings={**_by(layer.by), "ramp": stops},
            mask=layer.mask,
            amount=layer.amount,
            mix=layer.mix,
            note=layer.dial or (f"in {layer.mask.thread}" if layer.mask is not None else ""),
        )
        rows.append(row)
        if layer.dial:
            dials.setdefault(layer.dial, []).append((row.id, layer.amount))
    turned = tuple(
        Dial(
            title=title,
            value=0.5,
            drives=tuple(
                Drive(row=row, setting=AMOUNT, low=0.0, high=1.0, curve=((0.0, 0.0), (0.5, amount), (1.0, 1.0)))
                for row, amount in moved
            ),
        )
        for title, moved in dials.items()
    )
    return GroupEntry(name="Colour", rows=tuple(rows), dials=turned)


def _finished(told: Beginning) -> GroupEntry:
    rows: list[StepEntry] = []
    for thread, levels in (("roughness", told.roughness), ("metallic", told.metallic), ("opacity", told.opacity)):
        for level in levels:
            values = {**_by(level.by), "start": level.start, "end": level.end, "into": thread}
            rows.append(StepEntry(step=registry.able("grade"), settings=values, mask=level.mask, note=_noted(thread, level.mask)))
    drives = tuple(
        Drive(row=r.id, setting=end, low=0.0, high=1.0, curve=_around(r.settings[end]))
        for r in rows
        if r.settings["into"] == "roughness"
        for end in ("start", "end")
    )
    return GroupEntry(name="Finish", rows=tuple(rows), dials=(Dial(title="Matt", value=0.5, drives=drives),))


def _noted(thread: str, mask: Mask | None) -> str:
    return thread if mask is None else f"{thread} in {mask.thread}"


def _rgb(colour: Hex) -> list[float]:
    value = int(colour.removeprefix("#"), 16)
    return [round(((value >> shift) & 255) / 255, 4) for shift in (16, 8, 0)]


def _around(value: float, reach: float = 0.35) -> tuple[tuple[float, float], ...]:
    """A dial whose middle is a value, and whose ends are as far from it as they may be."""
    return ((0.0, max(0.0, value - reach)), (0.5, value), (1.0, min(1.0, value + reach)))
