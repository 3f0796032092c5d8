"""Which map a file is, told from its name, in any common scheme."""

from __future__ import annotations

import re
from dataclasses import dataclass
from pathlib import PurePath

WORDS: dict[str, list[str]] = {
    "base": [
        "basecolor",
        "basecolour",
        "basecol",
        "albedo",
        "diffuse",
        "diff",
        "color",
        "colour",
        "col",
        "base",
        "alb",
        "bc",
        "dif",
        "colormap",
        "diffusecolor",
    ],
    "normal": ["normal", "normals", "normalmap", "nor", "nrm", "norm", "nm", "n", "normalgl", "normaldx", "nmap", "tangent"],
    "height": ["height", "heightmap", "displacement", "displace", "disp", "dsp", "bump", "bmp", "hgt", "h", "depth", "parallax"],
    "roughness": ["roughness", "rough", "rgh", "roughnessmap", "rou"],
    "smoothness": ["smoothness", "smooth", "gloss", "glossiness", "glossy", "glossmap"],
    "metallic": ["metallic", "metalness", "metal", "metallicness", "mtl", "met", "mtlc"],
    "occlusion": ["occlusion", "ao", "occ", "ambientocclusion", "ambient", "aomap", "occl"],
    "opacity": ["opacity", "alpha", "transparency", "transparent", "cutout"],
    "specular": ["specular", "spec", "specularity", "speclevel", "reflection", "refl"],
    "emission": ["emission", "emissive", "emit", "glow", "selfillum"],
    "id": ["id", "idmap", "elements", "matid"],
}
"""Words of the trade for each map, in lower case."""

_LETTERS = {
    "o": "occlusion",
    "r": "roughness",
    "m": "metallic",
    "a": "occlusion",
    "h": "height",
    "s": "smoothness",
    "g": "smoothness",
}
_PACKED = re.compile(r"^[ormahsg]{3,4}$")
_NOT_PACKED = {"rough", "gross", "moss", "mars", "oars", "hogs", "shag", "harm", "roar", "soar", "mash", "gash", "rags", "gram"}


@dataclass(frozen=True)
class Name:
    """What a file's name says.

    Attributes
    ----------
    map : str
        Thread, or 'smoothness', 'specular', 'emission', 'packed'; empty when the name says nothing.
    stem : str
        The name without the words that tell the map: files of one set share it.
    green : str
        'up' or 'down' when the name says so.
    channels : tuple of str
        Of a packed file, by its letters.
    """

    map: str
    stem: str
    green: str = ""
    channels: tuple[str, ...] = ()
    initial: str = ""
    """A single letter at the end that may stand for a map; what it stands for the content has to say."""
    preview: bool = False
    """It is a picture of the material, not a map of it."""


INITIALS = "bcdraosmgeht"
"""Letters that stand for a map at the end of a name; 'n' and 'h' mean one map only and are words of their own."""
PREVIEWS = {
    *("contactsheet", "preview", "thumb", "thumbnail", "render", "rendered", "cover", "icon", "sphere", "ball", "promo"),
    "screenshot",
}
_SIZES = {str(2**k) for k in range(8, 15)}


def _tokens(stem: str) -> list[str]:
    stem = re.sub(r"(?<![0-9A-Za-z])(\d{1,2})K(?![0-9A-Za-z])", r"\1k", stem)  # '2K' is one word
    parted = re.sub(r"(?<=[a-z0-9])(?=[A-Z])", "_", stem)
    parted = re.sub(r"(?<=[A-Z])(?=[A-Z][a-z])", "_", parted)
    return [t for t in re.split(r"[^A-Za-z0-9]+", parted) if t]


def _run_together(token: str) -> tuple[str, ...]:
    """The maps of a file whose name is their words run together, as 'occlusionroughnessmetallic'; nothing otherwise."""
    words = sorted(((w, m) for m, listed in WORDS.items() for w in listed if len(w) >= 4), key=lambda item: -len(item[0]))
    maps: list[str] = []
    while token:
        found = next(((w, m) for w, m in words if token.startswith(w)), None)
        if found is None or found[1] in maps or len(maps) == 4:
            return ()
        maps.append(found[1])
        token = token[len(found[0]) :]
    return tuple(maps) if len(maps) > 1 and not {"base", "normal", "id"} & set(maps) else ()


def tell(file_name: str) -> Name:
    """Tell a map from the name of its file.

    The last word that means a map counts; two words that are one, like 'base' and 'color', are read as one. Resolution
    and bit depth ('2k', '4096', '16bit') are passed over.

    >>> tell("slipway_Normal_GL.png").map, tell("slipway_Normal_GL.png").green
    ('normal', 'up')
    """
    tokens = _tokens(PurePath(file_name).stem)
    lower = [t.lower() for t in tokens]
    joined: list[tuple[str, int, int]] = [(t, i, i + 1) for i, t in enumerate(lower)]
    joined += [(lower[i] + lower[i + 1], i, i + 2) for i in range(len(lower) - 1)]
    green = ""
    if any(t in ("gl", "ogl", "opengl", "normalgl", "yup") for t, _, _ in joined):
        green = "up"
    if any(t in ("dx", "directx", "normaldx", "ydown") for t, _, _ in joined):
        green = "down"
    best: tuple[int, int, int, str] | None = None
    for token, start, end in joined:
        plain = re.sub(r"\d+$", "", token) or token
        for name, words in WORDS.items():
            if plain in words or token in words:
                # Single letters count only at the very end
                if len(plain) == 1 and end != len(lower):
                    continue
                found = (end, end - start, len(plain), name)
                if best is None or found > best:
                    best = found
    preview = any(t in PREVIEWS for t, _, _ in joined)
    words = re.split(r"[^A-Za-z0-9]+", PurePath(file_name).stem)
    run = next(((w, maps) for w in reversed(words) if (maps := _run_together(w.lower()))), None)
    if run is not None:
        rest = _tokens("_".join(w for w in words if w != run[0]))
        return Name("packed", "_".join(_told_apart(rest)), "", run[1], preview=preview)
    packed = next((t for t in reversed(lower) if _PACKED.match(t) and t not in _NOT_PACKED and len(set(t)) == len(t)), None)
    if packed is not None and (best is None or best[2] < 3):
        rest = [t for t in tokens if t.lower() != packed]
        return Name("packed", "_".join(_told_apart(rest)), "", tuple(_LETTERS[c] for c in packed), preview=preview)
    if best is None:
        # Letters mean a map only after a name, and not where they are all there is
        initial = lower[-1] if len(lower) > 1 and len(lower[-1]) == 1 and lower[-1] in INITIALS else ""
        return Name("", "_".join(_told_apart(tokens[:-1] if initial else tokens)), green, (), initial, preview)
    end, count, _, name = best
    rest = [t for i, t in enumerate(tokens) if not end - count <= i < end]
    rest = [t for t in rest if t.lower() not in ("map", "gl", "dx", "ogl", "opengl", "directx", "tex", "texture")]
    return Name(name, "_".join(_told_apart(rest)), green if name == "normal" else "", preview=preview)


def _told_apart(tokens: list[str]) -> list[str]:
    """The words of a name without resolution and depth; every other number stays, as it may be all that tells two sets apart."""
    return [t for t in tokens if not (t in _SIZES or re.fullmatch(r"\d+(k|bits?|px)|\d+x\d+", t.lower()))]
