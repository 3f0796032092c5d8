"""Maps made one after another, and the files of each written meanwhile."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from concurrent.futures import Future, ThreadPoolExecutor, wait
from pathlib import Path
from typing import Any

import numpy as np

from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.base.parallel import WORKERS, Task
from silent_loom.core.base.srgb import encode_srgb
from silent_loom.core.delivery.fitting import Fit, fitted
from silent_loom.core.delivery.packing import as_value, pack, write_file
from silent_loom.core.delivery.placing import sha256
from silent_loom.core.delivery.profile import FileSpec, Profile
from silent_loom.core.delivery.reduce import reduced
from silent_loom.core.files import read
from silent_loom.core.moving.resample import at_most, normalise, reduce_area
from silent_loom.core.weave import threads
from silent_loom.core.weave.threads import ThreadSpec

NOTABLE = 1e-4
"""Share of cut samples that is worth a warning; the manifest counts every one."""
THUMB = 256
"""Longer side of the small samples that are kept of each file, for the contact sheet."""


LARGE = 1 << 24
"""Texels beyond which the next map waits for the files of those before, all but the last."""
SMALL = 1024
"""Longer side at which maps are kept for what is told of them."""


class Making:
    """One delivery in the making.

    Attributes
    ----------
    small : dict of str to Image
        Every map made so far, as the receiver gets it, at 1024 texels at most.
    cutout : bool
        Opacity is all or nothing.
    entries : list of dict
        What the manifest says of each file.
    values : dict of str to list of float
        Maps that are the same everywhere and got no file.
    samples : dict of str to array
        Small samples of each file.
    warnings : list of str
    """

    def __init__(self, profile: Profile, meanings: Mapping[str, ThreadSpec], task: Task) -> None:
        self.profile, self.meanings, self.task = profile, meanings, task
        self.small: dict[str, Image] = {}
        self.cutout = False
        self.values: dict[str, list[float]] = {}
        self.warnings: list[str] = []
        self.samples: dict[str, Floats] = {}
        self._entries: dict[str, dict[str, Any]] = {}
        self._order: list[str] = []
        self._raw: dict[str, Image] = {}

    @property
    def entries(self) -> list[dict[str, Any]]:
        return [self._entries[t] for t in self._order if t in self._entries]

    def first(self, names: Sequence[str], make: Callable[[str], Image]) -> Image:
        """The first map, which tells the size of all."""
        self._report(0.0, names[0])
        self._raw[names[0]] = make(names[0])
        return self._raw[names[0]]

    def _report(self, fraction: float, name: str) -> None:
        self.task.report(fraction, (self.meanings.get(name) or threads.spec(name)).title)

    def write(
        self,
        hidden: Path,
        names: Mapping[str, FileSpec],
        made: Sequence[str],
        make: Callable[[str], Image],
        how: Fit,
        skip_constant: bool,
    ) -> None:
        """Make the maps and write each file once all that goes into it is there."""
        small = [n for n in self.profile.sizes if n < max(how.width, how.height)]
        self._order = [*names, *(_small_name(t, n) for n in small for t in names)]
        waiting = dict(names)
        maps: dict[str, Image] = {}
        with ThreadPoolExecutor(max(1, WORKERS)) as pool:
            writing: list[Future[None]] = []
            for i, thread in enumerate(made):
                self._report(0.85 * i / len(made), thread)
                if how.width * how.height > LARGE:  # what waits to be written waits in memory
                    wait(writing[:-1])
                raw = self._raw.pop(thread) if thread in self._raw else make(thread)
                maps[thread] = fitted(raw, how, self.task.part(0, 0))
                self._keep_small(thread, maps[thread])
                for target in [t for t, spec in waiting.items() if self._all_of(spec, made, bool(small)) <= set(self.small)]:
                    spec = waiting.pop(target)
                    parts = {t: maps[t] for t in self._all_of(spec, made, bool(small))} or {thread: maps[thread]}
                    if skip_constant and self._skipped(spec, parts):
                        continue
                    writing.append(pool.submit(self._one, hidden, target, spec, parts, 0, ""))
                    for n in small:
                        writing.append(pool.submit(self._one, hidden, _small_name(target, n), spec, parts, n, target))
                needed = {t for spec in waiting.values() for t in self._all_of(spec, made, bool(small))}
                maps = {t: m for t, m in maps.items() if t in needed}  # a large set is never all in memory
            for i, done in enumerate(writing):
                self.task.report(0.85 + 0.15 * i / len(writing), f"writing file {i + 1} of {len(writing)}")
                self.task.checkpoint()
                done.result()

    def _keep_small(self, thread: str, image: Image) -> None:
        self.small[thread] = at_most(image, SMALL)
        if thread == "opacity":
            self.cutout = all_or_nothing(image)

    def _all_of(self, spec: FileSpec, made: Sequence[str], small: bool) -> set[str]:
        """Threads that have to be there before a file can be written."""
        wanted = spec.threads & set(made)
        if (small or spec.share > 1) and "roughness" in wanted:
            wanted |= {"normal"} & set(made)
        return wanted

    def _skipped(self, spec: FileSpec, parts: Mapping[str, Image]) -> bool:
        """Whether a file holds nothing but maps that are the same everywhere: their values are noted instead."""
        own = {t: parts[t] for t in spec.threads & set(parts)}
        if not own or as_value(spec, own, self.meanings, self.profile.green) is None:
            return False
        for name, image in own.items():
            self.values[name] = [round(float(v), 7) for v in image.pixels[0, 0]]
        return True

    def _one(self, hidden: Path, target: str, spec: FileSpec, parts: Mapping[str, Image], small: int, of: str) -> None:
        any_image = next(iter(parts.values()))
        w, h = any_image.width, any_image.height
        scale = min(1.0, small / max(w, h)) / spec.share if small else 1 / spec.share
        if scale < 1:
            w, h = max(1, round(w * scale)), max(1, round(h * scale))
            parts = reduced(parts, w, h, task=self.task.part(0, 0))
        samples = pack(spec, parts, self.meanings, self.profile.green)
        done = write_file(hidden / target, spec, samples, self.task.part(0, 0))
        if done.clipped > NOTABLE * samples.size:
            share = 100 * done.clipped / samples.size
            self.warnings.append(
                f"{target}: {done.clipped} samples ({share:.2g} %) lay outside what the file can hold and were cut"
            )
        if done.constant:
            self.warnings.append(f"{target}: constant")
        coded = "sRGB" if spec.colour and spec.depth in ("8", "16") else "linear" if spec.colour else "data"
        entry: dict[str, Any] = {
            "file": target,
            "channels": [c.model_dump(mode="json") for c in spec.channels],
            "format": spec.format,
            "bits": spec.depth,
            "colour": coded,
            "size": [w, h],
            "clipped": done.clipped,
            "constant": done.constant,
            "bytes": done.bytes,
            "sha256": sha256(hidden / target),
            **({"dither": True} if spec.dither and spec.depth == "8" and not done.constant and not spec.palette else {}),
            **({"set": str(small), "small_of": of} if of else {}),
        }
        if spec.format == "jpeg" or (spec.format == "webp" and spec.colour) or (spec.palette and len(spec.channels) > 1):
            entry["lossy"] = True
        if entry.get("lossy") or spec.palette:
            entry |= _loss(hidden / target, spec, samples)
            if entry.get("palette_degrees"):
                self.warnings.append(f"{target}: its palette turns normals by {entry['palette_degrees']:.2g}° on average")
        self._entries[target] = entry
        if not of:
            tall, wide = max(1, round(h * min(1, THUMB / max(w, h)))), max(1, round(w * min(1, THUMB / max(w, h))))
            self.samples[target] = reduce_area(np.ascontiguousarray(samples), wide, tall) if wide < w else samples


def _small_name(target: str, size: int) -> str:
    first, _, end = target.rpartition(".")
    return f"{first}_{size}.{end}"


def _loss(path: Path, spec: FileSpec, samples: Floats) -> dict[str, Any]:
    """What a lossy file costs: its mean error in codes of 8 bits, its colours, by how many degrees it turns normals."""
    picture = read(path)
    back = picture.data()
    n = min(back.shape[2], samples.shape[2])
    meant = np.clip(samples[..., :n], 0, 1)
    if spec.colour:
        meant = encode_srgb(meant)
    facts: dict[str, Any] = {"loss_codes": round(float(np.abs(back[..., :n] - meant).mean()) * 255, 4)}
    if not spec.palette:
        return facts
    facts["palette"] = spec.palette
    first = spec.channels[0].thread
    if first and threads.spec(first).kind is Kind.NORMAL and spec.whole(first):
        a, b = normalise(back * 2 - 1), normalise(samples * 2 - 1)
        far = 2 * np.arctan2(np.linalg.norm(a - b, axis=2), np.linalg.norm(a + b, axis=2))
        facts["palette_degrees"] = round(float(np.degrees(far).mean()), 3)
    return facts


BETWEEN = 0.02
"""Of the texels, with an opacity that is neither nothing nor all: beyond it, it is not a cutout."""


def all_or_nothing(opacity: Image) -> bool:
    """Whether texels are there or not, with next to none between.

    >>> all_or_nothing(Image(np.array([[[0.0], [1.0]]], np.float32), Kind.DATA))
    True
    """
    p = opacity.pixels
    return bool(((p > 0.02) & (p < 0.98)).mean() <= BETWEEN and np.ptp(p) > 0.5)
