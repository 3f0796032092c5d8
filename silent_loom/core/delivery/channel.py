"""One channel of a delivered file: what it holds, and how a receiver gets that back."""

from __future__ import annotations

from collections.abc import Mapping
from itertools import pairwise
from typing import Any, Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, field_validator, model_serializer, model_validator

from silent_loom.core.base.colour import luminance
from silent_loom.core.base.errors import LoomError
from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.base.srgb import encode_srgb
from silent_loom.core.screen.display import label_colours
from silent_loom.core.weave import threads
from silent_loom.core.weave.threads import ThreadSpec

_INDEX = {"": 0, "r": 0, "x": 0, "g": 1, "y": 1, "b": 2, "z": 2, "a": 3, "luminance": 0}
Part = Literal["", "r", "g", "b", "a", "x", "y", "z", "luminance"]


class Channel(BaseModel):
    """What one channel of a file holds: a thread's channel or a constant, and what is done to it.

    Written short, as ``"roughness"``, ``"base.g"``, ``"1-roughness"`` or ``"0.5"``, where nothing else is done to it.
    In order: the thread over its range as 0…1 (colour as linear light), times another thread, inverted, through the curve,
    times ``scale``, plus ``offset``.
    """

    model_config = ConfigDict(extra="forbid", frozen=True)

    thread: str = Field("", description="Which map; empty for a constant.")
    part: Part = Field("", description="Which channel of it, or its luminance.")
    constant: float | None = Field(None, ge=0, le=1, description="A value in place of a map.")
    invert: bool = Field(False, description="One minus the value.")
    scale: float = Field(1.0, ge=-100, le=100, description="Factor.")
    offset: float = Field(0.0, ge=-100, le=100, description="Raised by so much, after the factor.")
    curve: tuple[tuple[float, float], ...] = Field((), max_length=64, description="Points of a rising or falling curve, 0…1.")
    times: str = Field("", description="Another map, of one channel, that the value is multiplied by.")
    amount: float = Field(1.0, ge=0, le=1, description="How much of that: 0 leaves the value as it is.")

    @model_validator(mode="before")
    @classmethod
    def _short(cls, value: Any) -> Any:
        return _read(value) if isinstance(value, str) else value

    @field_validator("thread", "times")
    @classmethod
    def _named(cls, value: str) -> str:
        if value and not value.isidentifier():
            raise ValueError(f"'{value}' is not the name of a map")
        return value

    @field_validator("curve")
    @classmethod
    def _goes_one_way(cls, value: tuple[tuple[float, float], ...]) -> tuple[tuple[float, float], ...]:
        xs, ys = [x for x, _ in value], [y for _, y in value]
        if len(value) == 1 or any(b <= a for a, b in pairwise(xs)):
            raise ValueError("a curve needs two points or more, each further to the right than the one before")
        if any(not 0 <= v <= 1 for v in xs + ys):
            raise ValueError("points of a curve lie in 0…1")
        return value

    @model_validator(mode="after")
    def _one_source(self) -> Channel:
        if (self.constant is None) == (not self.thread):
            raise ValueError("a channel holds a map or a constant, one of both")
        return self

    @property
    def index(self) -> int:
        """Which channel of the thread, from 0."""
        return _INDEX[self.part]

    @property
    def threads(self) -> set[str]:
        """Every thread that goes into the channel."""
        return {t for t in (self.thread, self.times) if t}

    @property
    def plain(self) -> bool:
        """Whether the short form says all of it."""
        return not self.curve and not self.times and (self.scale, self.offset) == (1, 0) and not (self.invert and not self.thread)

    def short(self) -> str:
        """In words as short as they can be; what is done beyond the short form stands in brackets.

        >>> Channel.model_validate("1-roughness").short()
        '1-roughness'
        """
        if self.constant is not None:
            first = f"{self.constant:g}"
        else:
            first = f"{'1-' if self.invert else ''}{self.thread}{'.' if self.part else ''}{self.part}"
        more = []
        if self.times:
            more.append(f"with {100 * self.amount:.0f} % of {self.times}")
        if self.curve:
            more.append("through a curve")
        if (self.scale, self.offset) != (1, 0):
            more.append(f"times {self.scale:g} plus {self.offset:g}")
        return f"{first} ({', '.join(more)})" if more else first

    @model_serializer(mode="wrap")
    def _written(self, handler: Any) -> Any:
        if self.plain:
            return self.short() if self.constant is None else f"{self.constant!r}"
        return {k: v for k, v in handler(self).items() if getattr(self, k) != type(self).model_fields[k].default}


def _read(text: str) -> dict[str, Any]:
    text = text.strip()
    try:
        return {"constant": float(text)}
    except ValueError:
        pass
    invert = text.startswith("1-")
    thread, _, part = text.removeprefix("1-").partition(".")
    if not thread.isidentifier() or part not in _INDEX:
        raise ValueError(f"'{text}' is not a channel")
    return {"thread": thread, "part": part, "invert": invert}


