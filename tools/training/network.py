"""The network: a U-Net (Ronneberger, Fischer & Brox 2015) of residual blocks (He et al. 2016), small enough for two cores.

It works at half the size and gives four texels a place (Shi et al. 2016): convolutions of few channels at the full size would
take most of the time and hold little of what is learned.
"""

from __future__ import annotations

from typing import Any

import numpy as np
import tensorflow as tf

from silent_loom.core.reading.inputs import CHANNELS

WIDTHS = (40, 64, 104, 144)
"""Channels at 1/2, 1/4, 1/8 and 1/16 of the size."""
BLOCKS = (1, 2, 2, 2)
"""Residual blocks at each size on the way down; one each on the way up."""
OUTPUTS = 12
"""Nine targets, then the logarithm of the variance of slopes, heights and shading."""
INTO = np.array([3.0, 8.0, 8.0, 8.0, 1.0], np.float32)
"""Factors that bring what the network is shown to about unit spread."""
OUT_OF = np.array([0.16, 0.16, 0.1, 0.06, 0.025, 0.2, 1.0, 1.0, 1.0], np.float32)
"""Spread of what is wanted; the network itself works in parts of it, so that no target is too small to be learned."""
SPREAD_OF = (0, 2, 5)
"""Targets whose unit the logarithms of the variance are said in."""
BETA = 0.5
"""Power of the variance by which likelihoods are weighed; 0 is the plain likelihood, 1 squared distances."""
FOUR = 4
"""Texels of one place."""
Weights = dict[str, Any]


def begun(seed: int) -> Weights:
    """Weights before any training."""
    rng = np.random.default_rng(seed)
    out: Weights = {}

    def conv(name: str, side: int, into: int, of: int, scale: float = 1.0) -> None:
        spread = scale * np.sqrt(2.0 / (side * side * of))
        out[f"{name}.w"] = (rng.standard_normal((side, side, of, into)) * spread).astype(np.float32)
        out[f"{name}.b"] = np.zeros(into, np.float32)

    def block(name: str, width: int) -> None:
        conv(f"{name}.one", 3, width, width)
        conv(f"{name}.two", 3, width, width, 0.05)

    conv("stem", 6, WIDTHS[0], CHANNELS)
    for k, width in enumerate(WIDTHS):
        if k:
            conv(f"down{k}", 3, width, WIDTHS[k - 1])
        for b in range(BLOCKS[k]):
            block(f"in{k}.{b}", width)
    for k in range(len(WIDTHS) - 2, -1, -1):
        conv(f"up{k}", 1, WIDTHS[k], WIDTHS[k + 1])
        conv(f"join{k}", 1, WIDTHS[k], 2 * WIDTHS[k], 0.7)
        block(f"out{k}", WIDTHS[k])
    conv("head", 1, FOUR * OUTPUTS, WIDTHS[0], 0.1)
    usual = np.zeros((FOUR, OUTPUTS), np.float32)
    usual[:, 6:9] = (0.93, 0.6, -3.0)  # open sky, rather rough, no border
    out["head.b"] = usual.reshape(-1)
    return out


def count(weights: Weights) -> int:
    """How many there are."""
    return sum(int(np.prod(w.shape)) for w in weights.values())


def padding(side: int) -> int:
    """Texels added at each edge for a convolution of that side."""
    return (side - 1) // 2


def in_units(weights: dict[str, np.ndarray]) -> dict[str, np.ndarray]:
    """The same weights for inputs as they are, and with outputs in their own units: factors are taken into the first and the
    last convolution."""
    scale = np.concatenate([OUT_OF, np.ones(OUTPUTS - len(OUT_OF), np.float32)])
    added = np.zeros(OUTPUTS, np.float32)
    added[len(OUT_OF) :] = 2 * np.log(OUT_OF[list(SPREAD_OF)])
    last = np.tile(scale, FOUR)
    out = dict(weights)
    out["stem.w"] = weights["stem.w"] * INTO[:, None]
    out["head.w"], out["head.b"] = weights["head.w"] * last, weights["head.b"] * last + np.tile(added, FOUR)
    return out


def read(weights: Weights, x: Any) -> Any:
    """Outputs (B, N, N, `OUTPUTS`) in parts of `OUT_OF` for inputs (B, N, N, `CHANNELS`); N is a multiple of 16."""

    def conv(name: str, x: Any, stride: int = 1) -> Any:
        w = weights[f"{name}.w"]
        pad = padding(int(w.shape[0]))
        return tf.nn.conv2d(x, w, stride, [[0, 0], [pad, pad], [pad, pad], [0, 0]]) + weights[f"{name}.b"]

    def bend(x: Any) -> Any:
        return tf.nn.leaky_relu(x, 0.1)

    def block(name: str, x: Any) -> Any:
        return x + conv(f"{name}.two", bend(conv(f"{name}.one", bend(x))))

    x = conv("stem", x * INTO, 2)
    held = []
    for k in range(len(WIDTHS)):
        if k:
            x = conv(f"down{k}", bend(x), 2)
        for b in range(BLOCKS[k]):
            x = block(f"in{k}.{b}", x)
        held.append(x)
    for k in range(len(WIDTHS) - 2, -1, -1):
        up = conv(f"up{k}", x)
        up = tf.repeat(tf.repeat(up, 2, 1), 2, 2)
        x = block(f"out{k}", conv(f"join{k}", tf.concat([held[k], up], -1)))
    return tf.nn.depth_to_space(conv("head", bend(x)), 2)


def loss(weights: Weights, x: Any, wanted: Any) -> tuple[Any, dict[str, Any]]:
    """How far the outputs are from what is wanted, shape (B, N, N, 9): see `samples.TARGETS`.

    Slopes, heights and shading go by the likelihood of a Gaussian whose spread the network says itself (Nix & Weigend 1994;
    Kendall & Gal 2017): what it cannot know costs little where it says so. By itself that likelihood all but ignores whatever
    looks hard at first, such as steep relief beside flat sheets; each term is therefore weighed by the spread as it is said,
    without a gradient (Seitzer, Tavakoli, Antic & Martius, On the pitfalls of heteroscedastic uncertainty estimation, 2022).
    """
    y, mean, wanted = read(weights, x), tf.reduce_mean, wanted / OUT_OF
    sure = tf.clip_by_value(y[..., 9:12], -5.0, 4.0)  # below, one surprise outweighs a whole batch

    def likely(a: slice, k: int) -> Any:
        off = tf.reduce_mean(tf.square(y[..., a] - wanted[..., a]), -1)
        weight = tf.stop_gradient(tf.exp(BETA * sure[..., k]))
        return mean(weight * (off * tf.exp(-sure[..., k]) + sure[..., k]))

    edge = y[..., 8]
    parts = {
        "slope": likely(slice(0, 2), 0),
        "height": likely(slice(2, 5), 1),
        "shading": likely(slice(5, 6), 2),
        "occlusion": mean(tf.square(y[..., 6] - wanted[..., 6])) * 10,
        "roughness": mean(tf.square(y[..., 7] - wanted[..., 7])) * 2,
        "border": mean(tf.nn.softplus(edge) - edge * wanted[..., 8]),
        # Plain distances hold the parts together early on, when every spread is wrong
        "plain": mean(tf.square(y[..., :6] - wanted[..., :6])) * 0.2,
    }
    return tf.add_n(list(parts.values())), parts
