"""Both ends of a sheet laid over each other and joined along a cut."""

from __future__ import annotations

from functools import partial

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.images import Floats, Kind
from silent_loom.core.base.parallel import Task, over_rows
from silent_loom.core.moving.blocks import FLOOR, Form
from silent_loom.core.moving.slide import slid
from silent_loom.core.moving.slopes import normals_of, slopes_of
from silent_loom.core.tiling.joining.parted import Parted, part_objects
from silent_loom.core.tiling.joining.strip import join_strip, windows
from silent_loom.core.tiling.joining.wide import LEAST, join_wide

FORMS = {Kind.COLOUR: Form.LOGS, Kind.NORMAL: Form.SLOPES}


def _logs(light: Floats, task: Task) -> Floats:
    out = np.empty(light.shape, np.float32)

    def work(p: int, q: int) -> None:
        np.maximum(light[p:q], -0.9 * FLOOR, out=out[p:q])
        out[p:q] += FLOOR
        np.log(out[p:q], out=out[p:q])

    over_rows(light.shape[0], work, task)
    return out


def _light(logs: Floats, out: Floats, p: int, q: int) -> None:
    np.exp(logs[p:q], out=out[p:q])
    out[p:q] -= FLOOR


def _join_into(
    out: Floats,
    near: Floats,
    far: Floats,
    path: NDArray[np.float64],
    softness: float,
    parted: Parted | None,
    turned: bool,
    closed: bool,
    task: Task,
) -> None:
    first, second = (np.ascontiguousarray(p.transpose(1, 0, 2) if turned else p) for p in (near, far))
    strip = join_strip(first, second, path, softness, closed, task)
    if parted is not None:
        part_objects(strip, first, second, path, parted, softness, windows(strip.shape[1]), closed, task)
    out[:] = strip.transpose(1, 0, 2) if turned else strip


def _copy(src: Floats, out: Floats, y0: int, y1: int) -> None:
    np.copyto(out[y0:y1], src[y0:y1])


def closed_along(
    pixels: Floats,
    kind: Kind,
    axis: int,
    keep: int,
    path: NDArray[np.float64],
    softness: float,
    closed: bool,
    task: Task,
    *,
    parted: Parted | None = None,
    shift: Floats | None = None,
    spend: bool = False,
) -> Floats:
    """Close a sheet along an axis: its last lines are laid over its first and joined there.

    Parameters
    ----------
    pixels : array, shape (H, W, C)
    kind : Kind
        Ids are cut hard; normals are joined as slopes; colour in ratios, so that a dark joint under a darker neighbour
        stays a joint and is not pushed below black.
    axis : int
        1 to close from left to right, 0 from top to bottom.
    keep : int
        Width (height) of the result; what is beyond it is the overlap.
    path, softness, closed
        See `strip.join_strip`; the path runs across the axis.
    parted : Parted, optional
        What lies beside the path, see `parted.parted_at`.
    shift : array, optional
        By how much both ends are moved along each other first, see `slide.slid`.
    spend : bool
        The samples given are not needed any more: they may become the result.

    Raises
    ------
    ValueError
        The overlap is empty or wider than what is kept, or the path is not as long as the strip.

    >>> from silent_loom.core.base.parallel import IDLE
    >>> pixels = np.arange(12, dtype=np.float32)[None, :, None].repeat(4, 0)
    >>> closed_along(pixels, Kind.ID, 1, 8, np.full(4, 2.0), 1.0, False, IDLE)[0, :, 0].tolist()
    [8.0, 9.0, 2.0, 3.0, 4.0, 5.0, 6.0, 7.0]
    """
    n = pixels.shape[axis] - keep
    if not 0 < n <= keep or len(path) != pixels.shape[1 - axis]:
        # Kernels below do not ask whether a place is inside
        raise ValueError(f"{pixels.shape} cannot be closed to {keep} along axis {axis} by a path of {len(path)}")
    turned = axis == 0
    h, w, channels = pixels.shape
    if turned and spend:
        out = pixels[:keep]
    else:
        out = np.empty((keep, w, channels) if turned else (h, keep, channels), np.float32)
        source, goal = (pixels[n:keep], out[n:]) if turned else (pixels[:, n:keep], out[:, n:])
        over_rows(source.shape[0], partial(_copy, source, goal), task)
    if kind is not Kind.ID and softness / LEAST >= 2:
        sheet = np.ascontiguousarray(pixels)
        join_wide(sheet, FORMS.get(kind, Form.PLAIN), axis, keep, path, softness, parted, shift, closed, out, task)
        return out
    near, far, strip = (pixels[:n], pixels[keep:], out[:n]) if turned else (pixels[:, :n], pixels[:, keep:], out[:, :n])
    if kind is Kind.NORMAL:
        near, far = (slopes_of(p, task) for p in (near, far))
    if shift is not None:
        near, far = slid(near, far, kind, axis, shift, closed, task)
    if kind is Kind.ID:
        side = (np.arange(n)[:, None] + 0.5 < path[None, :]) if turned else (np.arange(n)[None, :] + 0.5 < path[:, None])
        strip[:] = np.where(side[..., None], far, near)
    elif kind is Kind.NORMAL:
        leaning = np.empty((*strip.shape[:2], 2), np.float32)
        _join_into(leaning, near, far, path, softness, parted, turned, closed, task)
        strip[:] = normals_of(leaning, task)
    elif kind is Kind.COLOUR:
        ratios = np.empty(strip.shape, np.float32)
        _join_into(ratios, _logs(near, task), _logs(far, task), path, softness, parted, turned, closed, task)
        over_rows(strip.shape[0], lambda p, q: _light(ratios, strip, p, q), task)
    else:
        _join_into(strip, near, far, path, softness, parted, turned, closed, task)
    return out
