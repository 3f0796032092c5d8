"""What the manifest of a delivery says, put together from what was made."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

from silent_loom.core.delivery.fitting import Fit
from silent_loom.core.delivery.package.relief import relief_of
from silent_loom.core.delivery.profile import Profile
from silent_loom.core.weave import threads
from silent_loom.core.weave.threads import ThreadSpec

if TYPE_CHECKING:
    from silent_loom.core.delivery.writing import Making


def facts_of(
    profile: Profile,
    name: str,
    how: Fit,
    making: Making,
    meanings: Mapping[str, ThreadSpec],
    version: int,
    two_sided: bool,
) -> dict[str, Any]:
    """The manifest but for who made it and why."""
    height = meanings.get("height") or threads.spec("height")
    low, depth = height.low, height.depth
    maps = making.small
    inside = {t for e in profile.files for t in e.threads}
    relief = relief_of(maps["height"], height.low, height.high) if "height" in maps else None
    return {
        "schema_version": 2,
        "name": name,
        "profile": profile.name,
        "profile_title": profile.title,
        "version": version,
        "size": [how.width, how.height],
        "repeat_mm": list(how.size_mm),
        "depth_mm": depth,
        "height_middle_mm": -low,
        "green": profile.green,
        "squeeze": round(how.squeeze, 6),
        "fit": list(how.words),
        "cutout": making.cutout,
        "two_sided": two_sided or any(t.startswith("back_") for t in inside & set(maps)),
        "occlusion_in_base": any(
            c.thread == "base" and c.times == "occlusion" and c.amount > 0 for f in profile.files for c in f.channels
        ),
        **({"relief": {k: round(float(v), 9) for k, v in vars(relief).items()}} if relief is not None else {}),
        "maps": {
            t: {"kind": str(s.kind), "unit": s.unit, "low": s.low, "high": s.high, "channels": len(s.neutral)}
            for t, s in meanings.items()
        },
        **({"values": making.values} if making.values else {}),
        "files": making.entries,
    }
