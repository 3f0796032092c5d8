"""What the manifest of a delivery says, as a schema: ``docs/manifest.schema.json`` is made from it."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field

from silent_loom.core.delivery.channel import Channel


class Meant(BaseModel):
    """What one map means."""

    model_config = ConfigDict(extra="forbid")
    kind: Literal["colour", "data", "normal", "id", "vector", "channels"]
    unit: str = ""
    low: float = Field(description="What 0 of a file stands for.")
    high: float = Field(description="What 1 of a file stands for.")
    channels: int


class Listed(BaseModel):
    """One file."""

    model_config = ConfigDict(extra="forbid")
    file: str
    format: str
    bytes: int
    sha256: str
    channels: list[Channel] = Field(default_factory=list, description="What each channel holds; none for an open material.")
    bits: Literal["", "8", "16", "half", "float"] = ""
    colour: Literal["", "sRGB", "linear", "data"] = ""
    size: list[int] = Field(default_factory=list, description="Texels across and down.")
    clipped: int = Field(0, description="Samples that the format had to cut.")
    constant: bool = False
    palette: int = Field(0, description="Colours of a palette; 0 for none.")
    palette_degrees: float | None = Field(None, description="By how much a palette turns normals, on average.")
    loss_codes: float | None = Field(None, description="Mean error of a lossy file, in code values of 8 bits.")
    lossy: bool = Field(False, description="The format does not keep every code.")
    dither: bool = False
    set: str = Field("", description="Longer side of the smaller set that it belongs to; empty in the set itself.")
    small_of: str = Field("", description="The file of the large set that it was made from.")


class Relieved(BaseModel):
    """What displaces a mesh as the height does."""

    model_config = ConfigDict(extra="forbid")
    scale: float = Field(description="From black to white, where one repeat is one unit wide.")
    depth_mm: float
    width_mm: float
    middle: float = Field(description="Value of the file, 0…1, that stays where it is.")
    spacing_mm: float = Field(description="Between vertices of a mesh that shows 90 % of the relief's variance.")


class Manifest(BaseModel):
    """A delivery. More may stand in it than is said here."""

    model_config = ConfigDict(extra="allow")
    schema_version: Literal[2] = 2
    made_by: str
    name: str = Field(description="First part of the file names.")
    profile: str
    profile_title: str = ""
    version: int = 1
    size: list[int] = Field(description="Texels across and down.")
    repeat_mm: list[float] = Field(description="Millimetres that the files show, across and down; they repeat.")
    depth_mm: float = Field(description="Millimetres of height from black to white.")
    height_middle_mm: float = Field(description="Millimetres from black to where the surface is.")
    green: Literal["up", "down"]
    squeeze: float = Field(1.0, description="How many times as high as in truth it is shown.")
    fit: list[str] = Field(default_factory=list, description="What was done to the sheet for this receiver, in words.")
    cutout: bool = Field(False, description="Opacity is all or nothing.")
    two_sided: bool = False
    occlusion_in_base: bool = False
    relief: Relieved | None = None
    maps: dict[str, Meant]
    values: dict[str, list[float]] = Field(
        default_factory=dict, description="Maps that are the same everywhere and have no file."
    )
    files: list[Listed]
    warnings: list[str] = Field(default_factory=list)
    asks_for: dict[str, Any] = Field(default_factory=dict, description="The profile itself, whole.")
    left: list[str] = Field(default_factory=list, description="Maps that were left out on purpose.")
    weave: dict[str, Any] | None = Field(None, description="The exact weave that it was made from.")


def schema() -> dict[str, Any]:
    """The JSON schema of a manifest (draft 2020-12).

    >>> schema()["type"]
    'object'
    """
    made = Manifest.model_json_schema()
    long = made["$defs"]["Channel"]
    short = {"type": "string", "description": "Short: 'roughness', 'base.g', '1-roughness', '0.5'."}
    made["$defs"]["Channel"] = {"anyOf": [short, long]}
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **made}
