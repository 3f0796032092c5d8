"""Nodes of MaterialX that draw: pictures, noises, ramps, normals out of heights."""

from __future__ import annotations

from typing import Any

import numpy as np

from silent_loom.core.elsewhere.materialx import chance
from silent_loom.core.elsewhere.materialx.nodes import Asked, node
from silent_loom.core.elsewhere.materialx.values import Value, at, together
from silent_loom.core.elsewhere.sampling import sampled


def _uv(a: Asked) -> Value:
    return a.get("texcoord", a.more["uv"])


@node("image", "tiledimage")
def _image(a: Asked) -> Value:
    picture = a.more["picture"]()
    if picture is None:
        return a.get("default", 0.0)
    uv = _uv(a)
    if a.more["category"] == "tiledimage":
        uv = (uv * a.get("uvtiling", np.ones(2)) - a.get("uvoffset", np.zeros(2))) / a.get("realworldimagesize", np.ones(2))
        uv = uv * a.get("realworldtilesize", np.ones(2))
        wrap: Any = ("periodic", "periodic")
    else:
        wrap = (a.text("uaddressmode", "periodic"), a.text("vaddressmode", "periodic"))
    if uv.ndim == 1:
        uv = np.broadcast_to(uv, a.more["uv"].shape)
    return sampled(picture, uv, wrap, a.text("filtertype", "linear") == "closest").astype(np.float64)


def _places(a: Asked, dimensions: int) -> Value:
    if dimensions == 2:
        p = _uv(a)
    else:
        uv = a.more["uv"]
        p = a.get("position", np.concatenate([uv, np.zeros((*uv.shape[:2], 1))], axis=-1))
    return np.broadcast_to(p, (*a.more["uv"].shape[:2], dimensions)) if p.ndim == 1 else p


@node("noise2d", "noise3d")
def _noise(a: Asked) -> Value:
    p = _places(a, 2 if a.more["category"] == "noise2d" else 3)
    return chance.noise(p, a.more["width"]) * a.get("amplitude", 1.0) + a.get("pivot", 0.0)


@node("fractal2d", "fractal3d")
def _fractal(a: Asked) -> Value:
    p = _places(a, 2 if a.more["category"] == "fractal2d" else 3)
    octaves, more, less = (float(a.get(n, d).flat[0]) for n, d in (("octaves", 3.0), ("lacunarity", 2.0), ("diminish", 0.5)))
    return chance.fractal(p, a.more["width"], int(octaves), more, less) * a.get("amplitude", 1.0)


@node("cellnoise2d", "cellnoise3d")
def _cellnoise(a: Asked) -> Value:
    return chance.cell_noise(_places(a, 2 if a.more["category"] == "cellnoise2d" else 3))


@node("worleynoise2d", "worleynoise3d")
def _worley(a: Asked) -> Value:
    p = _places(a, 2 if a.more["category"] == "worleynoise2d" else 3)
    jitter, style, metric = (float(a.get(n, d).flat[0]) for n, d in (("jitter", 1.0), ("style", 0.0), ("metric", 0.0)))
    return chance.worley(p, a.more["width"], jitter, int(style), int(metric))


@node("randomfloat", "randomcolor")
def _random(a: Asked) -> Value:
    value, seed = a.get("in", 0.0), a.get("seed", 0.0)
    both = np.concatenate(np.broadcast_arrays(value[..., :1] * 4096.0, seed[..., :1]), axis=-1)
    low, high = a.get("min", 0.0), a.get("max", 1.0)
    return low + chance.cell_noise(both, a.more["width"]) * (high - low)


@node("checkerboard")
def _checkerboard(a: Asked) -> Value:
    uv = _uv(a) * a.get("uvtiling", np.full(2, 8.0)) - a.get("uvoffset", np.zeros(2))
    odd = np.mod(np.floor(uv).sum(-1, keepdims=True), 2)
    one, other, odd = together(a.get("color1", np.ones(3)), a.get("color2", np.zeros(3)), odd)
    return other * (1 - odd) + one * odd


