"""Dials and seeds of a whole weave: found by name, set, shaken, and what lies between two settings of one weave."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from silent_loom.core.base.errors import SettingError
from silent_loom.core.weave import registry
from silent_loom.core.weave.rows import edit, tree
from silent_loom.core.weave.rows.model import Dial, GroupEntry, StepEntry, Weave

SEEDS = 1_000_000
"""Seeds stay below this, which every step takes."""


@dataclass(frozen=True)
class Knob:
    """A dial, and where it is.

    Attributes
    ----------
    name : str
        The title in small letters; where two share one, the outermost has it, and others have their group before it.
    group : str
        Id of its group.
    depth : int
        Groups around it: dials of outer groups move those of inner ones.
    """

    name: str
    group: str
    depth: int
    dial: Dial


def knobs(weave: Weave) -> list[Knob]:
    """Every dial of a weave that nothing else moves, the outermost first.

    >>> from silent_loom.core.weave.rows.saved import shipped
    >>> type(knobs(next(iter(shipped().values())).weave)).__name__
    'list'
    """
    found: list[tuple[str, str, int, Dial]] = []
    moved: set[tuple[str, str]] = set()
    for place in tree.walk(weave.steps):
        for dial in getattr(place.entry, "dials", ()):
            moved |= {(d.row, d.setting) for d in dial.drives}
            found.append((tree.slug(dial.title), place.entry.id, len(place.parents), dial))
    free = [f for f in found if (f[1], f[3].id) not in moved]
    free.sort(key=lambda f: f[2])
    made: list[Knob] = []
    for name, group, depth, dial in free:
        told = any(k.name == name for k in made)
        made.append(Knob(f"{tree.path_of(weave.steps, group)}.{name}" if told else name, group, depth, dial))
    return made


def turned(weave: Weave, values: Mapping[str, float]) -> Weave:
    """A weave with dials set, by their names or ids.

    Raises
    ------
    SettingError
        There is no such dial, or it does not go so far.

    >>> from silent_loom.core.weave.rows.saved import shipped_recipe
    >>> weave = shipped_recipe("slate-roof").weave
    >>> name, high = knobs(weave)[0].name, knobs(weave)[0].dial.high
    >>> knobs(turned(weave, {name: high}))[0].dial.value == high
    True
    """
    if not values:
        return weave
    known = {k.name: k for k in knobs(weave)} | {k.dial.id: k for k in knobs(weave)}
    for name, value in values.items():
        knob = known.get(name) or known.get(tree.slug(name))
        if knob is None:
            names = ", ".join(k.name for k in knobs(weave)) or "none"
            raise SettingError("there is no such dial", name, f"There are {names}.")
        if not isinstance(value, int | float) or isinstance(value, bool) or not knob.dial.low <= value <= knob.dial.high:
            raise SettingError(
                f"this dial goes from {knob.dial.low:g} to {knob.dial.high:g}", f"{name}={value}", "Give a number between."
            )
        weave = edit.set_values(weave, knob.group, {knob.dial.id: float(value)})
    return weave


def reseeded(weave: Weave, number: int) -> Weave:
    """Another one of the same kind: every seed of its steps moved on by a number that follows from ``number``; 0 changes none.

    Raises
    ------
    SettingError
        The number is negative.

    >>> from silent_loom.core.weave.rows.beginnings import woven_from
    >>> reseeded(woven_from("gravel"), 5) == woven_from("gravel")
    False
    """
    if number < 0:
        raise SettingError("a seed is 0 or more", f"--seed {number}", "Give another one.")
    if number == 0:
        return weave
    for row in weave.rows():
        if "seed" in registry.fields(row.step):
            now = int(getattr(registry.settings_of(row.step, row.settings), "seed", 0))
            weave = weave.with_settings(row.id, {"seed": (now + 7919 * number) % SEEDS})
    return weave


@dataclass(frozen=True)
class Variant:
    """One of many: the number that its seeds go on by, and where its dials stand (by id)."""

    seed: int = 0
    dials: tuple[tuple[str, float], ...] = ()

    def of(self, weave: Weave) -> Weave:
        """The weave as this variant has it.

        Raises
        ------
        SettingError
        """
        return turned(reseeded(weave, self.seed), dict(self.dials))


def variants(
    weave: Weave, count: int, dials: Sequence[str], spread: float = 0.6, seeds: bool = True, first: int = 1
) -> list[Variant]:
    """Many of one kind, the same ones whenever they are asked for.

    Dials are spread evenly over what is asked for: a rank-1 sequence with irrational steps (the generalised golden ratio; Roberts
    2018, 'The unreasonable effectiveness of quasirandom sequences'), so that nine variants of three dials leave no corner out.

    Parameters
    ----------
    count : int
    dials : sequence of str
        Names or ids of the dials that are shaken.
    spread : float
        Part of each dial's range that they may take, around where it stands.
    seeds : bool
        Whether each has seeds of its own.
    first : int
        Number of the first one; the next sheet goes on where the last ended.

    Raises
    ------
    SettingError
        There is nothing to vary.

    >>> from silent_loom.core.weave.rows.saved import shipped_recipe
    >>> [v.seed for v in variants(shipped_recipe("slate-roof").weave, 2, [], 0.5, True, 1)]
    [1, 2]
    """
    known = {k.name: k for k in knobs(weave)} | {k.dial.id: k for k in knobs(weave)}
    unknown = next((d for d in dials if d not in known), None)
    if unknown is not None:
        raise SettingError("there is no such dial", unknown, f"There are {', '.join(k.name for k in knobs(weave)) or 'none'}.")
    if not dials and not (seeds and has_seeds(weave)):
        raise SettingError("nothing in this weave can vary by itself", "variations", "Choose a dial, or a step with a seed.")
    step = _golden(max(len(dials), 1))
    made = []
    for i in range(first, first + count):
        places = []
        for k, name in enumerate(dials):
            dial = known[name].dial
            reach = spread * (dial.high - dial.low)
            low = min(max(dial.value - reach / 2, dial.low), dial.high - reach)
            u = (0.5 + i / step ** (k + 1)) % 1.0
            places.append((dial.id, round(low + u * reach, 4)))
        made.append(Variant(i if seeds else 0, tuple(places)))
    return made


def has_seeds(weave: Weave) -> bool:
    """Whether any step of a weave goes by chance.

    >>> from silent_loom.core.weave.rows.beginnings import woven_from
    >>> has_seeds(woven_from("gravel"))
    True
    """
    return any("seed" in registry.fields(r.step) for r in weave.rows())


def _golden(d: int) -> float:
    """The root of x^(d+1) = x + 1: 1.618 for one dial."""
    x = 2.0
    for _ in range(64):
        x = (1 + x) ** (1 / (d + 1))
    return float(x)


def between(a: Weave, b: Weave, share: float) -> Weave:
    """What lies between two settings of one weave: dials, numbers, colours and amounts part of the way from one to the other.

    What cannot lie between (seeds, words, switches, lists of unequal length) is that of the nearer one.

    Raises
    ------
    SettingError
        Both are not made of the same rows.

    >>> from silent_loom.core.weave.rows.beginnings import woven_from
    >>> weave = woven_from("gravel")
    >>> between(weave, weave, 0.5) == weave
    True
    """
    ours, theirs = [list(tree.walk(w.steps)) for w in (a, b)]
    if [_same(p.entry) for p in ours] != [_same(p.entry) for p in theirs]:
        raise SettingError("these two are not made of the same rows", "blend", "Lay one over the other instead.")
    made = a if share < 0.5 else b
    for one, other in zip(ours, theirs, strict=True):
        x, y = one.entry, other.entry
        now = made.at(x.id)
        update: dict[str, Any] = {"amount": _mixed("amount", x.amount, y.amount, share)}
        if isinstance(now, GroupEntry) and isinstance(x, GroupEntry) and isinstance(y, GroupEntry):
            if len(x.dials) == len(y.dials):
                pairs = zip(now.dials, x.dials, y.dials, strict=True)
                update["dials"] = tuple(
                    n.model_copy(update={"value": p.value + (q.value - p.value) * share}) for n, p, q in pairs
                )
        elif isinstance(x, StepEntry) and isinstance(y, StepEntry):
            mine, its = (registry.settings_of(e.step, e.settings).model_dump() for e in (x, y))
            differing = {k: _mixed(k, v, its[k], share) for k, v in mine.items() if k in its and its[k] != v}
            update["settings"] = {**now.settings, **registry.plain(differing)}  # type: ignore[union-attr]
        made = made.with_entry(now.model_copy(update=update))
    return made


def _same(entry: Any) -> tuple[str, str]:
    return (entry.id, getattr(entry, "step", ""))


def _mixed(name: str, a: Any, b: Any, t: float) -> Any:
    if isinstance(a, bool) or isinstance(b, bool) or name == "seed":
        return a if t < 0.5 else b
    if isinstance(a, int | float) and isinstance(b, int | float):
        value = a + (b - a) * t
        return round(value) if isinstance(a, int) and isinstance(b, int) else value
    if isinstance(a, list | tuple) and isinstance(b, list | tuple) and len(a) == len(b):
        return [_mixed(name, x, y, t) for x, y in zip(a, b, strict=True)]
    return a if t < 0.5 else b
