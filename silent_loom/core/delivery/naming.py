"""Names of delivered files: a pattern with tokens, held against what every system takes."""

from __future__ import annotations

import re
from collections.abc import Mapping

from silent_loom.core.base.errors import LoomError
from silent_loom.core.delivery.names import RESERVED

TOKENS = {
    "material": "The material's name, as a file name.",
    "map": "The suffix of the file.",
    "size": "Texels along the longer side.",
    "version": "The version of the delivery.",
    "counter": "Number of the file, from 1; {counter:3} is padded with zeros to three places.",
    "model": "The name that the material has in the receiver's model.",
}
"""What a pattern may ask for, besides tokens of the profile's own."""
_TOKEN = re.compile(r"\{([^{}]*)\}")
_FORBIDDEN = re.compile(r'[<>:"/\\|?*\x00-\x1f]')
LONGEST = 180
"""Characters of a name: systems take 255 bytes, and some unpack into folders that count along."""


def check_pattern(pattern: str, own: Mapping[str, str]) -> str:
    """A pattern that can be filled in.

    Raises
    ------
    ValueError
        It has a token that nobody knows, braces that do not close, characters that some system refuses, or nothing that
        tells one file from another.

    >>> check_pattern("{material}_{map}", {})
    '{material}_{map}'
    """
    asked = [t.partition(":")[0] for t in _TOKEN.findall(pattern)]
    rest = _TOKEN.sub("", pattern)
    if "{" in rest or "}" in rest:
        raise ValueError("a brace of the name pattern does not close")
    unknown = [t for t in asked if t not in TOKENS and t not in own]
    if unknown:
        raise ValueError(f"there is no token {{{unknown[0]}}}; there are {', '.join('{' + t + '}' for t in [*TOKENS, *own])}")
    for token in _TOKEN.findall(pattern):
        name, colon, width = token.partition(":")
        if colon and not (name == "counter" and width.isdigit() and 1 <= int(width) <= 9):
            raise ValueError(f"only {{counter:3}} and its like have a width, not {{{token}}}")
    if (found := _FORBIDDEN.search(rest)) is not None:
        raise ValueError(f"a file name cannot hold {found.group()!r}")
    if not {"map", "counter"} & set(asked):
        raise ValueError("all files would have one name: the pattern needs {map} or {counter}")
    return pattern


def filled(pattern: str, tokens: Mapping[str, str | int], exact: str = "") -> str:
    """The pattern with its tokens filled in, without an ending.

    >>> filled("{material}_{map}.{counter:4}", {"material": "deck", "map": "Normal", "counter": 7})
    'deck_Normal.0007'

    Raises
    ------
    LoomError
        The name would be empty, too long, or one that some system refuses.
    """

    def one(match: re.Match[str]) -> str:
        name, _, width = match.group(1).partition(":")
        found = tokens.get(name, "")
        return f"{found:0{int(width)}d}" if width and isinstance(found, int) else str(found)

    name = _TOKEN.sub(one, pattern)
    where = exact or name or pattern
    if (bad := _FORBIDDEN.search(name)) is not None:
        raise LoomError(f"a file name cannot hold {bad.group()!r}", where, "Change the token or the pattern.")
    if not name.strip(" .") or name != name.strip(" ") or name.endswith("."):
        raise LoomError("a file name cannot be empty, end in a dot, or begin or end in a space", where, "Change the pattern.")
    if name.split(".")[0].lower() in RESERVED:
        raise LoomError("some systems keep this name for themselves", where, "Change the pattern.")
    if len(name) > LONGEST:
        raise LoomError(f"the file name has {len(name)} characters", name[:40] + "…", f"At most {LONGEST} fit everywhere.")
    return name


def check_apart(names: list[str]) -> None:
    """Make sure that no two names are one where upper and lower case are not told apart.

    Raises
    ------
    LoomError
    """
    seen: dict[str, str] = {}
    for name in names:
        key = name.casefold()
        if key in seen:
            raise LoomError("two files would have one name", f"{seen[key]} and {name}", "Change a suffix or the pattern.")
        seen[key] = name
