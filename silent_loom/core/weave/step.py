"""What a step is: settings, ports, a pure function, a version. Everything else is made from this declaration."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any, ClassVar, Generic, Literal, Protocol, TypeVar

import numpy as np

from silent_loom.core.base.images import Image
from silent_loom.core.base.parallel import Task
from silent_loom.core.files import Picture
from silent_loom.core.weave.decision import NONE, Decision
from silent_loom.core.weave.on_model import OnModel
from silent_loom.core.weave.settings import Settings
from silent_loom.core.weave.threads import ThreadSpec, spec

if TYPE_CHECKING:
    from silent_loom.core.form.model import Model

DECISION_SIZE = 1024
"""Texels along the longer side at which steps decide, unless an evaluator is told otherwise."""

Texels = tuple[float, float]
"""Millimetres of a sheet over its texel pitch. Above a step that consumes an overlap it is seldom whole: the array then
has the nearest whole number of texels, of exactly that pitch, and ends up to half a texel before or beyond the sheet."""

S = TypeVar("S", bound=Settings)

ABLE = {
    "photo": "brings a photo in, by its setting 'source'",
    "straighten": "takes corners of a rectangle on the photo, and states the real size of the sheet",
    "close": "closes the sheet at its edges",
    "light": "takes uneven light out",
    "strokes": "takes strokes of the hand, by its setting 'layers'",
    "fill": "fills marked places from the rest of the surface, by its setting 'regions'",
    "mask": "makes a mask, whose name is its setting 'name', of marked places",
    "marks": "marks places, by its setting 'regions'",
    "grow": "makes a larger sheet out of pieces of what comes in",
    "break": "breaks the repetition of a sheet up",
    "depth": "reads a relief, whose depth is its setting 'depth_mm'",
    "shading": "reads a relief from shading, whose light is its setting 'light_deg'",
    "maps": "brings finished maps in, by its setting 'maps'",
    "single": "makes a thread of one channel of another, by its settings 'thread', 'channel', 'invert', 'name' and 'whole'",
    "chart": "puts a test chart in place of a thread, by its settings 'chart' and 'into'",
    "metal": "says where the surface is bare metal, by its settings 'mode' and 'value'",
    "joints": "works on what lies between elements, by its setting 'rough'",
    "tone": "changes the tones of a thread, by its settings 'thread', 'gain' and 'brightness'",
    "unstep": "smooths the stairs of few codes out of a thread, by its settings 'thread' and 'levels'",
    "dye": "lays colours over a thread's values, by its settings 'thread', 'channel', 'ramp', 'low', 'high' and 'into'",
    "grade": "lays numbers over a thread's values, by its settings 'thread', 'start', 'end' and 'into'",
    "noise": "makes a random relief, by its settings 'scale_mm', 'depth_mm' and 'into'",
    "pattern": "makes a relief out of nothing, and threads that tell where its parts lie",
    "where": "makes a mask, whose name is its setting 'name', that knows the surface",
    "shown": "makes a mask, its setting 'name', that is shown over the picture while the row is chosen",
    "sheet": "makes a sheet of its own, whose size is its settings 'width_mm' and 'height_mm'",
    "lay on": "lays the sheet on a model, by its settings 'model' and 'uv'",
}
"""What steps may say that they can do (`Step.can`)."""


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
    on : OnModel, optional
        The model that everything lies on from here down, in the square of its UVs; None on a sheet. This is the one place where
        it is said.
    """

    size_mm: tuple[float, float] = (1000.0, 1000.0)
    wraps: bool = False
    native: tuple[int, int] | None = None
    focal_px: float = 0.0
    focal_error: float = 0.0
    on: OnModel | None = None

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

    def model(self, digest: str) -> Model: ...


@dataclass(frozen=True)
class Preset:
    """A starting point among a step's settings: its word on screen, what it sets, and what the whole row of them is for."""

    title: str
    settings: Mapping[str, Any]
    kind: str = ""


def info_of(picture: Picture) -> SourceInfo:
    """The facts of a decoded file.

    >>> from silent_loom.core.files.profile import SRGB
    >>> info_of(Picture(np.full((64, 128, 3), 90, np.uint8), None, SRGB, 8, "png")).width
    128
    """
    focal = picture.exif.focal_px or 0.0
    return SourceInfo(picture.width, picture.height, focal, picture.exif.focal_error, picture.alpha is not None)


