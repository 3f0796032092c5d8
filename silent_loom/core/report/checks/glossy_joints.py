"""Joints that shine because they are pale."""

from __future__ import annotations

import numpy as np

from silent_loom.core.report.check import Checked, Mend

PLACE = 10
"""Where it comes among the checks."""

SAYS = "Joints are of sand and lime, rough whatever their colour; here they are smoother than what they lie between."
"""What it means."""


def found(what: Checked) -> list[str]:
    joint = what.sheet.get("joint")
    if what.meaning.name != "roughness" or what.constant or joint is None or joint.pixels.shape != what.image.pixels.shape:
        return []
    inside = joint.pixels > 0.6
    if not 0.005 < inside.mean() < 0.6:
        return []
    here, there = float(np.median(what.image.pixels[inside])), float(np.median(what.image.pixels[~inside]))
    return [f"joints glossier ({here:.2f}) than the rest ({there:.2f})"] if here < there - 0.02 else []


def mend(what: Checked) -> Mend:
    """Joints of their own roughness."""
    return Mend("Make the joints rough", "joints", {"rough": True}, adds=True)
