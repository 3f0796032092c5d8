"""What all patterns have in common: a relief out of nothing, and threads that tell where its parts lie."""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import Any, ClassVar, Literal, TypeVar

import cv2
import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.images import Floats, Image, Kind, data
from silent_loom.core.base.parallel import Task
from silent_loom.core.maps.elements import RANDOMS
from silent_loom.core.moving.resample import reduce_area
from silent_loom.core.patterns.ground import Ground
from silent_loom.core.patterns.laying import Laid, covered
from silent_loom.core.weave import threads
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.settings import Settings, ThreadName, setting
from silent_loom.core.weave.step import MapStep, Sheet
from silent_loom.core.weave.threads import ThreadSpec

ENOUGH = 1024
"""Longer side below which patterns are drawn finer than asked for and reduced: small pictures are large ones seen from afar."""

HELPERS = {
    "id": threads.helper("id", Kind.ID, title="Elements"),
    "joint": threads.helper("joint", title="Joint"),
    "border": threads.helper("border", title="Border", unit="mm", low=0.0, high=100.0),
    "random": threads.helper("random", Kind.CHANNELS, title="Random", channels=RANDOMS),
    "gradient": threads.helper("gradient", title="Gradient"),
    "orientation": threads.helper("orientation", Kind.VECTOR, title="Orientation"),
}
"""The threads by which elements are told, the same ones that are told from a photo; any other helper is plain numbers."""


def relief(default: float) -> Any:
    """The setting of a relief's depth."""
    return setting(
        default,
        "From the lowest to the highest place, where it makes the height.",
        title="Depth",
        unit="mm",
        low=0.0,
        high=10_000,
        soft=(0.01, 100),
        log=True,
        when={"into": ["height"]},
    )


def length(default: float, say: str, title: str = "", *, soft: tuple[float, float] = (1, 1000), low: float = 0.01) -> Any:
    """A setting that is a length on the sheet."""
    return setting(default, say, title=title, unit="mm", low=low, high=100_000, soft=soft, log=low > 0)


def part(default: float, say: str, title: str = "", ends: tuple[str, str] | None = None, high: float = 1.0) -> Any:
    """A setting from nothing to all of it."""
    return setting(default, say, title=title, low=0.0, high=high, step=0.01, ends=ends)


class PatternSettings(Settings):
    last = ("depth_mm", "seed", "into")

    depth_mm: float = relief(10.0)
    seed: int = setting(1, "Another one of the same kind.", low=0, high=2**31 - 1, step=1)
    into: ThreadName = setting(
        "height",
        "The height in millimetres, or a thread of another name from 0 to 1; its helpers then carry that name, too.",
        title="Makes",
        shape="thread",
        kinds=(Kind.DATA,),
        new=True,
    )


S = TypeVar("S", bound=PatternSettings)


@dataclass
class Drawn:
    """What a pattern comes to.

    Attributes
    ----------
    height : float32 array, shape (H, W)
        0…1.
    more : dict of arrays
        Its helpers: shape (H, W), or (H, W, C).
    """

    height: Floats
    more: dict[str, NDArray[Any]] = field(default_factory=dict)


