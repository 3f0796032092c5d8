"""A saved weave with a photo put through it, and settings named by path."""

from __future__ import annotations

import json
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from pydantic import ValidationError

from silent_loom.core.base.bounded_json import MOST_BYTES, loads
from silent_loom.core.base.errors import FileError, SettingError, WeaveError
from silent_loom.core.weave import registry
from silent_loom.core.weave.rows import edit
from silent_loom.core.weave.rows.model import SourceRef, Weave
from silent_loom.core.weave.rows.upgrade import parsed

Pair = tuple[str, str, Any]
"""Path of a row or group, name of a setting or dial, value."""


def parse_value(text: str) -> Any:
    """A setting typed on a command line: JSON where it is JSON, else the text itself.

    >>> parse_value("2.5"), parse_value("cut"), parse_value("[1, 2]")
    (2.5, 'cut', [1, 2])
    """
    try:
        return json.loads(text)
    except (ValueError, RecursionError):
        return text


def pairs_from(texts: Sequence[str]) -> list[Pair]:
    """``PATH.SETTING=VALUE`` texts taken apart.

    >>> pairs_from(["relief/height.depth_mm=4", "relief.wear=0.5"])
    [('relief/height', 'depth_mm', 4), ('relief', 'wear', 0.5)]

    Raises
    ------
    SettingError
        One cannot be read.
    """
    found: list[Pair] = []
    for text in texts:
        key, equals, value = text.partition("=")
        path, dot, name = key.strip().rpartition(".")
        if not equals or not dot or not name or not path:
            raise SettingError("this is not STEP.SETTING=VALUE", text, "For example: height.invert=true")
        found.append((path, name, parse_value(value.strip())))
    return found


def check_file_setting(step: str, name: str, where: str) -> None:
    """Which file is meant is never said by a setting.

    Raises
    ------
    SettingError
    """
    info = registry.fields(step).get(name)
    extra = info.json_schema_extra if info is not None else None
    if isinstance(extra, dict) and extra.get("shape") == "source":
        raise SettingError("which file is meant is said by the command itself", where, "Name the photo first.")


def with_pairs(weave: Weave, pairs: Sequence[Pair]) -> Weave:
    """A weave with settings of rows, and dials of groups, changed by their paths.

    Raises
    ------
    WeaveError, SettingError

    >>> from silent_loom.core.weave.rows.beginnings import woven_from
    >>> weave = with_pairs(woven_from("gravel"), [("normal", "strength", 2.0)])
    >>> next(r for r in weave.rows() if r.step == "normal").settings["strength"]
    2.0
    """
    for path, name, value in pairs:
        row = weave.find(path)
        check_file_setting(getattr(weave.at(row), "step", ""), name, f"{path}.{name}")
        weave = edit.set_values(weave, row, {name: value})
    return weave


def read_weave(path: Path) -> Weave:
    """A weave as the bench and the documentation write it.

    Raises
    ------
    FileError
        It cannot be read, or is no weave; the first thing that is wrong is said.
    """
    try:
        if path.stat().st_size > MOST_BYTES:
            raise FileError("this is too large for a weave", path.name, f"At most {MOST_BYTES >> 20} MB are taken.")
        loads(body := path.read_bytes(), path.name)  # bounded before anything is built of it
        return parsed(body)
    except OSError as error:
        raise FileError(f"the weave cannot be read ({error.strerror})", path.name, "Check the path.") from None
    except ValidationError as error:
        first = error.errors()[0]
        place = ".".join(str(p) for p in first["loc"]) or "the file"
        raise FileError(f"this is no weave: {place}: {first['msg'].lower()}", path.name, "See docs/weave-format.md.") from None
    except ValueError:
        raise FileError("this is no weave", path.name, "A weave is a JSON file, as the bench gives it.") from None


def through_again(weave: Weave, digest: str, source: SourceRef, keep_corners: bool = False) -> Weave:
    """A weave for another photo: its corners and where its light came from are let go, unless both were taken alike.

    Raises
    ------
    WeaveError
        Nothing in it takes a photo.

    >>> from silent_loom.core.weave.rows.recipes import starting_weave
    >>> photo = SourceRef(name="deck.png", format="png", width=640, height=480, bytes=1000)
    >>> weave = through_again(starting_weave("ab" * 32, photo), "cd" * 32, photo)
    >>> weave.rows()[0].settings["source"] == "cd" * 32
    True
    """
    made = put_through(weave, digest, source)
    if keep_corners:
        return made
    for can, setting in (("straighten", "corners"), ("shading", "light_deg")):
        for row in made.rows():
            if registry.can(row.step, can) and row.settings.get(setting) is not None:
                made = made.with_settings(row.id, {setting: None})
    return made


def put_through(weave: Weave, digest: str, source: SourceRef) -> Weave:
    """A weave with another photo at its beginning; other files behind it stay.

    Raises
    ------
    WeaveError
        Nothing in it takes a photo.

    >>> from silent_loom.core.weave.rows.recipes import starting_weave
    >>> photo = SourceRef(name="deck.png", format="png", width=640, height=480, bytes=1000)
    >>> weave = put_through(starting_weave("ab" * 32, photo), "cd" * 32, photo)
    >>> weave.rows()[0].settings["source"] == "cd" * 32
    True
    """
    row = weave.able("photo")
    if row is None:
        raise WeaveError("nothing in this weave takes a photo", "weave", "Use one that begins with a photo.")
    made = weave.with_settings(row.id, {"source": digest})
    return made.model_copy(update={"sources": {**made.sources, digest: source}})
