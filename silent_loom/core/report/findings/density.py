"""How many pixels there are to a centimetre."""

from __future__ import annotations

from silent_loom.core.base.parallel import Task
from silent_loom.core.report.finding import Finding, Seen

PLACE = 0
"""Where it comes among the findings."""


def find(seen: Seen, task: Task) -> list[Finding]:
    """What there is to say of it."""
    findings: list[Finding] = []
    w, _ = seen.size
    if seen.width_mm:
        density = w / (seen.width_mm / 10)
        seen.figures["pixels_per_cm"] = round(density, 3)
        level = "good" if density >= 20 else "note" if density >= 8 else "bad"
        findings.append(
            Finding(
                "density",
                level,
                f"{density:.3g} pixels a centimetre",
                "Enough for close views." if level == "good" else "Close views will show its pixels; fine from farther away.",
                density,
            )
        )
    return findings
