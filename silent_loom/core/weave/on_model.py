"""Where threads lie once a sheet was laid on a model, and how what repeats comes there."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING, Protocol

from silent_loom.core.base.bounded_memory import Memory
from silent_loom.core.base.images import Image
from silent_loom.core.base.parallel import Task

if TYPE_CHECKING:  # what lies on no model needs none of it
    from silent_loom.core.form.bake.surface import Surface
    from silent_loom.core.form.lay.laying import Laying
    from silent_loom.core.form.model import Model

SURFACES: Memory[tuple[str, str, str, str, tuple[int, int]], Surface] = Memory(2)
"""Models laid out, by the hash of their file, their unit, the axis that points up, the UV set, and the size in texels."""


class Models(Protocol):
    """Gives the models behind a weave by the content hash of their files."""

    def model(self, digest: str) -> Model: ...


@dataclass(frozen=True)
class OnModel:
    """The square of a UV set that threads lie in, and the sheet that they came from.

    Attributes
    ----------
    model : str
        SHA-256 of the model's file.
    uv : str
        Name of the UV set, the first one where it is empty.
    laying : Laying
        How the sheet was laid on.
    sheet_mm : tuple of float
        Width and height of one repeat of that sheet.
    unit, up : str
        Unit of the file and the axis that points up, where they are not as the file has them: see `taken_as`.
    """

    model: str
    uv: str
    laying: Laying
    sheet_mm: tuple[float, float]
    unit: str = ""
    up: str = ""

    def read(self, models: Models) -> Model:
        """The model itself, in its unit and the right way up.

        Raises
        ------
        WeaveError, FileError
            The model is missing, or cannot be read.
        """
        from silent_loom.core.form.reading.table import taken_as

        return taken_as(models.model(self.model), self.unit, self.up)

    def surface(self, models: Models, size: tuple[int, int]) -> Surface:
        """The model laid out at a size in texels; the last ones are kept.

        Raises
        ------
        WeaveError, FileError
            The model is missing, or cannot be read.
        LoomError
            It has no such UV set.
        """
        from silent_loom.core.form.lay.places import onto_itself

        known = (self.model, self.unit, self.up, self.uv, size)
        return SURFACES.answer(known, lambda: onto_itself(self.read(models), size, self.uv))

    def finer(self, pitch_mm: float) -> float:
        """Pitch that a sheet has to have for a texel pitch on the model, in millimetres of the sheet."""
        return pitch_mm / self.laying.scale

    def laid(self, sheets: Mapping[str, Image], models: Models, size: tuple[int, int], task: Task) -> dict[str, Image]:
        """Images of a repeating sheet in the model's UV set; what lies between islands is filled from the nearest one.

        Raises
        ------
        WeaveError, LoomError
            As `surface`.
        """
        from silent_loom.core.form.lay.laying import lay

        return lay(self.surface(models, size), sheets, self.laying, task=task).maps
