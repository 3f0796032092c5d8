"""What rays that leave a surface on all sides find: how open it is, which way, and how thick what lies behind it is."""

from __future__ import annotations

import threading
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.images import Floats
from silent_loom.core.base.kernels import kernel, subkernel
from silent_loom.core.base.parallel import IDLE, WORKERS, Task, over_rows
from silent_loom.core.form.rays.scene import Scene

LOT = 1 << 19
"""Rays of one thread at a time."""
LIFT = 2e-5
"""How far a ray begins from its surface, as a share of the diagonal of the model: single precision hits it otherwise."""


@dataclass(frozen=True)
class Open:
    """How a surface lies open.

    Attributes
    ----------
    share : float32 array, shape (N,)
        Of the sky that a place sees, weighted by the cosine: 1 is open, 0 closed. Ambient occlusion.
    direction : float32 array, shape (N, 3)
        Unit vectors, the mean direction that is open (Landis 2002); the normal where nothing is.
    """

    share: NDArray[np.float32]
    direction: NDArray[np.float32]


def openness(
    scene: Scene,
    places: NDArray[np.float64],
    normals: NDArray[np.float64],
    rays: int = 64,
    most_mm: float = 0.0,
    seed: int = 0,
    task: Task = IDLE,
) -> Open:
    """How open places are.

    Parameters
    ----------
    scene : Scene
    places, normals : float arrays, shape (N, 3)
    rays : int
        From each place, spread by cosine (Malley's method) over a lattice that is moved anew for each place by its number
        (Cranley & Patterson 1976).
    most_mm : float
        How far away something still hides; 0 for any distance.
    seed : int
        Of the turns.

    >>> s = Scene(np.array([[[-9, -9, 0], [9, -9, 0], [0, 9, 0.0]]]))
    >>> o = openness(s, np.array([[0, 0, 0.0]]), np.array([[0, 0, 1.0]]))
    >>> float(o.share[0]), (o.direction[0].round(1) + 0).tolist()
    (1.0, [0.0, 0.0, 1.0])
    """
    share, direction = np.ones(len(places), np.float32), np.ascontiguousarray(normals, np.float32).copy()

    def met(first: int, last: int, origins: Floats, directions: Floats) -> None:
        far = np.full(len(origins), most_mm, np.float32) if most_mm > 0 else None
        _gather(scene.hidden(origins, directions, far), directions, rays, share[first:last], direction[first:last])

    _cast(scene, places, direction, rays, seed, met, task)
    return Open(share, direction)


def thickness(
    scene: Scene,
    places: NDArray[np.float64],
    normals: NDArray[np.float64],
    rays: int = 32,
    most_mm: float = 0.0,
    seed: int = 0,
    task: Task = IDLE,
) -> NDArray[np.float32]:
    """How far it is through the body behind places, in millimetres, shape (N,): the mean of rays that go inward.

    Parameters
    ----------
    most_mm : float
        What counts as the most; the diagonal of the model if 0. Rays that leave through a hole count as that.

    >>> wall = np.array([[[-9, -9, -2], [9, -9, -2], [0, 9, -2.0]]])
    >>> t = thickness(Scene(wall), np.array([[0, 0, 0.0]]), np.array([[0, 0, 1.0]]), rays=256, most_mm=50.0)
    >>> 2.0 < float(t[0]) < 20.0
    True
    """
    limit, lift = np.float32(most_mm or scene.reach), np.float32(LIFT * scene.reach)
    out = np.zeros(len(places), np.float32)

    def met(first: int, last: int, origins: Floats, directions: Floats) -> None:
        far = scene.distances(origins, directions) + lift
        out[first:last] = np.minimum(far, limit).reshape(-1, rays).mean(1)

    _cast(scene, places, np.ascontiguousarray(-normals, np.float32), rays, seed, met, task)
    return out


