"""A delivery that goes beyond what its receiver takes: refused in words, with the packing that fits."""

from __future__ import annotations

from collections.abc import Callable, Collection, Sequence

from silent_loom.core.base.errors import LoomError
from silent_loom.core.delivery.fitting import Fit
from silent_loom.core.delivery.profile import Profile, file_names
from silent_loom.core.delivery.verdict import Packed, Proposal, proposals, verdict

Measure = Callable[[Profile], Sequence[Packed]]
"""The pictures that a profile would make."""


class Beyond(LoomError):
    """The files of a delivery are more than its receiver takes."""


def measured(present: Collection[str], how: Fit, each: Callable[[str], float] = lambda name: 0.0) -> Measure:
    """What tells the pictures of a profile for a material with these maps.

    Parameters
    ----------
    present : collection of str
        Maps of the material.
    how : Fit
    each : callable
        Bytes of a file that one channel of a map takes a texel, about; nothing where only counts and sizes matter.
    """
    have = set(present)

    def measure(profile: Profile) -> list[Packed]:
        out = []
        for spec in file_names(profile, "set", have).values():
            w, h = max(1, how.width // spec.share), max(1, how.height // spec.share)
            out.append(Packed(spec, w, h, round(w * h * sum(each(c.thread) for c in spec.channels if c.thread))))
        return out

    return measure


def packing_that_fits(profile: Profile, present: Collection[str], measure: Measure) -> list[Proposal]:
    """The fewest changes, one after the other, after which a delivery fits; none where no packing does.

    Changes that cost nothing come before those that leave something out. The profile of the last one is the one to use.

    >>> from silent_loom.core.delivery.fitting import fit
    >>> from silent_loom.core.delivery.profile import Limits
    >>> from silent_loom.core.delivery.shelf import profile
    >>> small = profile("plain").model_copy(update={"limits": Limits(files=4)})
    >>> measure = measured(["base", "roughness"], fit(small, (1.0, 1.0), 64))
    >>> [p.title for p in packing_that_fits(small, ["base", "roughness"], measure)]
    ['occlusion, roughness, metallic in one file']
    """
    now, taken = profile, list[Proposal]()
    have = set(present)
    for _ in range(8):
        if verdict(now, measure(now), have).fits:
            return taken
        left = [p for p in proposals(now, have) if p.profile != now and p.title not in {t.title for t in taken}]
        if not left:
            return []
        enough = [p for p in left if verdict(p.profile, measure(p.profile), have).fits]
        taken.append(min(enough or left, key=lambda p: p.consent))
        now = taken[-1].profile
    return []


def check_limits(profile: Profile, files: Sequence[Packed], present: Collection[str], measure: Measure) -> None:
    """Refuse what a receiver does not take.

    Raises
    ------
    Beyond
        Says each limit, what there would be, and the packing that fits.
    """
    over = [line for line in verdict(profile, files, set(present)).lines if not line.fits]
    if not over:
        return
    said = "; ".join(f"{line.limit}, and there would be {line.has}" for line in over)
    fits = packing_that_fits(profile, present, measure)
    words = "; then ".join(f"{p.title[0].lower()}{p.title[1:]} ({p.costs})" for p in fits)
    raise Beyond(
        f"this is more than its receiver takes: {said}",
        profile.name,
        f"This would fit: {words}. Take that packing with --fitting, or deliver as it is with --anyway."
        if fits
        else "No other packing fits: ask for a smaller size, or deliver as it is with --anyway.",
    )
