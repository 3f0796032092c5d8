"""Settings of steps: every field has a unit, a range, a default and one plain sentence."""

from __future__ import annotations

from typing import Annotated, Any, ClassVar

from pydantic import BaseModel, ConfigDict, Field, StringConstraints

from silent_loom.core.base.images import Kind

ThreadName = Annotated[str, StringConstraints(pattern=r"^[A-Za-z_][A-Za-z0-9_]{0,59}$")]
"""Name of a thread as a setting."""


class Settings(BaseModel):
    """Base of every step's settings; unknown names are refused, values never change in place."""

    model_config = ConfigDict(defer_build=True, extra="forbid", frozen=True, allow_inf_nan=False)
    last: ClassVar[tuple[str, ...]] = ()
    """Settings that are shown after all others, wherever they are declared."""


def setting(
    default: Any,
    say: str,
    *,
    title: str = "",
    unit: str = "",
    low: float | None = None,
    high: float | None = None,
    soft: tuple[float, float] | None = None,
    step: float | None = None,
    shape: str = "",
    when: dict[str, list[Any]] | None = None,
    log: bool = False,
    names: dict[Any, str] | None = None,
    empty: str = "",
    kinds: tuple[Kind, ...] = (),
    also: tuple[str, ...] = (),
    new: bool = False,
    ends: tuple[str, str] | None = None,
) -> Any:
    """Declare one setting.

    Parameters
    ----------
    default
        Value on a fresh step.
    say : str
        One plain sentence for the artist.
    title : str
        Word on screen; made from the field's name when empty.
    unit : str
        'mm', '°', '%', …; empty for plain numbers; 'of the sheet' for parts of its longer side, which are shown as lengths.
    low, high : float
        Hard range of a number.
    soft : tuple of float
        Range of its slider, when the hard range is wider than a slider is good for.
    step : float
        Smallest sensible change.
    shape : str
        How a value that has a shape is drawn: 'curve', 'corners', 'sizes', 'colour', 'thread', 'source'.
    when : dict
        Show only when other settings have one of these values.
    log : bool
        The slider runs evenly in ratios.
    names : dict
        Words on screen for values that are no words, or other ones than the artist's.
    empty : str
        What stands in the field when its value is None or 0 and something else decides.
    kinds : tuple of Kind
        Of a setting that names a thread (``shape='thread'``, type `ThreadName`): the kinds that the step can do with.
    also : tuple of str
        Values of such a setting that are no threads.
    new : bool
        Such a setting names what the step makes: any name will do.
    ends : tuple of str
        Words for the two ends of a slider.
    """
    extra: dict[str, Any] = {"unit": unit, "soft": list(soft) if soft else None, "step": step, "shape": shape}
    extra |= {"when": when, "log": log, "names": {str(k): v for k, v in (names or {}).items()}, "empty": empty}
    extra |= {"kinds": [str(k) for k in kinds], "also": list(also), "new": new, "ends": ends}
    return Field(default, description=say, title=title or None, ge=low, le=high, json_schema_extra=extra)