class Pattern(MapStep[S]):
    """A pattern that repeats, whatever the sheet's size; on a sheet that does not wrap it is one repeat of it."""

    can = frozenset({"pattern"})
    gives: ClassVar[tuple[str, ...]] = ()
    """Its helpers."""

    @abstractmethod
    def draw(self, s: S, ground: Ground, decision: Decision, task: Task) -> Drawn:
        """The pattern on a ground."""

    def works_on(self, s: S) -> Literal["both", "sheet", "model"]:
        return "sheet"

    def breadth(self, s: S) -> float:
        """Millimetres from the border of an element that are shown as white."""
        return 100.0

    def finest(self, s: S) -> float:
        lengths = (getattr(s, n) for n in type(s).model_fields if n.endswith("_mm") and n != "depth_mm")
        return min((v for v in lengths if v > 0), default=0.0)

    def _named(self, s: S, helper: str) -> str:
        return helper if s.into == "height" else f"{s.into}_{helper}"[:60]

    def writes(self, s: S) -> tuple[str, ...]:
        return (s.into, *(self._named(s, h) for h in self.gives))

    def mixed(self, s: S) -> tuple[str, ...]:
        return (s.into,)

    def makes(self, s: S) -> tuple[ThreadSpec, ...]:
        own = threads.spec(s.into)
        if s.into == "height":
            own = own.over(max(s.depth_mm, 1e-6))
        return (own, *(self._meaning(s, h) for h in self.gives))

    def _meaning(self, s: S, helper: str) -> ThreadSpec:
        usual = HELPERS.get(helper) or threads.helper(helper)
        if helper == "border":
            usual = replace(usual, high=max(self.breadth(s), 1e-6))
        name = self._named(s, helper)
        return usual if name == usual.name else replace(usual, name=name, title=f"{usual.title} of {s.into.replace('_', ' ')}")

    def run(self, s: S, inputs: Mapping[str, Image], decision: Decision, sheet: Sheet, task: Task) -> dict[str, Image]:
        fine = finer(sheet)
        period = tuple(mm / pitch * fine for mm, pitch in zip(sheet.after.size_mm, sheet.pitch, strict=True))
        ground = Ground(sheet.width * fine, sheet.height * fine, sheet.after.size_mm, (period[0], period[1]))
        drawn = self.draw(s, ground, decision, task)
        like = Image(np.empty((sheet.height, sheet.width, 1), np.float32), Kind.DATA, sheet.size_mm, sheet.after.wraps)
        plane = reduced(drawn.height, fine)
        if s.into == "height":
            plane = (plane - np.float32(0.5)) * np.float32(s.depth_mm)
        made = {s.into: data(plane, like)}
        for helper, samples in drawn.more.items():
            kind = self._meaning(s, helper).kind
            pixels = samples if samples.ndim == 3 else samples[..., None]
            mean = kind is Kind.DATA
            small = reduced(pixels, fine) if mean else pixels[fine // 2 :: fine, fine // 2 :: fine]
            made[self._named(s, helper)] = Image(np.ascontiguousarray(small, np.float32), kind, sheet.size_mm, sheet.after.wraps)
        return made


def finer(sheet: Sheet) -> int:
    """How many times as fine as asked for a pattern is drawn: a small picture is a large one reduced.

    >>> from silent_loom.core.weave.step import Geometry
    >>> square = Geometry((100.0, 100.0))
    >>> [finer(Sheet(square, square, (n, n), None)) for n in (128.0, 4096.0)]
    [4, 1]
    """
    longer = max(sheet.width, sheet.height)
    return 1 if longer >= ENOUGH else min(4, -(-ENOUGH // longer)) if longer < 512 else 2


def reduced(samples: NDArray[Any], fine: int) -> Floats:
    """Means of blocks of texels.

    >>> reduced(np.arange(4, dtype=np.float32).reshape(2, 2), 2).tolist()
    [[1.5]]
    """
    if fine == 1:
        return np.ascontiguousarray(samples, np.float32)
    return reduce_area(np.ascontiguousarray(samples, np.float32), samples.shape[1] // fine, samples.shape[0] // fine)


def told(laid: Laid, ground: Ground, seed: int, names: tuple[str, ...], depth: Floats | None = None) -> dict[str, NDArray[Any]]:
    """The helpers of elements that were laid; ``depth`` is the distance from their borders, where `Laid.depth` is not.

    >>> from silent_loom.core.patterns.laying import beside, items
    >>> ground = Ground.of(32, 32, (100.0, 100.0))
    >>> found = beside(ground, items([25.0, 75.0], [50.0, 50.0], 20.0, 40.0), 10.0)
    >>> sorted(told(found, ground, 1, ("id", "joint")))
    ['id', 'joint']
    """
    far = laid.depth if depth is None else depth
    make = {
        "id": lambda: laid.ids,
        "joint": lambda: 1 - covered(far, ground),
        "border": lambda: np.maximum(far, 0),
        "random": lambda: laid.chances(seed),
        "gradient": lambda: laid.u * np.float32(0.5) + np.float32(0.5),
        "orientation": laid.axes,
    }
    return {name: make[name]() for name in names}


def turned(samples: NDArray[Any]) -> NDArray[Any]:
    """What was drawn on a sheet with its sides changed, turned back: rows for columns.

    >>> turned(np.arange(6).reshape(2, 3)).shape
    (3, 2)
    """
    return np.asarray(cv2.transpose(np.ascontiguousarray(samples)))  # in blocks; numpy's own walks across all of memory


def usual(values: Floats, low: float, high: float) -> Floats:
    """Values between two levels as 0…1, what lies beyond cut off.

    >>> usual(np.array([1.0, 2.5, 5.0], np.float32), 2.0, 4.0).tolist()
    [0.0, 0.25, 1.0]
    """
    t = (values - np.float32(low)) * np.float32(1 / (high - low))
    return np.clip(t, 0, 1, out=t)