def parse_channel(text: str | Mapping[str, Any]) -> Channel:
    """'roughness', 'base.g', '1-roughness', '0.5', or the longer form of `Channel`.

    >>> parse_channel("1-roughness").invert, parse_channel("base.g").index, parse_channel("0.5").constant
    (True, 1, 0.5)

    Raises
    ------
    ValueError
    """
    return Channel.model_validate(text)


def encoded(image: Image, meaning: ThreadSpec, part: str | int, green: str) -> Floats:
    """One channel as 0…1 for a file, shape (H, W): over the range of its thread, the green of normals turned when it is down.

    >>> from silent_loom.core.weave.threads import spec
    >>> encoded(Image(np.full((1, 1, 1), 0.25, np.float32), Kind.DATA), spec("roughness"), 0, "up").tolist()
    [[0.25]]
    """
    index = part if isinstance(part, int) else _INDEX[part]
    if image.kind is Kind.ID:  # a colour for every label: numbers beyond 1 would all be white
        return encode_srgb(label_colours(image.pixels[..., 0]))[..., min(index, 2)].astype(np.float32)
    if part == "luminance" and image.pixels.shape[2] == 3:
        return luminance(image.pixels)
    plane = image.pixels[..., min(index, image.pixels.shape[2] - 1)]
    scale, offset = meaning.scale()
    if image.kind is Kind.NORMAL and index == 1 and green == "down":
        scale = -scale
    return plane if scale == 1 and offset == 0 else plane * scale + offset


def value(channel: Channel, maps: Mapping[str, Image], meanings: Mapping[str, ThreadSpec], green: str) -> Floats | np.float32:
    """What a channel of a file holds, 0…1, shape (H, W), or one number; absent threads give what stands in for them.

    >>> from silent_loom.core.base.images import Kind
    >>> from silent_loom.core.weave.threads import spec
    >>> maps = {"roughness": Image(np.full((1, 2, 1), 0.75, np.float32), Kind.DATA)}
    >>> value(Channel.model_validate("1-roughness"), maps, {"roughness": spec("roughness")}, "up").tolist()
    [[0.25, 0.25]]
    """

    def of(name: str, part: str) -> Floats | np.float32:
        if name in maps:
            return encoded(maps[name], meanings.get(name) or threads.spec(name), part, green)
        missing = threads.spec(name)
        scale, offset = missing.scale()
        return np.float32(missing.neutral[min(_INDEX[part], len(missing.neutral) - 1)] * scale + offset)

    out = np.float32(channel.constant) if channel.constant is not None else of(channel.thread, channel.part)
    if channel.times:
        amount = np.float32(channel.amount)
        out = out * (1 - amount + amount * of(channel.times, ""))
    if channel.invert:
        out = np.float32(1) - out
    if channel.curve:
        xs, ys = (np.array(v, np.float64) for v in zip(*channel.curve, strict=True))
        out = np.interp(out, xs, ys).astype(np.float32)
    if (channel.scale, channel.offset) != (1, 0):
        out = out * np.float32(channel.scale) + np.float32(channel.offset)
    return out


def undone(channel: Channel, plane: Floats, factor: Floats | None) -> Floats:
    """The thread's value over its range, 0…1, of what a file holds.

    Parameters
    ----------
    channel : Channel
    plane : float32 array, shape (H, W)
        What the file holds; linear light where it is colour.
    factor : float32 array, or None
        The other map that it was multiplied by.

    Raises
    ------
    LoomError
        It cannot be told: the curve is level somewhere, the factor is 0, or the other map is missing.

    >>> undone(Channel.model_validate("1-roughness"), np.float32([[0.25]]), None).tolist()
    [[0.75]]
    """
    if channel.scale == 0:
        raise LoomError(f"{channel.short()} tells nothing of {channel.thread}", channel.thread, "Give it another factor.")
    out = plane
    if (channel.scale, channel.offset) != (1, 0):
        out = (out - np.float32(channel.offset)) / np.float32(channel.scale)
    if channel.curve:
        xs, ys = (np.array(v, np.float64) for v in zip(*channel.curve, strict=True))
        if ys[0] > ys[-1]:
            xs, ys = xs[::-1], ys[::-1]
        if (np.diff(ys) <= 0).any():
            raise LoomError(
                f"the curve of {channel.thread} is level or turns round", channel.thread, "Give one that always rises."
            )
        out = np.interp(out, ys, xs).astype(np.float32)
    if channel.invert:
        out = np.float32(1) - out
    if channel.times and channel.amount > 0:
        if factor is None:
            raise LoomError(
                f"{channel.thread} was multiplied by {channel.times}, which is not there", channel.thread, "Deliver both."
            )
        by = np.float32(1 - channel.amount) + np.float32(channel.amount) * factor
        out = np.where(by > 1e-4, out / np.maximum(by, np.float32(1e-4)), out)
    return np.asarray(out, np.float32)
