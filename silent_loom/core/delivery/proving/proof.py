"""Proof: what a receiver reads out of the files, held against what was meant, and which usual mistake explains a difference."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.base.lazy_modules import later
from silent_loom.core.base.parallel import IDLE, Task
from silent_loom.core.base.srgb import decode_srgb, encode_srgb
from silent_loom.core.delivery.proving.difference import Difference, differences
from silent_loom.core.delivery.proving.receiver import MISTAKES, Received, Seen, apart, looked_at, mistaken, responsible
from silent_loom.core.delivery.reduce import reduced
from silent_loom.core.moving.resample import enlarge, resize
from silent_loom.core.screen.display import shown
from silent_loom.core.weave.threads import ThreadSpec

fft = later("scipy.fft")

WITHIN = 1.15
"""Code values of 8 bits that files may cost: one by rounding and dither, an eighth by half floats, which keep 11 bits."""


@dataclass(frozen=True)
class Proved:
    """One map of a delivery against what was meant.

    Attributes
    ----------
    map : str
    same : bool
        Nowhere further apart than `WITHIN`.
    difference : Difference, or None
        None where the delivery has no such map.
    explained : str
        Why the files cannot hold it exactly (a lossy format, a palette), where that is so.
    mistake : str
        The usual mistake that explains most of the difference, in words; empty where none does.
    factor, offset : float
        What the delivered values have to be multiplied by, and then raised by, to come closest (of 0…1 of the file).
    """

    map: str
    same: bool
    difference: Difference | None
    mistake: str = ""
    factor: float = 1.0
    offset: float = 0.0
    explained: str = ""

    def as_dict(self) -> dict[str, Any]:
        words = {k: getattr(self, k) for k in ("map", "same", "mistake", "factor", "offset", "explained")}
        return {**words, "difference": None if self.difference is None else self.difference.as_dict()}


def as_codes(image: Image, meaning: ThreadSpec) -> Floats:
    """A map as files hold it, 0…1, not rounded; colour sRGB-encoded.

    >>> from silent_loom.core.weave.threads import spec
    >>> as_codes(Image(np.full((1, 1, 1), 0.5, np.float32), Kind.DATA), spec("roughness")).ravel().tolist()
    [0.5]
    """
    values = np.clip(shown(image, meaning), 0, 1)
    return encode_srgb(values).astype(np.float32) if image.kind is Kind.COLOUR else values


def prove(got: Mapping[str, Image], meant: Mapping[str, Image], meanings: Mapping[str, ThreadSpec]) -> list[Proved]:
    """Hold delivered maps against what was meant, map by map.

    Parameters
    ----------
    got, meant : mapping of str to Image
        Maps as a receiver reads them, and as they were made; of one size.
    meanings : mapping of str to ThreadSpec
        What they mean; one range for both.

    Raises
    ------
    LoomError
        Sizes differ.

    >>> from silent_loom.core.weave.threads import spec
    >>> one = {"roughness": Image(np.full((4, 4, 1), 0.5, np.float32), Kind.DATA)}
    >>> [p.same for p in prove(one, one, {"roughness": spec("roughness")})]
    [True]
    """
    codes = {name: as_codes(image, meanings[name]) for name, image in meant.items()}
    out = []
    for name, wanted in codes.items():
        if name not in got:
            out.append(Proved(name, False, None, "it is not in the delivery"))
            continue
        image = got[name]
        if (image.width, image.height) != (wanted.shape[1], wanted.shape[0]):  # scaled afterwards; the file tells of it
            image = resize(image, wanted.shape[1], wanted.shape[0])
        found = as_codes(image, meanings[name])
        difference = differences(found, wanted, meanings[name])
        if difference.max_code <= WITHIN:
            out.append(Proved(name, True, difference))
            continue
        factor, offset = _closest(found, wanted)
        mistake = _mistake(name, found, wanted, codes, meanings[name], difference)
        out.append(Proved(name, False, difference, mistake, factor, offset))
    return out


def _closest(found: Floats, wanted: Floats) -> tuple[float, float]:
    """Factor and offset by least squares."""
    x, y = found.astype(np.float64).ravel(), wanted.astype(np.float64).ravel()
    spread = x.var()
    if spread < 1e-12:
        return 1.0, float(y.mean() - x.mean())
    factor = float(((x - x.mean()) * (y - y.mean())).mean() / spread)
    return factor, float(y.mean() - factor * x.mean())


def _mistake(name: str, found: Floats, wanted: Floats, meant: Mapping[str, Floats], meaning: ThreadSpec, told: Difference) -> str:
    """The usual mistake after which both are far closer: at most a fifth of the difference is left."""
    tries: dict[str, Floats] = {}
    if meaning.kind is Kind.NORMAL:
        tries["its green points the other way"] = found * (1, -1, 1) + (0, 1, 0)
        tries["its red and green are exchanged"] = found[..., [1, 0, 2]]
    elif meaning.kind is Kind.COLOUR:
        tries["data was read as colour, or encoded twice"] = decode_srgb(np.clip(found, 0, 1))
        tries["colour was read as data, or not encoded"] = encode_srgb(np.clip(found, 0, 1))
        tries["its red and blue are exchanged"] = found[..., ::-1]
    else:
        tries["it is inverted: smoothness for roughness, or high for low"] = 1 - found
        tries["data was encoded as colour"] = decode_srgb(np.clip(found, 0, 1))
        tries["data was read as colour"] = encode_srgb(np.clip(found, 0, 1))
    tries["it is upside down"] = found[::-1]
    tries["it is mirrored from left to right"] = found[:, ::-1]
    tries["it is turned by half a turn"] = found[::-1, ::-1]
    if found.shape[0] == found.shape[1]:
        tries["it is turned by a quarter of a turn"] = np.rot90(found)
        tries["it is turned by three quarters of a turn"] = np.rot90(found, 3)
    left = {words: float(np.abs(v.astype(np.float64) - wanted).mean()) for words, v in tries.items()}
    for other, codes in meant.items():
        if other != name and codes.shape == found.shape and codes.shape[2] == 1:
            left[f"it holds {other}"] = float(np.abs(found.astype(np.float64) - codes).mean())
    words = min(left, key=lambda w: left[w])
    far = float(np.abs(found.astype(np.float64) - wanted).mean())
    if left[words] < 0.2 * far:
        return words
    return _stretched(found, wanted, far) or (THROUGH_JPEG if _in_blocks(found) else "")


THROUGH_JPEG = "it went through JPEG: it was rounded in blocks of 8 × 8"
BLOCKS = 0.15
"""By how much larger the share of empty coefficients is on the grid of such blocks than beside it, at least."""
YCC = (0.299, 0.587, 0.114)
"""Luma of JPEG files (ITU-T T.871), of codes."""


def _stretched(found: Floats, wanted: Floats, far: float) -> str:
    """Words for values that are right but for a factor and an offset: another range, or a relief turned inside out."""
    factor, offset = _closest(found, wanted)
    left = float(np.abs(found.astype(np.float64) * factor + offset - wanted).mean())
    if left >= 0.2 * far or found.shape[2] > 1 or abs(factor) < 0.02:
        return ""
    if factor < 0:
        return "it is inverted, and its range is another one"
    return "its range is another one: levels, depth or middle were changed"


def _in_blocks(found: Floats) -> bool:
    """Whether a picture was rounded in blocks of 8 × 8 cosine coefficients, as JPEG (ISO/IEC 10918-1) rounds them.

    Many coefficients are then nothing on the grid of the blocks, and only there: half a block aside they are not.
    """
    codes = found[..., :3] @ np.array(YCC, np.float32) if found.shape[2] >= 3 else found[..., 0]
    here, aside = _share_of_nothing(codes * 255, 0), _share_of_nothing(codes * 255, 4)
    return bool(here > aside + BLOCKS)


def _share_of_nothing(codes: Floats, offset: int) -> float:
    """Share of cosine coefficients of the finer half that are nothing within rounding, in blocks that begin at an offset."""
    h, w = ((n - offset) // 8 * 8 for n in codes.shape)
    if min(h, w) < 16:
        return 0.0
    blocks = codes[offset : offset + h, offset : offset + w].reshape(h // 8, 8, w // 8, 8).transpose(0, 2, 1, 3)
    fine = np.add.outer(np.arange(8), np.arange(8)) >= 6
    return float((np.abs(fft.dctn(blocks, axes=(2, 3), norm="ortho")[..., fine]) < 1).mean())


@dataclass(frozen=True)
class Verdict:
    """Whether a receiver shows what was meant.

    Attributes
    ----------
    same : bool
        Every map is the same, or its format explains the difference and nobody sees it.
    maps : list of Proved
    picture : Seen, or None
        How far the surface under light is from the live one; None where no picture can be made.
    responsible : str
        The map that makes the picture differ most; '' where nobody sees a difference.
    damaged : list of str
        Files that were changed since they were delivered.
    mistakes : dict of str to float
        Usual mistakes, and the mean ΔE00 of the picture that each would make.
    """

    same: bool
    maps: list[Proved]
    picture: Seen | None
    responsible: str
    damaged: list[str]
    mistakes: dict[str, float]

    def as_dict(self) -> dict[str, Any]:
        seen = None if self.picture is None else {k: round(v, 4) for k, v in vars(self.picture).items()}
        return {
            "same": self.same,
            "maps": [p.as_dict() for p in self.maps],
            "picture": seen,
            "responsible": self.responsible,
            "damaged": self.damaged,
            "mistakes": {k: round(v, 3) for k, v in self.mistakes.items()},
        }


def verdict(
    got: Received, meant: Mapping[str, Image], meanings: Mapping[str, ThreadSpec], *, mistakes: bool = True, task: Task = IDLE
) -> Verdict:
    """What a receiver shows, held against what was meant: map by map, and as a picture under light.

    Parameters
    ----------
    got : Received
    meant : mapping of str to Image
        As it was made; of the size of the delivery.
    meanings : mapping of str to ThreadSpec
        One range for both.
    mistakes : bool
        Make the usual mistakes on purpose, too.

    >>> import numpy as np
    >>> from silent_loom.core.delivery.unpacking import Unpacked
    >>> from silent_loom.core.weave.threads import spec
    >>> maps = {"roughness": Image(np.full((8, 8, 1), 0.5, np.float32), Kind.DATA)}
    >>> told = {"roughness": spec("roughness")}
    >>> verdict(Received(Unpacked(maps, told, {"roughness": 8}), {}, [], {}), maps, told).same
    True
    """
    proved = prove(got.unpacked.maps, meant, meanings)
    visible = {n: m for n, m in meant.items() if n in got.unpacked.maps}
    picture, worst, tries = None, "", {}
    if visible:
        live = looked_at(visible, meanings)
        seen = {n: got.unpacked.maps[n] for n in visible}
        picture = apart(looked_at(seen, meanings), live)
        if any(not p.same for p in proved):
            worst, _ = responsible(seen, visible, meanings, task)
        for name, (_, needs, _) in MISTAKES.items() if mistakes else ():
            if needs in seen:
                task.checkpoint()
                tries[name] = apart(looked_at(mistaken(seen, name), meanings), live).mean
    invisible = picture is not None and picture.same
    told = [_with_files(p, got) for p in proved]
    smaller = _no_smaller_than_meant(told, got, meant, meanings)
    same = all(p.same or p.map in smaller or _allowed(p, got, bool(invisible)) for p in told) and not got.damaged
    return Verdict(same, told, picture, worst, got.damaged, tries)


def _with_files(p: Proved, got: Received) -> Proved:
    """One map with what its files say of themselves: a wrong tag is a mistake even where every sample is right."""
    if p.map in got.tags:
        return replace(p, same=False, mistake=got.tags[p.map])
    if p.same:
        return p
    saved, own = got.saved.get(p.map, ""), "" if p.mistake == THROUGH_JPEG else p.mistake
    if saved:
        return replace(p, mistake="; ".join(w for w in (saved, own) if w))
    return replace(p, explained=got.lossy[p.map]) if p.map in got.lossy else p


def _no_smaller_than_meant(
    told: list[Proved], got: Received, meant: Mapping[str, Image], meanings: Mapping[str, ThreadSpec]
) -> set[str]:
    """Maps that differ because their file is a part of the set's size, and are exactly what was meant at that size."""
    out = set()
    for p in told:
        sizes = {got.unpacked.facts[f].size for f in got.unpacked.files.get(p.map, ()) if f in got.unpacked.facts}
        if p.same or p.mistake or not p.explained or len(sizes) != 1:
            continue
        w, h = sizes.pop()
        whole = meant[p.map]
        if w < whole.width:
            both = {n: meant[n] for n in (p.map, "normal") if n in meant}  # roughness takes up what normals lose
            small = reduced(both, w, h)[p.map]
            back = small.with_pixels(enlarge(small.pixels, whole.width, whole.height, True))
            found, wanted = (as_codes(i, meanings[p.map]) for i in (got.unpacked.maps[p.map], back))
            if differences(found, wanted, meanings[p.map]).max_code <= 2 * WITHIN:  # rounded, then enlarged beyond its ends
                out.add(p.map)
    return out


def _allowed(p: Proved, got: Received, invisible: bool) -> bool:
    """Whether a map differs by no more than its format is known to cost."""
    if not p.explained:
        return False
    cost = got.costs.get(p.map)
    return invisible or (cost is not None and p.difference is not None and p.difference.mean_code <= COST * cost + 0.1)


COST = 1.1
"""How many times the error that was noted when a lossy file was written may be found again: files are noted for themselves,
maps that are packed are looked at by themselves."""