@node("ramplr", "ramptb", "ramp4", "splitlr", "splittb")
def _ramp(a: Asked) -> Value:
    uv, kind = _uv(a), a.more["category"]
    s, t = at(uv, 0), at(uv, 1)
    if kind == "ramp4":
        s, t = np.clip(s, 0, 1), np.clip(t, 0, 1)
        tl, tr, bl, br = (a.get(n, 0.0) for n in ("valuetl", "valuetr", "valuebl", "valuebr"))
        s, t, tl, tr, bl, br = together(s, t, tl, tr, bl, br)
        top, bottom = tl * (1 - s) + tr * s, bl * (1 - s) + br * s
        return bottom * (1 - t) + top * t
    along = s if kind.endswith("lr") else t
    ends = ("valuel", "valuer") if kind.endswith("lr") else ("valueb", "valuet")
    if kind.startswith("ramp"):
        share = np.clip(along, 0, 1)
    else:  # as sharp as a texel of the sheet, as the reference is as sharp as a pixel of the screen
        half = 0.5 / a.more["uv"].shape[1 if kind.endswith("lr") else 0]
        share = np.clip((along - a.get("center", 0.5)) / (2 * half) + 0.5, 0, 1)
    first, last, share = together(a.get(ends[0], 0.0), a.get(ends[1], 0.0), share)
    return first * (1 - share) + last * share


@node("unifiednoise2d", "unifiednoise3d")
def _unified(a: Asked) -> Value:
    flat = a.more["category"] == "unifiednoise2d"
    p = _places(a, 2 if flat else 3)
    p = p * a.get("freq", np.ones(p.shape[-1])) + a.get("offset", np.zeros(p.shape[-1]))
    kind = int(a.get("type", 0.0).flat[0])
    jitter = float(a.get("jitter", 1.0).flat[0])
    if kind == 1:
        value = chance.cell_noise(p * jitter)
    elif kind == 2:
        value = chance.worley(p, 1, jitter, int(a.get("style", 0.0).flat[0]), 0)
    elif kind == 3:
        octaves, more, less = (float(a.get(n, d).flat[0]) for n, d in (("octaves", 3.0), ("lacunarity", 2.0), ("diminish", 0.5)))
        value = chance.fractal(p * jitter, 1, int(octaves), more, less) * 0.5 + 0.5
    else:
        value = chance.gradient_noise(p * jitter) * 0.5 + 0.5
    low, high = a.get("outmin", 0.0), a.get("outmax", 1.0)
    out = low + value * (high - low)
    return np.clip(out, np.minimum(low, high), np.maximum(low, high)) if float(a.get("clampoutput", 1.0).flat[0]) > 0.5 else out


@node("blur")
def _blur(a: Asked) -> Value:
    from silent_loom.core.moving.resample import blur

    value = a.get("in", 0.0)
    if value.ndim == 1:
        return value
    size = float(a.get("size", 0.0).flat[0])
    pixels = np.ascontiguousarray(value, np.float32)
    return np.asarray(blur(pixels, (size * value.shape[1] / 3, size * value.shape[0] / 3), True), np.float64)


# --- normals: directions of the tangent space, green up ----------------------------------------------------------------


@node("normalmap")
def _normalmap(a: Asked) -> Value:
    value, scale = a.get("in", np.array([0.5, 0.5, 1.0])), a.get("scale", 1.0)
    n = np.where((value**2).sum(-1, keepdims=True) == 0, np.array([0.0, 0.0, 1.0]), value[..., :3] * 2 - 1)
    if value.ndim == 1 and scale.ndim == 3:
        n = n.reshape(1, 1, 3)
    factor = np.concatenate(
        np.broadcast_arrays(at(scale, 0), at(scale, scale.shape[-1] - 1), np.ones_like(at(scale, 0))), axis=-1
    )
    n = n * factor
    return n / np.maximum(np.linalg.norm(n, axis=-1, keepdims=True), 1e-12)


def _slopes(a: Asked, height: Value) -> tuple[Value, Value]:
    """Rise to the right and up for one unit of u and of v."""
    if height.ndim == 1:
        return np.zeros(1), np.zeros(1)
    h, w = height.shape[:2]
    plane = height[..., 0]
    right = (np.roll(plane, -1, 1) - np.roll(plane, 1, 1)) * w / 2
    up = (np.roll(plane, 1, 0) - np.roll(plane, -1, 0)) * h / 2
    return right[..., None], up[..., None]


@node("heighttonormal")
def _heighttonormal(a: Asked) -> Value:
    right, up = _slopes(a, a.get("in", 0.0))
    part = a.get("scale", 1.0) / 16.0
    n = np.concatenate(np.broadcast_arrays(-right * part, -up * part, np.ones_like(right)), axis=-1)
    return n / np.linalg.norm(n, axis=-1, keepdims=True) * 0.5 + 0.5


@node("bump")
def _bump(a: Asked) -> Value:
    right, up = _slopes(a, a.get("height", 0.0))
    part = a.get("scale", 1.0) / 16.0
    n = np.concatenate(np.broadcast_arrays(-right * part, -up * part, np.ones_like(right)), axis=-1)
    return n / np.linalg.norm(n, axis=-1, keepdims=True)
