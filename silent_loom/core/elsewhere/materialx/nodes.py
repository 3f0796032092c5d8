"""The standard nodes of MaterialX 1.39 that can be worked out without a scene: arithmetic, colour, channels, adjustment."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from silent_loom.core.elsewhere.materialx.values import Value, at, luminance, together


@dataclass
class Asked:
    """A node that is being worked out.

    Attributes
    ----------
    get : callable
        An input by its name, or a default of the same kind.
    kind : str
        Type of the result.
    text : callable
        An input that is a word.
    """

    kind: str
    get: Callable[..., Value]
    text: Callable[[str, str], str]
    has: Callable[[str], bool]
    more: dict[str, Any] = field(default_factory=dict)


Work = Callable[[Asked], Value]
NODES: dict[str, Work] = {}
"""How each category is worked out; `procedural` and `pictures` add theirs."""


def node(*names: str) -> Callable[[Work], Work]:
    """Says which categories a function works out."""

    def kept(work: Work) -> Work:
        for name in names:
            NODES[name] = work
        return work

    return kept


def _two(name: str, work: Callable[[Value, Value], Value], second: float) -> None:
    def run(a: Asked) -> Value:
        one, other = together(a.get("in1", 0.0), a.get("in2", second))
        return work(one, other)

    NODES[name] = run


def _one(name: str, work: Callable[[Value], Value], default: float = 0.0) -> None:
    NODES[name] = lambda a: work(a.get("in", default))


_two("add", np.add, 0.0)
_two("subtract", np.subtract, 0.0)
_two("multiply", np.multiply, 1.0)
_two("divide", lambda x, y: np.divide(x, np.where(y == 0, np.inf, y)), 1.0)
_two("modulo", lambda x, y: np.mod(x, np.where(y == 0, 1, y)), 1.0)
_two("power", lambda x, y: np.sign(x) * np.abs(x) ** y, 1.0)
_two("safepower", lambda x, y: np.sign(x) * np.abs(x) ** y, 1.0)
_two("min", np.minimum, 0.0)
_two("max", np.maximum, 0.0)
_two("difference", lambda x, y: np.abs(x - y), 0.0)
_one("absval", np.abs)
_one("sign", np.sign)
_one("floor", np.floor)
_one("ceil", np.ceil)
_one("round", np.rint)
_one("fract", lambda x: x - np.floor(x))
_one("sqrt", lambda x: np.sqrt(np.maximum(x, 0)))
_one("ln", lambda x: np.log(np.maximum(x, 1e-300)), 1.0)
_one("exp", np.exp)
_one("sin", np.sin)
_one("cos", np.cos)
_one("tan", np.tan)
_one("asin", lambda x: np.arcsin(np.clip(x, -1, 1)))
_one("acos", lambda x: np.arccos(np.clip(x, -1, 1)))
_one("dot", lambda x: x)
_one(
    "luminance",
    lambda x: (
        np.repeat(luminance(x), 3, axis=-1)
        if x.shape[-1] == 3
        else np.concatenate([np.repeat(luminance(x), 3, axis=-1), x[..., 3:]], axis=-1)
    ),
)


@node("atan2")
def _atan2(a: Asked) -> Value:
    y, x = together(a.get("iny" if a.has("iny") else "in1", 0.0), a.get("inx" if a.has("inx") else "in2", 1.0))
    return np.arctan2(y, x)


@node("constant")
def _constant(a: Asked) -> Value:
    return a.get("value", 0.0)


@node("invert")
def _invert(a: Asked) -> Value:
    amount, value = together(a.get("amount", 1.0), a.get("in", 0.0))
    return amount - value


@node("clamp")
def _clamp(a: Asked) -> Value:
    value, low, high = together(a.get("in", 0.0), a.get("low", 0.0), a.get("high", 1.0))
    return np.minimum(np.maximum(value, low), high)


def _smooth(t: Value) -> Value:
    t = np.clip(t, 0, 1)
    return t * t * (3 - 2 * t)


@node("smoothstep")
def _smoothstep(a: Asked) -> Value:
    value, low, high = together(a.get("in", 0.0), a.get("low", 0.0), a.get("high", 1.0))
    return _smooth((value - low) / np.where(high == low, 1e-30, high - low))


@node("remap", "range")
def _remap(a: Asked) -> Value:
    value, il, ih, ol, oh = together(
        *(a.get(n, d) for n, d in (("in", 0.0), ("inlow", 0.0), ("inhigh", 1.0), ("outlow", 0.0), ("outhigh", 1.0)))
    )
    t = (value - il) / np.where(ih == il, 1e-30, ih - il)
    if a.has("gamma"):
        t, gamma = together(t, a.get("gamma", 1.0))
        t = np.sign(t) * np.abs(t) ** (1 / np.where(gamma == 0, 1, gamma))
    t, ol, oh = together(t, ol, oh)
    out = ol + t * (oh - ol)
    if a.has("doclamp") and float(a.get("doclamp", 0.0).flat[0]) > 0.5:
        out = np.minimum(np.maximum(out, np.minimum(ol, oh)), np.maximum(ol, oh))
    return out


@node("contrast")
def _contrast(a: Asked) -> Value:
    value, amount, pivot = together(a.get("in", 0.0), a.get("amount", 1.0), a.get("pivot", 0.5))
    return (value - pivot) * amount + pivot


@node("mix")
def _mix(a: Asked) -> Value:
    fg, bg, t = together(a.get("fg", 0.0), a.get("bg", 0.0), a.get("mix", 0.0))
    return bg * (1 - t) + fg * t


def _blend(name: str, work: Callable[[Value, Value], Value]) -> None:
    def run(a: Asked) -> Value:
        fg, bg, t = together(a.get("fg", 0.0), a.get("bg", 0.0), a.get("mix", 1.0))
        return t * work(fg, bg) + (1 - t) * bg

    NODES[name] = run


_blend("plus", lambda f, b: b + f)
_blend("minus", lambda f, b: b - f)
_blend("screen", lambda f, b: 1 - (1 - f) * (1 - b))
_blend("burn", lambda f, b: np.where(np.abs(f) < 1e-8, 0.0, 1 - (1 - b) / np.where(np.abs(f) < 1e-8, 1, f)))
_blend("dodge", lambda f, b: np.where(np.abs(1 - f) < 1e-8, 0.0, b / np.where(np.abs(1 - f) < 1e-8, 1, 1 - f)))
_blend("overlay", lambda f, b: np.where(b < 0.5, 2 * f * b, 1 - 2 * (1 - f) * (1 - b)))


@node("inside")
def _inside(a: Asked) -> Value:
    value, mask = together(a.get("in", 0.0), a.get("mask", 1.0))
    return value * mask


@node("outside")
def _outside(a: Asked) -> Value:
    value, mask = together(a.get("in", 0.0), a.get("mask", 0.0))
    return value * (1 - mask)


def _over(a: Asked, work: Callable[[Value, Value, Value, Value], Value]) -> Value:
    fg, bg, t = together(a.get("fg", 0.0), a.get("bg", 0.0), a.get("mix", 1.0))
    return t * work(fg, bg, at(fg, 3), at(bg, 3)) + (1 - t) * bg


NODES["over"] = lambda a: _over(a, lambda f, b, fa, ba: f + b * (1 - fa))
NODES["in"] = lambda a: _over(a, lambda f, b, fa, ba: f * ba)
NODES["out"] = lambda a: _over(a, lambda f, b, fa, ba: f * (1 - ba))
NODES["mask"] = lambda a: _over(a, lambda f, b, fa, ba: b * fa)


@node("premult")
def _premult(a: Asked) -> Value:
    v = a.get("in", 0.0)
    return np.concatenate([v[..., :3] * v[..., 3:], v[..., 3:]], axis=-1)


@node("unpremult")
def _unpremult(a: Asked) -> Value:
    v = a.get("in", 0.0)
    alpha = np.where(v[..., 3:] == 0, 1, v[..., 3:])
    return np.concatenate([v[..., :3] / alpha, v[..., 3:]], axis=-1)


# --- choosing -----------------------------------------------------------------------------------------------------


def _choice(name: str, told: Callable[[Value, Value], Any]) -> None:
    def run(a: Asked) -> Value:
        one, other = together(a.get("value1", 1.0), a.get("value2", 0.0))
        holds = told(one, other).astype(np.float64)[..., :1]
        if a.kind == "boolean":
            return holds
        yes, no, holds = together(a.get("in1", 0.0), a.get("in2", 0.0), holds)
        return np.where(holds > 0.5, yes, no)

    NODES[name] = run


_choice("ifgreater", np.greater)
_choice("ifgreatereq", np.greater_equal)
_choice("ifequal", np.equal)
_two("and", lambda x, y: np.asarray((x > 0.5) & (y > 0.5), np.float64), 0.0)
_two("or", lambda x, y: np.asarray((x > 0.5) | (y > 0.5), np.float64), 0.0)
_two("xor", lambda x, y: np.asarray((x > 0.5) ^ (y > 0.5), np.float64), 0.0)
_one("not", lambda x: np.asarray(x <= 0.5, np.float64))


@node("switch")
def _switch(a: Asked) -> Value:
    which = a.get("which", 0.0)
    rows = together(which, *(a.get(f"in{k}", 0.0) for k in range(1, 11)))
    index = np.clip(np.floor(rows[0]), 0, 9).astype(int)
    out = np.zeros(np.broadcast_shapes(*(r.shape for r in rows)))
    for k in range(10):
        out = np.where(index == k, rows[k + 1], out)
    return out


# --- channels -----------------------------------------------------------------------------------------------------


@node("extract")
def _extract(a: Asked) -> Value:
    value = a.get("in", 0.0)
    k = int(a.get("index", 0.0).flat[0])
    return at(value, min(max(k, 0), value.shape[-1] - 1))


@node("combine2", "combine3", "combine4")
def _combine(a: Asked) -> Value:
    parts = [a.get(f"in{k}", 0.0) for k in range(1, 5) if k == 1 or a.has(f"in{k}") or k <= a.more["width"]]
    covering = any(p.ndim == 3 for p in parts)
    wide = [p if p.ndim == 3 or not covering else p.reshape(1, 1, -1) for p in parts]
    if covering:
        shape = np.broadcast_shapes(*(p.shape[:2] for p in wide))
        wide = [np.broadcast_to(p, (*shape, p.shape[-1])) for p in wide]
    return np.concatenate(wide, axis=-1)[..., : a.more["width"]]


@node("convert")
def _convert(a: Asked) -> Value:
    value, width = a.get("in", 0.0), a.more["width"]
    if value.shape[-1] == width:
        return value
    if value.shape[-1] == 1:
        wide = np.repeat(value, width, axis=-1)
        if a.kind == "color4":
            wide[..., 3] = 1.0
        return wide
    if width == 1:
        return value[..., :1]
    if value.shape[-1] > width:
        return value[..., :width]
    fill = (
        np.ones((*value.shape[:-1], width - value.shape[-1]))
        if a.kind == "color4"
        else np.zeros((*value.shape[:-1], width - value.shape[-1]))
    )
    return np.concatenate([value, fill], axis=-1)


@node("swizzle")
def _swizzle(a: Asked) -> Value:
    value, letters = a.get("in", 0.0), a.text("channels", "")
    places = {"r": 0, "g": 1, "b": 2, "a": 3, "x": 0, "y": 1, "z": 2, "w": 3}
    one, none = np.ones((*value.shape[:-1], 1)), np.zeros((*value.shape[:-1], 1))
    picked = [one if c == "1" else none if c == "0" else at(value, min(places.get(c, 0), value.shape[-1] - 1)) for c in letters]
    return np.concatenate(picked, axis=-1)


@node("separate2", "separate3", "separate4")
def _separate(a: Asked) -> Value:
    value = a.get("in", 0.0)
    names = {"outr": 0, "outg": 1, "outb": 2, "outa": 3, "outx": 0, "outy": 1, "outz": 2, "outw": 3}
    return at(value, names.get(a.more.get("output", "outr"), 0))


# --- vectors ------------------------------------------------------------------------------------------------------


@node("magnitude")
def _magnitude(a: Asked) -> Value:
    return np.linalg.norm(a.get("in", 0.0), axis=-1, keepdims=True)


@node("distance")
def _distance(a: Asked) -> Value:
    one, other = together(a.get("in1", 0.0), a.get("in2", 0.0))
    return np.linalg.norm(one - other, axis=-1, keepdims=True)


@node("normalize")
def _normalize(a: Asked) -> Value:
    value = a.get("in", 0.0)
    return value / np.maximum(np.linalg.norm(value, axis=-1, keepdims=True), 1e-12)


@node("dotproduct")
def _dotproduct(a: Asked) -> Value:
    one, other = together(a.get("in1", 0.0), a.get("in2", 0.0))
    return (one * other).sum(-1, keepdims=True)


@node("crossproduct")
def _crossproduct(a: Asked) -> Value:
    one, other = together(a.get("in1", 0.0), a.get("in2", 0.0))
    return np.cross(one, other)


@node("rotate2d")
def _rotate2d(a: Asked) -> Value:
    value, amount = a.get("in", 0.0), np.deg2rad(a.get("amount", 0.0))
    c, s = np.cos(amount), np.sin(amount)
    x, y = at(value, 0), at(value, 1)
    parts = np.broadcast_arrays(c * x + s * y, -s * x + c * y)
    return np.concatenate(parts, axis=-1)


@node("place2d")
def _place2d(a: Asked) -> Value:
    value, pivot, scale, offset = (
        a.get(n, d)
        for n, d in (("texcoord", np.zeros(2)), ("pivot", np.zeros(2)), ("scale", np.ones(2)), ("offset", np.zeros(2)))
    )
    turn = np.deg2rad(a.get("rotate", 0.0))
    c, s = np.cos(turn), np.sin(turn)
    moved = value - pivot
    order = int(a.get("operationorder", 0.0).flat[0])  # 0: scale, turn, move; 1: move, turn, scale

    def turned(v: Value) -> Value:
        x, y = at(v, 0), at(v, 1)
        return np.concatenate(np.broadcast_arrays(c * x + s * y, -s * x + c * y), axis=-1)

    if order == 0:
        return turned(moved / scale) - offset + pivot
    return turned(moved - offset) / scale + pivot


# --- colour -------------------------------------------------------------------------------------------------------


@node("saturate")
def _saturate(a: Asked) -> Value:
    value, amount = a.get("in", 0.0), a.get("amount", 1.0)
    grey = luminance(value)
    colour = grey + (value[..., :3] - grey) * amount
    return np.concatenate([colour, np.broadcast_to(value[..., 3:], (*colour.shape[:-1], value.shape[-1] - 3))], axis=-1)


def to_hsv(rgb: Value) -> Value:
    """Hue, saturation and value, each 0…1.

    >>> to_hsv(np.array([[[0.0, 0.5, 0.5]]])).round(3).tolist()
    [[[0.5, 1.0, 0.5]]]
    """
    r, g, b = (rgb[..., k] for k in range(3))
    most, least = rgb[..., :3].max(-1), rgb[..., :3].min(-1)
    d = most - least
    safe = np.where(d == 0, 1, d)
    hue = np.where(most == r, (g - b) / safe, np.where(most == g, 2 + (b - r) / safe, 4 + (r - g) / safe)) / 6
    return np.stack([np.where(d == 0, 0, hue % 1.0), np.where(most > 0, d / np.where(most == 0, 1, most), 0), most], axis=-1)


def of_hsv(hsv: Value) -> Value:
    """Back to red, green and blue.

    >>> of_hsv(np.array([[[0.5, 1.0, 0.5]]])).round(3).tolist()
    [[[0.0, 0.5, 0.5]]]
    """
    h, s, v = (hsv[..., k : k + 1] for k in range(3))
    k = (np.array([5.0, 3.0, 1.0]) + h * 6) % 6
    return v - v * s * np.clip(np.minimum(k, 4 - k), 0, 1)


_one("rgbtohsv", lambda x: np.concatenate([to_hsv(x), x[..., 3:]], axis=-1))
_one("hsvtorgb", lambda x: np.concatenate([of_hsv(x), x[..., 3:]], axis=-1))


@node("hsvadjust")
def _hsvadjust(a: Asked) -> Value:
    value, amount = a.get("in", 0.0), a.get("amount", np.array([0.0, 1.0, 1.0]))
    hsv = to_hsv(value)
    changed = np.concatenate(
        [hsv[..., :1] + at(amount, 0), hsv[..., 1:2] * at(amount, 1), hsv[..., 2:3] * at(amount, 2)], axis=-1
    )
    return np.concatenate([of_hsv(changed), value[..., 3:]], axis=-1)


@node("colorcorrect")
def _colorcorrect(a: Asked) -> Value:
    value = a.get("in", 0.0)
    hsv = to_hsv(value)
    hsv = np.concatenate([hsv[..., :1] + a.get("hue", 0.0), hsv[..., 1:]], axis=-1)
    colour = of_hsv(hsv)
    grey = luminance(colour)
    colour = grey + (colour - grey) * a.get("saturation", 1.0)
    gamma = a.get("gamma", 1.0)
    colour = np.sign(colour) * np.abs(colour) ** (1 / np.where(gamma == 0, 1, gamma))
    colour = colour + a.get("lift", 0.0) * (1 - colour)
    colour = colour * a.get("gain", 1.0)
    colour = (colour - a.get("contrastpivot", 0.5)) * a.get("contrast", 1.0) + a.get("contrastpivot", 0.5)
    exposure = a.get("exposure", 0.0)
    return np.concatenate([colour * 2.0**exposure, value[..., 3:]], axis=-1)
