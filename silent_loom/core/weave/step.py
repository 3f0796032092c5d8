"""What a step is: settings, ports, a pure function, a version. Everything else is made from this declaration."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, ClassVar, Generic, Protocol, TypeVar

from silent_loom.core.files import Picture
from silent_loom.core.images import Image
from silent_loom.core.parallel import Task
from silent_loom.core.weave.decision import NONE, Decision
from silent_loom.core.weave.settings import Settings

DECISION_SIZE = 1024
"""Texels along the longer side at which steps decide, unless an evaluator is told otherwise."""

Texels = tuple[float, float]
"""Millimetres of a sheet over its texel pitch. Above a step that consumes an overlap it is seldom whole: the array then
has the nearest whole number of texels, of exactly that pitch, and ends up to half a texel before or beyond the sheet."""

S = TypeVar("S", bound=Settings)


@dataclass(frozen=True)
class Geometry:
    """The sheet at one place of a weave, before anything is computed.

    Attributes
    ----------
    size_mm : tuple of float
        Width and height.
    wraps : bool
    native : tuple of int, or None
        Texels of the source that is still whole here (a photo), which no larger size improves.
    focal_px, focal_error : float
        Focal length of that source in its native texels and its relative uncertainty; 0 when unknown.
    """

    size_mm: tuple[float, float] = (1000.0, 1000.0)
    wraps: bool = False
    native: tuple[int, int] | None = None
    focal_px: float = 0.0
    focal_error: float = 0.0

    def texels(self, texel_mm: float) -> tuple[int, int]:
        """Width and height in texels at a pitch."""
        return max(1, round(self.size_mm[0] / texel_mm)), max(1, round(self.size_mm[1] / texel_mm))

    def at_longer_side(self, size: int) -> tuple[int, int]:
        """Width and height in texels with ``size`` along the longer side."""
        return self.texels(max(self.size_mm) / size)


@dataclass(frozen=True)
class SourceInfo:
    """What is known of a file without holding its pixels: upright size, focal length in pixels, alpha or not."""

    width: int
    height: int
    focal_px: float = 0.0
    focal_error: float = 0.0
    alpha: bool = False


class Sources(Protocol):
    """Gives the files behind a weave by their content hash."""

    def picture(self, digest: str) -> Picture: ...

    def info(self, digest: str) -> SourceInfo: ...


def info_of(picture: Picture) -> SourceInfo:
    """The facts of a decoded file."""
    focal = picture.exif.focal_px or 0.0
    return SourceInfo(picture.width, picture.height, focal, picture.exif.focal_error, picture.alpha is not None)


def whole(texels: Texels) -> tuple[int, int]:
    """Width and height of the array for a demand."""
    return max(1, round(texels[0])), max(1, round(texels[1]))


class Step(ABC, Generic[S]):
    """One operation. Subclasses are found by the registry; adding one needs no edit elsewhere.

    Class attributes
    ----------------
    name, title, sentence : str
        Key in a weave, word on screen, what it does.
    version : int
        Raised whenever the same settings would give other samples.
    Settings : type
        Pydantic model of its settings.
    """

    name: ClassVar[str]
    title: ClassVar[str]
    sentence: ClassVar[str]
    words_for_it: ClassVar[tuple[str, ...]] = ()
    """Plain words by which somebody may look for it, besides those of its title and sentence."""
    version: ClassVar[int] = 1
    geometric: ClassVar[bool] = False
    """True when it moves pixels: then it carries every thread present, and is on or off, never mixed."""
    decides: ClassVar[bool] = False
    decision_scale: ClassVar[float] = 1.0
    """Part of the decision size that is enough for what it decides; 0 when it needs no pixels at all."""
    Settings: ClassVar[type[Settings]]

    def reads(self, s: S) -> tuple[str, ...]:
        """Threads it reads, besides those that a geometric step carries."""
        return ()

    def writes(self, s: S) -> tuple[str, ...]:
        """Threads it writes, besides those that a geometric step carries."""
        return ()

    def geometry(self, s: S, before: Geometry, sources: Sources) -> Geometry:
        """The sheet after the step."""
        return before

    def demand(self, s: S, before: Geometry, after: Geometry, texels: Texels) -> Texels:
        """Width and height in texels of its inputs that a result of ``texels`` needs; see `Texels`."""
        return texels

    def coarser(self, s: S, after: Geometry, texels: Texels) -> tuple[Texels, ...]:
        """Smaller sizes, in texels and from small to large, at which it reads its inputs, too: see `Sheet.coarser`.

        For a step whose small answers are not its large ones reduced, unless the large ones keep to the small ones.
        """
        return ()

    def idle(self, s: S) -> bool:
        """True when these settings change nothing; the step is then passed over."""
        return False

    def words(self, s: S) -> str:
        """What these settings come to, in a few words for the chart."""
        return ""

    def decide(self, s: S, inputs: Mapping[str, Image], geometry: Geometry, task: Task) -> Decision:
        """Decide once, on inputs at the decision size."""
        return NONE


class MapStep(Step[S]):
    """A step that keeps the geometry: reads threads, writes threads."""

    @abstractmethod
    def run(self, s: S, inputs: Mapping[str, Image], decision: Decision, sheet: Sheet, task: Task) -> dict[str, Image]:
        """Compute the threads it writes, at the size of ``sheet``."""


class CarryStep(Step[S]):
    """A geometric step: decides a field once and applies it to every thread present."""

    geometric: ClassVar[bool] = True

    @abstractmethod
    def carry(self, s: S, image: Image, decision: Decision, sheet: Sheet, task: Task) -> Image:
        """Apply the field to one thread."""


@dataclass(frozen=True)
class Sheet:
    """What is asked of a step: the geometry before and after it, the texels after it, and the sources.

    Attributes
    ----------
    coarser : tuple of mappings
        The step's inputs at every size that its `Step.coarser` asks for.
    """

    before: Geometry
    after: Geometry
    texels: Texels
    sources: Sources
    coarser: tuple[Mapping[str, Image], ...] = ()

    @property
    def width(self) -> int:
        return whole(self.texels)[0]

    @property
    def height(self) -> int:
        return whole(self.texels)[1]

    @property
    def pitch(self) -> tuple[float, float]:
        """Width and height of a texel in millimetres."""
        return self.after.size_mm[0] / self.texels[0], self.after.size_mm[1] / self.texels[1]

    @property
    def size_mm(self) -> tuple[float, float]:
        """What the array covers."""
        return self.width * self.pitch[0], self.height * self.pitch[1]


AnyStep = Step[Any]
