"""Sixty phrases and the first surface that each comes to, in one picture for docs/recipes.md.

Run with ``python -m tools.phrase_pictures [PHRASE …]``; with phrases, four results of each go into a picture beside the others.
"""

from __future__ import annotations

import sys
from pathlib import Path

import numpy as np
from PIL import Image as Pillow
from PIL import ImageDraw, ImageFont

from silent_loom.core.words.describer import LocalDescriber
from tools.pattern_pictures import picture

OUT = Path(__file__).parents[1] / "docs" / "pictures"
TILE = (216, 162)
ACROSS = 6

PHRASES = """
zebra skin; tiger fur; leopard skin; giraffe hide; cow hide; snake skin
elephant skin; toad skin; fish scales; sheep fur; fox fur; crocodile skin
brushed gold; hammered brass; polished silver; cast bronze; brushed copper; lead
corrugated iron; rusty corrugated iron; riveted brass plate
galvanised steel; verdigris on copper; scratched chrome
mud with pebbles; grass between cobbles; moss between bricks; snow on roof tiles; gravel on planks; sand between setts
pebbles on sand; dried mud with gravel; paint peeling off boards
gold leaf on plaster; rust on riveted plate; grass on rubble wall
wet black slate with pale lichen; mossy stone wall; frozen mud
damp concrete; concrete with water stains; cracked concrete
old red bricks, worn; whitewashed brick wall; blue tiles with cracks
dirty white tiles; terrazzo; pale pink marble with gold veins
faded red sailcloth, coarse; blue denim; grey tweed; dark green satin; tarred rope; white knitted wool
dusty dark planks; charred wood; driftwood; polished oak floorboards; torn wallpaper; flaking green paint
"""


def phrases() -> list[str]:
    return [p.strip() for line in PHRASES.strip().splitlines() for p in line.split(";")]


def sheet(made: list[tuple[str, Pillow.Image]], across: int) -> Pillow.Image:
    """Pictures in rows, each with its words below it."""
    wide, high = TILE[0] + 8, TILE[1] + 28
    out = Pillow.new("RGB", (wide * across, high * -(-len(made) // across)), "#f2f0ec")
    draw, font = ImageDraw.Draw(out), ImageFont.load_default(12)
    for i, (words, one) in enumerate(made):
        x, y = i % across * wide + 4, i // across * high + 4
        out.paste(one.resize(TILE, Pillow.Resampling.LANCZOS), (x, y))
        draw.text((x + 2, y + TILE[1] + 3), words[:38], fill="#26292d", font=font)
    return out


def main(asked: list[str]) -> int:
    describer, made = LocalDescriber(), []
    for phrase in asked or phrases():
        for one in describer.describe(phrase, 4 if asked else 1).suggestions:
            words = one.differs or phrase
            made.append((words, Pillow.fromarray(np.asarray(picture(one.weave)))))
    OUT.mkdir(exist_ok=True)
    path = OUT / ("phrases-asked.jpg" if asked else "phrases.jpg")
    sheet(made, 4 if asked else ACROSS).save(path, quality=84)
    print(path)
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