def whole(texels: Texels) -> tuple[int, int]:
    """Width and height of the array for a demand.

    >>> whole((512.0, 255.6))
    (512, 256)
    """
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
    can: ClassVar[frozenset[str]] = frozenset()
    """What it is good for, asked for by whoever needs such a step without knowing its name; see `ABLE`."""
    panel: ClassVar[str] = ""
    """Name of the pictures and buttons that the screen shows above its settings; none where it is empty."""
    asked: ClassVar[Mapping[str, Mapping[str, Any]]] = {}
    """Threads that it makes with other settings than its defaults, and these settings."""
    presets: ClassVar[tuple[Preset, ...]] = ()
    """Starting points that an artist may take in one press."""
    Settings: ClassVar[type[Settings]]

    def upgrade(self, settings: dict[str, Any], from_version: int) -> dict[str, Any]:
        """Stored settings of an older version in the present form; 0 is whatever was stored before versions were noted."""
        return settings

    def works_on(self, s: S) -> Literal["both", "sheet", "model"]:
        """Where it works. What works on a sheet only and reads no thread is laid on where it stands below a model: it is made on
        a sheet of its own, and comes there as the material came."""
        return "both"

    def reads(self, s: S) -> tuple[str, ...]:
        """Threads it reads, besides those that a geometric step carries."""
        return ()

    def does_without(self, s: S) -> tuple[str, ...]:
        """Threads among those it reads that it can do without: where nothing makes one above, it neither reads nor writes it.

        Its `run` then does not find them among its inputs. At least one of what it works on has to be there.
        """
        return ()

    def writes(self, s: S) -> tuple[str, ...]:
        """Threads it writes, besides those that a geometric step carries."""
        return ()

    def makes(self, s: S) -> tuple[ThreadSpec, ...]:
        """What the threads are that it writes, where that is not what they are already: helpers of its own, another range."""
        return ()

    def makes_of(self, s: S, present: Mapping[str, ThreadSpec]) -> tuple[ThreadSpec, ...]:
        """The same, for a step whose results are what its inputs are."""
        return self.makes(s)

    def objects(self, s: S, present: Mapping[str, ThreadSpec]) -> str:
        """What is wrong with the threads that it reads, beyond their kinds, in a clause; nothing when they will do."""
        return ""

    def mixed(self, s: S) -> tuple[str, ...] | None:
        """Threads that a row's mask, amount and mix act on, where these are not all that it writes: what only tells where
        something lies is never added to what was told before."""
        return None

    def finest(self, s: S) -> float:
        """Millimetres of the finest thing that it makes out of nothing; 0 where it makes nothing of its own."""
        return 0.0

    def halo(self, s: S, after: Geometry, texels: Texels) -> int | None:
        """How many texels around a place its result there depends on, at most; None when on all of the sheet.

        A step that says a number is asked for windows of a sheet: see `Evaluator.window`. Its inputs then do not wrap.
        """
        return None

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
        """Apply the field to one thread; of directions and packed channels see `carrying`."""

    def carry_thread(self, s: S, thread: str, image: Image, decision: Decision, sheet: Sheet, task: Task) -> Image:
        """The same, for a step that treats threads by their name (as strokes on some of them)."""
        return self.carry(s, image, decision, sheet, task)


@dataclass(frozen=True)
class Sheet:
    """What is asked of a step: the geometry before and after it, the texels after it, and the sources.

    Attributes
    ----------
    coarser : tuple of mappings
        The step's inputs at every size that its `Step.coarser` asks for.
    meanings : mapping of str to ThreadSpec
        What the threads above the step mean.
    """

    before: Geometry
    after: Geometry
    texels: Texels
    sources: Sources
    coarser: tuple[Mapping[str, Image], ...] = ()
    meanings: Mapping[str, ThreadSpec] = field(default_factory=dict)

    def meaning(self, thread: str) -> ThreadSpec:
        """What a thread above the step means."""
        return self.meanings.get(thread) or spec(thread)

    def flat(self, thread: str, *value: float) -> Image:
        """A sheet of one value, of the kind that the thread has."""
        meaning = self.meaning(thread)
        pixels = np.empty((self.height, self.width, len(meaning.neutral)), np.float32)
        pixels[:] = value
        return Image(pixels, meaning.kind, self.size_mm, self.after.wraps)

    def on_sheet(self, sheet: Geometry) -> Sheet:
        """Where everything lies on a model: a repeating sheet, as fine as this one is on the model."""
        assert self.after.on is not None
        wide, high = sheet.texels(self.after.on.finer(max(self.pitch)))
        return Sheet(sheet, sheet, (float(wide), float(high)), self.sources, (), self.meanings)

    def laid_of(self, sheet: Geometry, make: Callable[[Sheet], Mapping[str, Image]], task: Task) -> dict[str, Image]:
        """Images of a repeating sheet, made as fine as they are needed, and laid on the model that everything lies on."""
        assert self.after.on is not None
        images = make(self.on_sheet(sheet))
        return self.after.on.laid(images, self.sources, (self.width, self.height), task)

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
