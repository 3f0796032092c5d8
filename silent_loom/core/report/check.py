"""Checks of maps: whether what they hold is plausible."""

from __future__ import annotations

import importlib
import pkgutil
from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cache, cached_property
from typing import Any, Protocol, cast

from silent_loom.core.base.images import Image
from silent_loom.core.base.troubles import passed_over
from silent_loom.core.files.write import is_constant
from silent_loom.core.report import checks as folder
from silent_loom.core.weave.threads import ThreadSpec


@dataclass(frozen=True)
class Checked:
    """A map to be checked.

    Attributes
    ----------
    image : Image
        Small is enough: about 256 texels.
    meaning : ThreadSpec
        What the map is.
    sheet : mapping
        Figures of the sheet: see `ways.measuring.measure`; and ``on_model`` where the map lies in the UVs of a model, and so
        repeats nowhere.
    """

    image: Image
    meaning: ThreadSpec
    sheet: Mapping[str, Any] = field(default_factory=dict)

    @cached_property
    def constant(self) -> bool:
        return is_constant(self.image.pixels)


@dataclass(frozen=True)
class Mend:
    """What mends something odd in one press: settings of a step that makes the map, or of a new one after it."""

    words: str
    step: str
    settings: Mapping[str, Any]
    adds: bool = False
    """The step is added where the map is not made by one of its kind; otherwise there is nothing to press then."""
    anew: bool = False
    """A step of its own is added even where there is one of its kind: that one is set to what the artist wanted."""


@dataclass(frozen=True)
class Odd:
    """Something odd about a map: the check that found it, in a few words, explained, and what mends it."""

    check: str
    words: str
    says: str
    mend: Mend | None


class Check(Protocol):
    """A kind of oddity: a module of `checks`, which may have ``mend(what)`` besides, the cure of what it found."""

    __name__: str
    SAYS: str
    """What it means, and why it matters."""
    PLACE: float
    """Where it comes among the checks."""

    def found(self, what: Checked) -> list[str]:
        """What is odd, a few words each."""
        ...


@cache
def kinds() -> tuple[Check, ...]:
    """Every check, in the order in which it is said.

    >>> [k.__name__.rpartition(".")[2] for k in kinds()][:2]
    ['constant', 'clipped']
    """
    found: list[Check] = []
    for info in pkgutil.iter_modules(folder.__path__):
        with passed_over(f"report/checks/{info.name}.py"):
            module = importlib.import_module(f"{folder.__name__}.{info.name}")
            if not (callable(module.found) and isinstance(module.SAYS, str) and isinstance(module.PLACE, int | float)):
                raise TypeError("it has no found(), SAYS or PLACE")
            found.append(cast(Check, module))
    return tuple(sorted(found, key=lambda module: module.PLACE))


def checked(image: Image, meaning: ThreadSpec, sheet: Mapping[str, Any] | None = None) -> list[str]:
    """Everything that is odd about a map, a few words each.

    >>> import numpy as np
    >>> from silent_loom.core.base.images import Kind
    >>> from silent_loom.core.weave.threads import spec
    >>> checked(Image(np.full((8, 8, 1), 0.5, np.float32), Kind.DATA), spec("metallic"))[:1]
    ['constant 0.5']
    """
    what = Checked(image, meaning, sheet or {})
    return [words for kind in kinds() for words in kind.found(what)]


def told(image: Image, meaning: ThreadSpec, sheet: Mapping[str, Any] | None = None) -> list[Odd]:
    """Everything that is odd about a map, explained, each with what mends it.

    >>> import numpy as np
    >>> from silent_loom.core.base.images import Kind
    >>> from silent_loom.core.weave.threads import spec
    >>> [odd.words for odd in told(Image(np.full((8, 8, 1), 0.5, np.float32), Kind.DATA), spec("roughness"))][:1]
    ['constant 0.5']
    """
    what = Checked(image, meaning, sheet or {})
    found = []
    for kind in kinds():
        words = kind.found(what)
        if words:
            mend = kind.mend(what) if hasattr(kind, "mend") else None
            found.append(Odd(kind.__name__.rpartition(".")[2], ", ".join(words), kind.SAYS, mend))
    return found
