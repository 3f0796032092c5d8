"""What may be wrong with a layout, one fault after the other, each in words and with what cures it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.form.model import Model, highest, lowest
from silent_loom.core.form.uv.gaps import Gaps
from silent_loom.core.form.uv.islands import Islands
from silent_loom.core.form.uv.sewing import Seam
from silent_loom.core.form.uv.stretch import Stretch

OUT = 1e-4
"""How far outside the square a UV may lie: rounding."""
STRETCHED = 2.0
"""From which ratio of the longer to the shorter stretch on a place is told of."""
UNEVEN = 1.5
"""From how many times more or fewer texels than the middle, or than is wished, on an island is told of."""
ROOM = 2
"""Empty texels that there have to be between islands, at least, at the size that is asked about."""
LISTED = 50

UNWRAP = "Unwrap it here (silent-loom model unwrap), or lay it out anew in the program that it comes from."


@dataclass(frozen=True)
class Fault:
    """Something that is wrong, or only to be known.

    Attributes
    ----------
    kind : str
        missing, outside, tiles, overlapping, flipped, mirrored, zero, faceless, stretch, density, wish, padding, empty or cut.
    grave : bool
        A texture would be wrong there; else it may be meant.
    share : float
        Of the surface, or of the square for overlapping and empty, 0…1.
    words, cure : str
        Sentences.
    islands : tuple of int
        Where, the worst first; at most 50.
    triangles : int
        How many are concerned.
    """

    kind: str
    grave: bool
    share: float
    words: str
    cure: str
    islands: tuple[int, ...] = ()
    triangles: int = 0


@dataclass(frozen=True)
class Island:
    """What is known of an island.

    Attributes
    ----------
    triangles : int
    area_mm2, area_uv : float
    texels_per_cm : float
        At the size that was asked about.
    stretch : float
        Ratio of the longer to the shorter stretch, the middle of it by area.
    mirrored : bool
    mesh, slot : int
        Of its first triangle.
    box : tuple of float
        Left, bottom, right, top in the UVs.
    gap : float
        Empty texels to the nearest other island.
    """

    triangles: int
    area_mm2: float
    area_uv: float
    texels_per_cm: float
    stretch: float
    mirrored: bool
    mesh: int
    slot: int
    box: tuple[float, float, float, float]
    gap: float


def densities(rows: tuple[Island, ...]) -> tuple[float, float, float]:
    """Texels per centimetre of the least dense island, in the middle by area, and of the densest.

    >>> densities(())
    (0.0, 0.0, 0.0)
    """
    found = [(r.texels_per_cm, r.area_mm2) for r in rows if r.texels_per_cm > 0 and np.isfinite(r.texels_per_cm)]
    if not found:
        return 0.0, 0.0, 0.0
    values, areas = np.array(found).T
    return float(values.min()), _middle(values, areas), float(values.max())


def _middle(values: NDArray[Any], weights: NDArray[Any]) -> float:
    """The median by weight."""
    order = np.argsort(values)
    total = np.cumsum(weights[order])
    return float(values[order][min(len(values) - 1, int(np.searchsorted(total, total[-1] / 2)))])


class Look:
    """One fault after the other."""

    def __init__(
        self,
        model: Model,
        layout: Islands,
        corners: NDArray[np.float64],
        seen: Stretch,
        signed: NDArray[np.float64],
        rows: tuple[Island, ...],
        size: int,
        wish: float,
    ) -> None:
        self.model, self.layout, self.corners, self.seen, self.signed = model, layout, corners, seen, signed
        self.rows, self.size, self.wish = rows, size, wish
        self.laid = layout.of >= 0
        self.area = model.areas_mm2
        self.total = max(float(self.area.sum()), 1e-300)

    def _share(self, triangles: NDArray[np.bool_]) -> float:
        return float(self.area[triangles].sum()) / self.total

    def _where(self, triangles: NDArray[np.bool_]) -> tuple[int, ...]:
        of = self.layout.of[triangles & self.laid]
        if not len(of):
            return ()
        counts = np.bincount(of)
        order = np.argsort(-counts, kind="stable")
        return tuple(int(k) for k in order[:LISTED] if counts[k])

    def _fault(self, kind: str, grave: bool, triangles: NDArray[np.bool_], words: str, cure: str) -> Fault:
        return Fault(kind, grave, self._share(triangles), words, cure, self._where(triangles), int(triangles.sum()))

    def missing(self) -> list[Fault]:
        bare = ~self.laid
        if not bare.any():
            return []
        meshes = {self.model.meshes[k] for k in np.unique(self.model.triangle_mesh[bare])}
        words = f"{_percent(self._share(bare))} of the surface has no UVs ({_few(sorted(meshes))})."
        return [self._fault("missing", True, bare, words, UNWRAP)]

    def outside(self) -> list[Fault]:
        corners = np.where(self.laid[:, None, None], self.corners, 0.5)
        low, high = lowest(corners), highest(corners)
        out = (low[:, 0] < -OUT) | (low[:, 1] < -OUT) | (high[:, 0] > 1 + OUT) | (high[:, 1] > 1 + OUT)
        if not out.any():
            return []
        boxes = np.array([r.box for r in self.rows])
        square = np.floor((boxes[:, :2] + boxes[:, 2:]) / 2)
        within = ((boxes[:, :2] >= square - OUT) & (boxes[:, 2:] <= square + 1 + OUT)).all(1)
        tiled = out & within[np.maximum(self.layout.of, 0)]
        across = out & ~tiled
        found = []
        if across.any():
            words = f"{_percent(self._share(across))} of the surface lies across or beyond the edge of the UV square."
            cure = "Fine where a texture repeats. For a texture of its own, move or shrink these islands, or unwrap anew."
            found.append(self._fault("outside", True, across, words, cure))
        if tiled.any():
            words = f"{_percent(self._share(tiled))} of the surface lies whole in other squares of the UVs (tiles)."
            cure = "Give each tile a texture of its own, or move its islands into the first square."
            found.append(self._fault("tiles", True, tiled, words, cure))
        return found

    def overlapping(self, share: float, twice: NDArray[np.int32]) -> list[Fault]:
        if share < 2e-5:
            return []
        words = (
            f"{_percent(share)} of what is laid out is laid over something else: two places of the surface share their texels."
        )
        cure = "Meant where parts share a texture. For what is baked, move the islands apart, or unwrap anew."
        return [Fault("overlapping", True, share, words, cure, tuple(int(k) for k in twice[:LISTED]))]

    def flipped(self) -> list[Fault]:
        found = []
        mirrored = np.array([r.mirrored for r in self.rows], bool)
        sign = np.where(mirrored, -1.0, 1.0)[np.maximum(self.layout.of, 0)]
        visible = np.abs(self.signed) * self.size**2 > 0.01
        folded = self.laid & visible & (self.signed * sign < 0)
        if folded.any():
            share = _percent(self._share(folded))
            words = f"{share} of the surface is folded over in its island: its triangles lie the wrong way round."
            cure = "Relax these islands, cut them where they fold, or unwrap anew."
            found.append(self._fault("flipped", True, folded, words, cure))
        turned = self.laid & mirrored[np.maximum(self.layout.of, 0)]
        if turned.any():
            words = f"{_percent(self._share(turned))} of the surface is laid out mirrored ({_islands(int(mirrored.sum()))})."
            cure = "Fine for most textures; letters read backwards there. Normal maps are turned to fit."
            found.append(self._fault("mirrored", False, turned, words, cure))
        return found

    def zero(self) -> list[Fault]:
        found = []
        faceless = self.area <= 1e-12 * self.total / max(1, len(self.area))
        nothing = self.laid & ~faceless & (np.abs(self.signed) * self.size**2 < 1e-4)
        if nothing.any():
            share = _percent(self._share(nothing))
            words = f"{share} of the surface is laid out without an area: it shows a single line of a texture."
            found.append(self._fault("zero", self._share(nothing) > 1e-4, nothing, words, UNWRAP))
        if faceless.any():
            words = f"{int(faceless.sum()):,} triangles of the model have no area."
            found.append(self._fault("faceless", False, faceless, words, "Nothing shows there; clean the mesh if you like."))
        return found

    def stretched(self) -> list[Fault]:
        ratio = self.seen.ratio()
        long = np.isfinite(ratio) & (ratio > STRETCHED)
        if self._share(long) < 0.005:
            return []
        share = _percent(self._share(long))
        words = f"{share} of the surface is stretched more than {STRETCHED:g} to 1: texels are not square there."
        return [self._fault("stretch", False, long, words, "Relax these islands, cut them once more, or unwrap anew.")]

    def density(self) -> list[Fault]:
        dense = np.array([r.texels_per_cm for r in self.rows])
        if not len(dense) or not (dense > 0).any():
            return []
        _, middle, _ = densities(self.rows)
        found = []
        odd = (dense > middle * UNEVEN) | (dense < middle / UNEVEN)
        on = self.laid & odd[np.maximum(self.layout.of, 0)]
        if self._share(on) > 0.005:
            words = (
                f"{_count(int(odd.sum()))} other sizes of texels than the rest: "
                f"{dense[odd].min():.3g} to {dense[odd].max():.3g} texels per centimetre, {middle:.3g} in the middle."
            )
            found.append(self._fault("density", False, on, words, "Scale these islands, or pack anew with even texels."))
        if self.wish > 0 and not self.wish / UNEVEN <= middle <= self.wish * UNEVEN:
            size = 2 ** round(np.log2(self.size * self.wish / middle))
            words = f"At {self.size} there are {middle:.3g} texels per centimetre; {self.wish:g} are wished."
            cure = f"Use {size:,} texels, or lay the texture on so that it repeats."
            found.append(self._fault("wish", False, self.laid, words, cure))
        return found

    def gaps(self, apart: Gaps, drawn: int) -> list[Fault]:
        found = []
        close = np.flatnonzero(apart.least < ROOM * self.size / drawn)
        if len(close) and self.layout.count > 1:
            words = (
                f"{_count(len(close))} less than {ROOM} texels between them and the next at {self.size}: "
                "colours run over from one to the other."
            )
            cure = "Pack anew with more room, or use a larger texture."
            where = tuple(int(k) for k in close[np.argsort(apart.least[close], kind="stable")][:LISTED])
            on = self.laid & np.isin(self.layout.of, close)
            found.append(Fault("padding", True, self._share(on), words, cure, where, int(on.sum())))
        if apart.empty > 0.4:
            words = f"{_percent(apart.empty)} of the square is empty."
            found.append(Fault("empty", False, apart.empty, words, "Pack anew, so that more texels show."))
        return found

    def cut(self, borders: list[Seam]) -> list[Fault]:
        needless = [s for s in borders if s.needless]
        if not needless:
            return []
        length = sum(s.length_mm for s in needless)
        where = tuple(dict.fromkeys(k for s in needless for k in s.islands))[:LISTED]
        words = f"{_borders(len(needless), length)} where the surface is flat: the islands on both sides could be one."
        return [Fault("cut", False, 0.0, words, "Sew them together, so that there is less to hide.", where)]


def _percent(share: float) -> str:
    return f"{100 * share:.1f} %" if share >= 0.001 else "Less than 0.1 %" if share > 0 else "0 %"


def _few(names: list[str]) -> str:
    return ", ".join(names[:3]) + (f" and {len(names) - 3} more" if len(names) > 3 else "")


def _length(mm: float) -> str:
    return f"{mm / 1000:.2f} m" if mm >= 1000 else f"{mm:.0f} mm"


def _islands(n: int) -> str:
    return "1 island" if n == 1 else f"{n} islands"


def _count(n: int) -> str:
    return "1 island has" if n == 1 else f"{n} islands have"


def _borders(n: int, length_mm: float) -> str:
    return f"1 border of {_length(length_mm)} lies" if n == 1 else f"{n} borders, {_length(length_mm)} in all, lie"