def _cast(
    scene: Scene,
    places: NDArray[np.float64],
    toward: Floats,
    rays: int,
    seed: int,
    met: Callable[[int, int, Floats, Floats], None],
    task: Task,
) -> None:
    """Rays from places round the directions they look in, lot by lot on every core: `met` takes the places they are of, their
    origins and their directions."""
    at, facing = np.ascontiguousarray(places - scene.middle, np.float32), toward.copy()
    lift = np.float32(LIFT * scene.reach)
    each = max(1, LOT // rays)

    def work(first: int, last: int) -> None:
        for k in range(first, last, each):
            end = min(last, k + each)
            origins, directions = _room((end - k) * rays)
            _around(at[k:end], facing[k:end], rays, lift, seed + k, origins, directions)
            met(k, end, origins, directions)

    over_rows(len(places), work, task, least=min(each, 4096), cost=64 * 30 / each * WORKERS / 2)


class _Rooms(threading.local):
    """Room for the rays of a thread, used again: new memory costs as much as half of what is done with it."""

    rows: tuple[Floats, Floats] = (np.empty((0, 3), np.float32), np.empty((0, 3), np.float32))


_rooms = _Rooms()


def _room(rays: int) -> tuple[Floats, Floats]:
    if len(_rooms.rows[0]) < rays:
        _rooms.rows = np.empty((rays, 3), np.float32), np.empty((rays, 3), np.float32)
    return _rooms.rows[0][:rays], _rooms.rows[1][:rays]


@subkernel
def _turn(number):  # type: ignore[no-untyped-def]
    """A number of its own in 0…1 for each place (a mix of bits; Steele, Lea & Flood 2014)."""
    x = np.uint64(number) * np.uint64(0x9E3779B97F4A7C15)
    x = (x ^ (x >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
    x = (x ^ (x >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
    x ^= x >> np.uint64(31)
    return np.float64(x >> np.uint64(11)) * (1.0 / 9007199254740992.0)


@kernel("f4[:,::1], f4[:,::1], i8, f4, i8, f4[:,::1], f4[:,::1]")
def _around(at, facing, rays, lift, seed, origins, directions):  # type: ignore[no-untyped-def]
    golden = 2.0 * np.pi * 0.6180339887498949
    turn_x, turn_y = np.cos(golden), np.sin(golden)
    for k in range(len(at)):
        nx, ny, nz = facing[k, 0], facing[k, 1], facing[k, 2]
        # A frame round the normal without a special place (Duff et al. 2017)
        sign = 1.0 if nz >= 0 else -1.0
        a = -1.0 / (sign + nz)
        b = nx * ny * a
        ux, uy, uz = 1.0 + sign * nx * nx * a, sign * b, -sign * nx
        vx, vy, vz = b, sign + ny * ny * a, -ny
        first, second = _turn(2 * (seed + k)), _turn(2 * (seed + k) + 1)
        c, d = np.cos(2.0 * np.pi * second), np.sin(2.0 * np.pi * second)
        ox, oy, oz = at[k, 0] + lift * nx, at[k, 1] + lift * ny, at[k, 2] + lift * nz
        for r in range(rays):
            s = (r + first) / rays
            radius = np.sqrt(s)
            x, y, z = radius * c, radius * d, np.sqrt(max(0.0, 1.0 - s))
            c, d = c * turn_x - d * turn_y, d * turn_x + c * turn_y  # a golden section further round
            i = k * rays + r
            origins[i, 0], origins[i, 1], origins[i, 2] = ox, oy, oz
            directions[i, 0] = x * ux + y * vx + z * nx
            directions[i, 1] = x * uy + y * vy + z * ny
            directions[i, 2] = x * uz + y * vz + z * nz


@kernel("b1[::1], f4[:,::1], i8, f4[::1], f4[:,::1]")
def _gather(hidden, directions, rays, share, direction):  # type: ignore[no-untyped-def]
    for k in range(len(share)):
        free, x, y, z = 0, 0.0, 0.0, 0.0
        for i in range(k * rays, (k + 1) * rays):
            if not hidden[i]:
                free += 1
                x += directions[i, 0]
                y += directions[i, 1]
                z += directions[i, 2]
        share[k] = free / rays
        length = np.sqrt(x * x + y * y + z * z)
        if length > 1e-6:
            direction[k, 0], direction[k, 1], direction[k, 2] = x / length, y / length, z / length
