"""What a row makes out of nothing, kept before it meets what was there: a change above it mixes anew, and draws nothing."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Callable, Mapping

from silent_loom.core.base.images import Image
from silent_loom.core.weave.answers.cache import Cache
from silent_loom.core.weave.answers.plan import Row
from silent_loom.core.weave.step import Texels


def drawn(cache: Cache, row: Row, texels: Texels, draw: Callable[[], Mapping[str, Image]]) -> Mapping[str, Image]:
    """The images of a row, unmixed: those that are kept, or as ``draw`` makes them.

    Kept are patterns that are mixed with what is above them, and follow from their settings alone.
    """
    if row.reads or "pattern" not in row.step.can or not any(row.mixes(name) for name in row.writes):
        return draw()
    said = ["unmixed", row.step.name, row.step.version, row.settings_key, texels, row.after.size_mm, row.after.wraps]
    said += [repr(row.after.on)] if row.after.on is not None else []
    key = hashlib.sha256(json.dumps(said, default=str).encode()).hexdigest()[:32]
    kept = {name: image for name in row.writes if (image := cache.get(f"{key}:{name}")) is not None}
    if len(kept) == len(row.writes):
        return kept
    made = draw()
    for name, image in made.items():
        cache.put(f"{key}:{name}", image)
    return made
