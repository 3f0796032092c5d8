"""What became of one photo among many, and which of them a human should look at first."""

from __future__ import annotations

from dataclasses import asdict, dataclass, field
from typing import Any

from silent_loom.core.base.errors import Cancelled, LoomError, refusal
from silent_loom.core.base.parallel import IDLE, Task
from silent_loom.core.ways.measuring import measure
from silent_loom.core.weave.answers.evaluate import Evaluator
from silent_loom.core.weave.rows.model import Weave
from silent_loom.work.notes import map_notes

MEASURED = 1024
"""Texels along the longer side at which results are measured: what is wrong with a seam shows there."""
SEAM, CONTRAST, UNEVEN = 1.05, 0.8, 4.0
"""From where on a seam, the contrast kept along it, and the spread of broad light (L*) want a look."""


TILTED = "straighten first"
"""What is said of a photo whose lines converge: see `suggest`."""


@dataclass
class Result:
    """One photo of many.

    Attributes
    ----------
    photo : str
        Name of its file.
    state : str
        'waiting', 'running', 'done' or 'failed'.
    seam, contrast, evenness : float or None
        The worse way of the seam figure; the least contrast kept along a join; the unevenness of the finished sheet.
    odd : dict
        What is odd about each map, in words.
    why : str
        How its edges were made to meet.
    soft : str
        How blurred the photo is, in words; nothing where it is not.
    out : list of str
        Folders, or deliveries, that were made of it.
    """

    photo: str
    digest: str = ""
    state: str = "waiting"
    material: str = ""
    seam: float | None = None
    contrast: float | None = None
    evenness: float | None = None
    odd: dict[str, list[str]] = field(default_factory=dict)
    why: str = ""
    soft: str = ""
    error: str = ""
    out: list[str] = field(default_factory=list)
    files: int = 0
    seconds: float = 0.0

    def reasons(self) -> list[str]:
        """Why somebody should look at it, the worst first; nothing where all is well."""
        found: list[tuple[float, str]] = []
        if self.state == "failed":
            found.append((1000, self.error))
        if self.seam is not None and self.seam > SEAM:
            found.append((100 * (self.seam - 1), f"the seam can be found ({self.seam:.2f})"))
        if self.contrast is not None and self.contrast < CONTRAST:
            band = f"a blurred band where it was joined ({100 * self.contrast:.0f} % of the contrast)"
            found.append((50 * (1 - self.contrast), band))
        if self.evenness is not None and self.evenness > UNEVEN:
            found.append((self.evenness, f"the light is uneven (a spread of {self.evenness:.1f} in L*)"))
        if self.soft:
            found.append((15, self.soft.rstrip(".")))
        if TILTED in self.why:
            found.append((20, next(s for s in self.why.split(". ") if TILTED in s).rstrip(".")))
        found += [(2, f"{name.replace('_', ' ')}: {words}") for name, said in self.odd.items() for words in said]
        return [words for _, words in sorted(found, key=lambda f: -f[0])]

    def urgency(self) -> float:
        """By which results are sorted: failures first, then by how bad it is."""
        worst = 1000.0 if self.state == "failed" else 0.0
        seam = max(0.0, (self.seam or 0) - SEAM) * 100
        band = max(0.0, CONTRAST - (self.contrast if self.contrast is not None else 1)) * 100
        light = max(0.0, (self.evenness or 0) - UNEVEN) * 5
        return (
            worst
            + seam
            + band
            + light
            + 20 * (TILTED in self.why)
            + 15 * bool(self.soft)
            + sum(len(v) for v in self.odd.values())
        )

    def as_dict(self) -> dict[str, Any]:
        """For JSON, with the reasons."""
        return {**asdict(self), "look": self.reasons(), "urgency": round(self.urgency(), 3)}

    @classmethod
    def read(cls, told: dict[str, Any]) -> Result:
        """From what `as_dict` gave."""
        return cls(**{k: v for k, v in told.items() if k not in ("look", "urgency")})


def by_urgency(results: list[Result]) -> list[Result]:
    """What needs a human look first."""
    return sorted(results, key=lambda r: (-r.urgency(), r.photo.lower()))


def measured(result: Result, evaluator: Evaluator, weave: Weave, size: int, task: Task = IDLE) -> None:
    """Fill in the figures of a result: seams, contrast, evenness, and what is odd about its maps."""
    plan = evaluator.plan(weave)
    sheet = measure(evaluator, weave, min(size, MEASURED), task, before=False) if "base" in plan.threads else {}
    if sheet:
        result.seam = round(max(sheet["seam_x_after"], sheet["seam_y_after"]), 3)
        result.contrast = round(min(sheet["contrast_x_after"], sheet["contrast_y_after"]), 3)
        result.evenness = round(sheet["evenness_after"], 3)
    said = map_notes(evaluator, plan, weave, sheet, task)
    # A map that is the same everywhere is as the recipe wants it, and the bake tells of it
    odd = {name: [w for w in words if not w.startswith("constant")] for name, words in said.items()}
    result.odd = {name: words for name, words in odd.items() if words}


def failure(error: BaseException) -> str:
    """What went wrong with one, in words; what stops all of them is raised again.

    Raises
    ------
    Cancelled
    """
    if isinstance(error, Cancelled):
        raise error
    if isinstance(error, LoomError):
        return str(error)
    if isinstance(error, OSError):
        return str(refusal(error))
    if isinstance(error, MemoryError):
        return "there is not enough memory for it; ask for fewer texels"
    return f"{type(error).__name__}: {' '.join(str(error).split())}"
