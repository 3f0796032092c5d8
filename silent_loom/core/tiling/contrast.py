"""Local contrast after a blend, brought back to what both sides have, band by band."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial

import cv2
import numpy as np

from silent_loom.core.colour import luminance
from silent_loom.core.images import Floats, Kind
from silent_loom.core.kernels import kernel
from silent_loom.core.parallel import Task, over_rows
from silent_loom.core.resample import blur, reduce_area

BLURS = (0.5, 0.866, 0.866 * 2, 0.866 * 4, 0.866 * 8, 0.866 * 16)
"""Blurs that divide the bands, each after the last, in texels: together 0.5, 1, 2, 4, 8 and 16."""
HALVED = (0, 0, 1, 2, 3, 4)
"""How often the strip has been halved where each of them is done."""
WINDOW = 2.0
"""Texels of the halved strip over which contrast is measured; the two finest bands have twice as many."""
MOST = 2.0
"""What a band is amplified by at most in one pass."""
PASSES = 3
"""Bands overlap: what is added to one lies partly in its neighbours, so it is measured and added again."""
_BEYOND = 128
"""Rows that a closed strip is continued by for its blurs."""


@kernel
def _amplify(band, want, have, most, out, y0, y1):  # type: ignore[no-untyped-def]
    for y in range(y0, y1):
        for x in range(band.shape[1]):
            lacks = want[y, x] / max(have[y, x], np.float32(1e-12))
            out[y, x] += (min(max(np.sqrt(lacks), np.float32(1)), most) - np.float32(1)) * band[y, x]


def _tones(strip: Floats, kind: Kind, task: Task) -> list[Floats]:
    """Planes whose contrast is kept: the logarithm of luminance, or every channel."""
    if kind is Kind.COLOUR:
        return [np.log(np.maximum(luminance(strip, task), 0) + np.float32(0.01))]
    return [np.ascontiguousarray(strip[..., k]) for k in range(strip.shape[2])]


def _continued(plane: Floats, closed: bool) -> Floats:
    """A plane with room around it for blurs, and sides that can be halved four times."""
    rows, n = plane.shape
    before = min(_BEYOND, rows) if closed else 0
    below, right = before + -(rows + 2 * before) % 16, -n % 16
    plane = np.pad(plane, ((before, below), (0, 0)), mode="wrap" if closed else "symmetric")
    return np.pad(plane, ((0, 0), (0, right)), mode="symmetric")


def _half(plane: Floats) -> Floats:
    return reduce_area(plane, plane.shape[1] // 2, plane.shape[0] // 2)


def _double(plane: Floats) -> Floats:
    rows, n = plane.shape
    out: Floats = cv2.resize(plane, (2 * n, 2 * rows), interpolation=cv2.INTER_LINEAR)
    return out


def _bands(plane: Floats, count: int, task: Task) -> Iterator[Floats]:
    """The bands of a plane, from fine to broad."""
    halved = 0
    for k in range(count):
        if HALVED[k] > halved:
            plane, halved = _half(plane), halved + 1
        broader = blur(plane, BLURS[k] / 2**halved, False, task)
        yield plane - broader
        plane = broader


def _energy(square: Floats, k: int, task: Task) -> Floats:
    if HALVED[k] == 0:
        return _double(blur(_half(square), WINDOW, False, task))
    return blur(square, WINDOW, False, task)


def _lacking(plane: Floats, wanted: list[Floats], task: Task) -> Floats:
    """What has to be added to a plane, once."""
    levels: dict[int, Floats] = {}
    for k, (band, want) in enumerate(zip(_bands(plane, len(wanted), task), wanted, strict=True)):
        task.checkpoint()
        out = levels.setdefault(HALVED[k], np.zeros_like(band))
        over_rows(len(band), partial(_amplify, band, want, _energy(np.square(band), k, task), np.float32(MOST), out), task)
    more = levels.pop(max(levels))
    for halved in sorted(levels, reverse=True):
        more = _double(more) + levels[halved]
    return more


def keep_contrast(out: Floats, near: Floats, far: Floats, share: Floats, kind: Kind, closed: bool, task: Task) -> None:
    """Amplify the bands of a blend where they vary less than both of its sides do there.

    Parameters
    ----------
    out : array, shape (rows, n, C)
        The blend; changed in place.
    near, far : arrays, shape (rows, n, C)
        Its sides.
    share : array, shape (n,)
        Share of ``near`` by column, 0…1; nothing is changed where it is 0 or 1.
    kind : Kind
        Of colour the logarithm of luminance counts, and all channels get what it lacks; else every channel by itself.
    closed : bool
        The rows wrap.

    Notes
    -----
    A blend that keeps its histogram still lets strong single features fade as they go over, and sides that run against
    each other by chance cancel out. In each band of a pyramid (Burt & Adelson 1983) the mean square of the blend, over a few
    times the band's breadth, is compared with the mean of those of its sides by their shares (the one that Heitz & Neyret,
    HPG 2018, expect of the whole, taken locally). Nothing is made weaker: what agrees by chance was there.
    """
    rows, n = out.shape[:2]
    count = sum(0.5 * 2**k < n / 6 for k in range(len(BLURS)))
    t = _continued(np.broadcast_to(share, (rows, n)), False)[:1]
    ends = np.minimum(np.float32(1), np.float32(8) * np.minimum(share, 1 - share))
    before = min(_BEYOND, rows) if closed else 0
    for c, (a, b) in enumerate(zip(_tones(near, kind, task), _tones(far, kind, task), strict=True)):
        if count == 0 or (np.ptp(a) == 0 and np.ptp(b) == 0):
            continue
        pairs = zip(_bands(_continued(a, closed), count, task), _bands(_continued(b, closed), count, task), strict=True)
        wanted: list[Floats] = []
        for k, (p, q) in enumerate(pairs):
            step = 2 ** HALVED[k]
            at = t.reshape(1, -1, step).mean(2)
            wanted.append(_energy(at * np.square(p) + (1 - at) * np.square(q), k, task))
        for _ in range(PASSES):
            tone = _tones(out, kind, task)[0] if kind is Kind.COLOUR else np.ascontiguousarray(out[..., c])
            more = _lacking(_continued(tone, closed), wanted, task)[before : before + rows, :n] * ends
            if kind is Kind.COLOUR:
                out *= np.exp(more)[..., None]
            else:
                out[..., c] += more
    if kind is Kind.DATA:
        np.clip(out, min(near.min(), far.min()), max(near.max(), far.max()), out=out)
