"""Where profiles lie: those that ship, and those of the artist's own."""

from __future__ import annotations

import json
import os
from collections.abc import Mapping
from functools import cache
from importlib import resources
from pathlib import Path
from typing import Any

from pydantic import ValidationError

from silent_loom.core.base.errors import FileError, LoomError
from silent_loom.core.base.troubles import passed_over
from silent_loom.core.delivery.profile import Profile
from silent_loom.core.files.place import drop, place

OWN = "SILENT_LOOM_PROFILES"
"""Names the folder of the artist's own profiles, for the command line; ``profiles`` in the data folder for the application."""
MOST = 1 << 20
"""Bytes of a profile's file at most."""


@cache
def profiles() -> dict[str, Profile]:
    """Every profile that ships, by name.

    >>> "plain" in profiles(), len(profiles()) >= 8
    (True, True)
    """
    folder = resources.files("silent_loom.core.delivery") / "profiles"
    found: list[Profile] = []
    for file in folder.iterdir():
        if file.name.endswith(".json"):
            with passed_over(f"delivery/profiles/{file.name}"):
                found.append(Profile.model_validate_json(file.read_text("utf-8")))
    return {p.name: p for p in sorted(found, key=lambda p: (p.name != "plain", p.name))}


def profile(name: str, folder: Path | None = None) -> Profile:
    """One profile: that ships, of the artist's own, or a file that ends in ``.json``.

    Raises
    ------
    LoomError
        There is none of this name, or it does not hold together.

    >>> profile("film").name
    'film'
    """
    if name in profiles():
        return profiles()[name]
    if name.endswith(".json"):
        return opened(Path(name))
    own = Shelf(folder).all() if (folder := folder or _own_folder()) is not None else {}
    if name not in own:
        known = [*profiles(), *own]
        raise LoomError(f"there is no profile called '{name}'", "profile", f"There are {', '.join(known)}; or name a .json file.")
    return own[name]


def of_manifest(manifest: Mapping[str, Any], folder: Path | None = None) -> Profile:
    """The profile of a delivery: the one that its manifest holds whole, else the one that it names.

    Raises
    ------
    LoomError
        It is damaged, or there is none of this name here.

    >>> of_manifest({"profile": "film"}).name
    'film'
    """
    whole = manifest.get("asks_for")
    if not isinstance(whole, Mapping) or not whole:
        return profile(str(manifest.get("profile", "plain")), folder)
    try:
        return Profile.model_validate(whole)
    except ValidationError:
        raise FileError("the profile in the manifest is damaged", "asks_for", "Say how it was packed, with --profile.") from None


def known(folder: Path | None = None) -> dict[str, Profile]:
    """Every profile that ships, and the artist's own in a folder after them."""
    folder = folder or _own_folder()
    return {**profiles(), **(Shelf(folder).all() if folder is not None else {})}


def _own_folder() -> Path | None:
    return Path(os.environ[OWN]) if os.environ.get(OWN) else None


def opened(path: Path) -> Profile:
    """A profile from a file that somebody shared.

    Raises
    ------
    FileError
        It cannot be read, or is no profile; the words say where it goes wrong.
    """
    try:
        if path.stat().st_size > MOST:
            raise FileError("this is too large for a profile", path.name, "A profile is a small JSON file.")
        return read_profile(path.read_bytes(), path.name)
    except FileNotFoundError:
        raise FileError("there is no such file", str(path), "Check the path.") from None
    except OSError as error:
        raise FileError(f"cannot be read ({error.strerror})", str(path), "Check the path and its rights.") from None


def read_profile(body: bytes, called: str) -> Profile:
    """A profile from the bytes of a file.

    Raises
    ------
    FileError

    >>> read_profile(profile("plain").model_dump_json().encode(), "plain.json") == profile("plain")
    True
    """
    try:
        return Profile.model_validate_json(body)
    except ValidationError as error:
        first = error.errors()[0]
        where = ".".join(str(p) for p in first["loc"] if not isinstance(p, str) or not p.startswith("function"))
        words = first["msg"].removeprefix("Value error, ")
        raise FileError(f"this is not a profile: {words}", f"{called}{', ' if where else ''}{where}", "Mend it there.") from None


class Shelf:
    """Profiles of the artist's own: a folder with a file each.

    Parameters
    ----------
    folder : path
        Made when the first one is kept.
    """

    def __init__(self, folder: Path) -> None:
        self.folder = folder

    def all(self) -> dict[str, Profile]:
        """Every one that can be read, by name; files that cannot are passed over."""
        out: dict[str, Profile] = {}
        for path in sorted(self.folder.glob("*.json")) if self.folder.is_dir() else []:
            try:
                found = opened(path)
            except FileError:
                continue
            if found.name == path.stem and found.name not in profiles():
                out[found.name] = found
        return out

    def keep(self, made: Profile, *, replace: bool = False) -> None:
        """Keep one under its name.

        Raises
        ------
        LoomError
            The name is that of one that ships, or, unless ``replace``, of one that is there.
        """
        path = self.folder / f"{made.name}.json"
        if made.name in profiles() or (path.exists() and not replace):
            raise LoomError(f"there is a profile called '{made.name}'", "name", "Give yours another name.")
        self.folder.mkdir(parents=True, exist_ok=True)
        partial = self.folder / f".{made.name}.part"
        try:
            partial.write_text(as_text(made), "utf-8")
            place(partial, path, replace=replace)
        finally:
            drop(partial)

    def forget(self, name: str) -> None:
        """Throw one away.

        Raises
        ------
        LoomError
            There is none of this name among the artist's own.
        """
        if name not in self.all():
            raise LoomError(f"there is no profile of yours called '{name}'", "name", "Those that ship stay.")
        (self.folder / f"{name}.json").unlink()


def as_text(made: Profile) -> str:
    """A profile as the text of a file to share; only what differs from the defaults.

    >>> read_profile(as_text(profile("film")).encode(), "film.json") == profile("film")
    True
    """
    return json.dumps(made.model_dump(mode="json", exclude_defaults=True), indent=2, ensure_ascii=False) + "\n"
