"""Lines that converge, and a photo that is turned."""

from __future__ import annotations

from silent_loom.core.base.parallel import Task
from silent_loom.core.look.tilt import most_contrast, tilt
from silent_loom.core.report.finding import Finding, Seen, cure

PLACE = 5
"""Where it comes among the findings."""


LEVEL = (0.4, 2.0)
"""Degrees that a photo may be turned by before it is noted, and before it has to be mended."""


def find(seen: Seen, task: Task) -> list[Finding]:
    """What there is to say of it.

    >>> from silent_loom.core.base.parallel import IDLE
    >>> from silent_loom.core.files.profile import SRGB
    >>> from silent_loom.core.report.finding import seen
    >>> import numpy as np
    >>> from silent_loom.core.files import Picture
    >>> codes = np.full((64, 128, 3), 90, np.uint8)
    >>> photo = seen(Picture(codes, None, SRGB, 8, "png"), None, IDLE)
    >>> [f.code for f in find(photo, IDLE)]
    []
    """
    findings: list[Finding] = []
    lines = tilt(most_contrast(seen.codes))
    seen.figures |= {"tilt_vertical_deg": round(lines.vertical, 2), "tilt_horizontal_deg": round(lines.horizontal, 2)}
    if lines.corners is not None and max(abs(lines.vertical), abs(lines.horizontal)) > 1.5:
        worst = max(abs(lines.vertical), abs(lines.horizontal))
        findings.append(
            Finding(
                "tilt",
                "bad" if worst > 6 else "note",
                f"Seen askew: lines converge by {worst:.1f}°",
                "Elements come out larger on one side, and repeats do not fit.",
                worst,
                cure("straighten", {"corners": lines.corners}, "Straighten by these lines"),
            )
        )
    seen.figures["turned_deg"] = round(lines.turned, 2)
    if abs(lines.turned) > LEVEL[0]:
        findings.append(
            Finding(
                "turn",
                "bad" if abs(lines.turned) > LEVEL[1] else "note",
                f"Turned by {abs(lines.turned):.1f}° {'clockwise' if lines.turned > 0 else 'anticlockwise'}",
                "Courses, boards and grain run downhill, and do not meet themselves at the edges.",
                lines.turned,
                cure("straighten", {"turn_deg": round(-lines.turned, 2)}, "Turn it level"),
            )
        )
    return findings
