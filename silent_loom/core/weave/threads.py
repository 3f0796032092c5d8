"""The threads of a material, declared once: what each means, how it is shown, and what stands in where it is missing.

Everything else that differs from thread to thread (charts, strips, screens, files, opened sets) follows this declaration.
A step that makes a thread which is not in the table declares it in the same form.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from silent_loom.core.base.errors import WeaveError
from silent_loom.core.base.images import Image, Kind


@dataclass(frozen=True)
class ThreadSpec:
    """One thread's meaning.

    Attributes
    ----------
    name, title, short : str
        Key in a weave, words on screen, and a shorter word for narrow places (the title where it is empty).
    kind : Kind
    neutral : tuple of float
        Value that stands in where nothing was made yet; as many as it has channels.
    unit : str
        Unit of the samples, empty for plain numbers.
    low, high : float
        What is shown and delivered as black and as white. Colour is 0…1, the parts of a direction are −1…1.
    weight : float
        Its default share in the cost by which geometric steps decide.
    dye : str
        Its colour on screen, one of the dyes of the style sheet; 'helper' for whatever has none of its own.
    says : str
        How a file of it is encoded, in a word or two.
    always : bool
        It has a place on screen even where no step makes it.
    lights : bool
        It changes how the surface looks under light, and so belongs in a small picture of the material.
    read_of : bool
        It may be judged by its range: what lies outside of it is cut in files and worth a word.
    """

    name: str
    title: str
    kind: Kind
    neutral: tuple[float, ...] = (0.0,)
    unit: str = ""
    low: float = 0.0
    high: float = 1.0
    weight: float = 0.0
    dye: str = "helper"
    short: str = ""
    says: str = ""
    always: bool = False
    lights: bool = False
    read_of: bool = False

    @property
    def signed(self) -> bool:
        """Whether values below zero mean something."""
        return self.low < 0

    @property
    def depth(self) -> float:
        """From black to white, in the thread's own unit."""
        return self.high - self.low

    def scale(self) -> tuple[np.float32, np.float32]:
        """Factor and offset that bring samples to the 0…1 of screens and files."""
        factor = 1 / self.depth
        return np.float32(factor), np.float32(-self.low * factor)

    def over(self, depth: float) -> ThreadSpec:
        """The same thread, a range of ``depth`` around its neutral value."""
        middle = self.neutral[0]
        return replace(self, low=middle - depth / 2, high=middle + depth / 2)

    def sum_with(self, other: ThreadSpec, amount: float) -> ThreadSpec:
        """The same thread, the range of its own and a part of another around its neutral value."""
        return self.over(self.depth + amount * other.depth)

    def wider(self, other: ThreadSpec) -> ThreadSpec:
        """The same thread with the range of both."""
        return replace(self, low=min(self.low, other.low), high=max(self.high, other.high))


def _vectors(name: str, title: str, kind: Kind, neutral: tuple[float, ...], **more: object) -> ThreadSpec:
    return ThreadSpec(name, title, kind, neutral, low=-1.0, high=1.0, **more)  # type: ignore[arg-type]


THREADS: dict[str, ThreadSpec] = {
    t.name: t
    for t in (
        ThreadSpec(
            "base",
            "Base colour",
            Kind.COLOUR,
            (0.18, 0.18, 0.18),
            weight=1.0,
            dye="madder",
            short="Base",
            says="sRGB",
            always=True,
            lights=True,
            read_of=True,
        ),
        ThreadSpec(
            "height",
            "Height",
            Kind.DATA,
            unit="mm",
            weight=1.0,
            dye="weld",
            says="16 bit",
            always=True,
            read_of=True,
        ).over(10.0),
        _vectors(
            "normal",
            "Normal",
            Kind.NORMAL,
            (0.0, 0.0, 1.0),
            weight=0.5,
            dye="woad",
            says="green up",
            always=True,
            lights=True,
        ),
        ThreadSpec(
            "roughness",
            "Roughness",
            Kind.DATA,
            (0.5,),
            dye="walnut",
            short="Rough",
            always=True,
            lights=True,
            read_of=True,
        ),
        ThreadSpec("metallic", "Metallic", Kind.DATA, dye="iron", short="Metal", always=True, lights=True, read_of=True),
        ThreadSpec(
            "occlusion", "Occlusion", Kind.DATA, (1.0,), dye="logwood", short="Occl", always=True, lights=True, read_of=True
        ),
        ThreadSpec("specular", "Specular weight", Kind.DATA, (1.0,), dye="copper", short="Specular", read_of=True),
        ThreadSpec("opacity", "Opacity", Kind.DATA, (1.0,), dye="lichen", read_of=True),
        ThreadSpec("emission", "Emission", Kind.COLOUR, (0.0, 0.0, 0.0), dye="ember", says="sRGB"),
    )
}
"""The standard threads, in the order in which they stand on screen and are best computed."""

NOUNS = {
    Kind.COLOUR: "colour",
    Kind.DATA: "plain numbers",
    Kind.NORMAL: "a normal",
    Kind.ID: "labels",
    Kind.VECTOR: "directions",
    Kind.CHANNELS: "several plain channels",
}
"""What a thread of each kind is, in a sentence."""


def spec(name: str) -> ThreadSpec:
    """Meaning of a thread; a name that is not in the table is a helper, plain numbers unless the step that makes it says more.

    >>> spec("height").unit, spec("height").depth, spec("pale_moss").title
    ('mm', 10.0, 'Pale moss')
    """
    return THREADS.get(name) or helper(name)


def helper(name: str, kind: Kind = Kind.DATA, *, title: str = "", channels: int = 1, **more: object) -> ThreadSpec:
    """Declare a thread that is not in the table, its name chosen by a step or by the artist.

    >>> helper("moss").title, helper("moss").neutral
    ('Moss', (0.0,))
    """
    words = title or name.replace("_", " ").capitalize()
    if kind is Kind.NORMAL:
        return _vectors(name, words, kind, (0.0, 0.0, 1.0), **more)
    if kind is Kind.VECTOR:
        return _vectors(name, words, kind, (0.0, 0.0), **more)
    count = {Kind.COLOUR: 3, Kind.CHANNELS: channels}.get(kind, 1)
    return ThreadSpec(name, words, kind, (0.0,) * count, **more)  # type: ignore[arg-type]


def order(names: object) -> list[str]:
    """Names of threads, the standard ones first and in their own order, helpers by the alphabet.

    >>> order({"moss", "normal", "base"})
    ['base', 'normal', 'moss']
    """
    found = set(names)  # type: ignore[call-overload]
    return [t for t in THREADS if t in found] + sorted(found - set(THREADS))


def check_name(name: str) -> str:
    """A name that a thread may have.

    Raises
    ------
    WeaveError
        Names are a letter and then letters, digits and underscores, 60 of them at most.

    >>> check_name("moss")
    'moss'
    """
    if not name.isidentifier() or len(name) > 60:
        raise WeaveError("this is not the name of a thread", name[:60], "Use letters, digits and _, a letter first.")
    return name


def neutral(meaning: ThreadSpec, width: int, height: int, size_mm: tuple[float, float], wraps: bool) -> Image:
    """The stand-in for a thread that nothing has made yet.

    >>> neutral(spec("roughness"), 2, 1, (10.0, 5.0), True).pixels[..., 0].tolist()
    [[0.5, 0.5]]
    """
    pixels = np.empty((height, width, len(meaning.neutral)), np.float32)
    pixels[:] = meaning.neutral
    return Image(pixels, meaning.kind, size_mm, wraps)
