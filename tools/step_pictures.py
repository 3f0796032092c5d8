"""The small pictures of the palette, one a step, made from the demo's own photos: run with `python tools/step_pictures.py`."""

from __future__ import annotations

import io
import sys
import tempfile
from dataclasses import replace
from pathlib import Path

import numpy as np
from PIL import Image as Pillow

from silent_loom.core.base.images import Image, Kind
from silent_loom.core.base.srgb import encode_srgb
from silent_loom.core.delivery.models.gltf import glb
from silent_loom.core.maps.stairs import unstepped
from silent_loom.core.screen.display import shown
from silent_loom.core.screen.picture import lit
from silent_loom.core.weave import registry
from silent_loom.core.weave.answers.evaluate import Evaluator
from silent_loom.core.weave.rows.model import StepEntry, Weave
from silent_loom.core.weave.threads import spec
from silent_loom.demo.models import MODELS
from silent_loom.demo.seed import seed
from silent_loom.demo.shots import SHOTS
from silent_loom.store.store import Store

OUT = Path(__file__).parents[1] / "silent_loom/web/static/steps"
SIZE = (144, 108)


def save(name: str, pixels: np.ndarray) -> None:
    codes = np.clip(np.rint(pixels * 255), 0, 255).astype(np.uint8)
    picture = Pillow.fromarray(codes if codes.shape[2] == 3 else np.repeat(codes, 3, 2))
    scale = max(SIZE[0] / picture.width, SIZE[1] / picture.height)
    picture = picture.resize((round(picture.width * scale), round(picture.height * scale)), Pillow.Resampling.LANCZOS)
    left, top = (picture.width - SIZE[0]) // 2, (picture.height - SIZE[1]) // 2
    picture.crop((left, top, left + SIZE[0], top + SIZE[1])).save(OUT / f"{name}.png", optimize=True)


def seen(image: Image, thread: str, depth: float = 14.0) -> np.ndarray:
    meaning = replace(spec(thread), high=90.0) if thread == "slope" else spec(thread)
    pixels = shown(image, meaning.over(depth) if meaning.unit else meaning)
    return encode_srgb(np.clip(pixels, 0, 1)) if image.kind is Kind.COLOUR else np.clip(pixels, 0, 1)


def halves(before: np.ndarray, after: np.ndarray) -> np.ndarray:
    """Before on the left, after on the right."""
    w = min(before.shape[1], after.shape[1])
    out = after[:, :w].copy()
    h = min(len(before), len(out))
    out[:h, : w // 2] = before[:h, : w // 2]
    out[:h, w // 2 - 1 : w // 2 + 1] = 0.93
    return out[:h]


SPAN = {"cloth": 14.0, "knit": 50.0, "scratches": 200.0, "cord": 160.0, "brush": 400.0, "drips": 300.0, "pits": 200.0}
"""Millimetres of a sheet on which a pattern shows what it is; 700 where nothing is said."""


def pattern(ask: Evaluator, name: str) -> np.ndarray:
    """A pattern under a low light; what goes by a pattern, over cells."""
    mm = SPAN.get(name, 700.0)
    sheet = StepEntry(step="blank", settings={"colour": "#9d968a", "width_mm": mm, "height_mm": mm})
    own = [StepEntry(step=name)]
    if not registry.can(name, "pattern"):
        own = [StepEntry(step="cells", settings={"show": "border", "scale_mm": 120.0}), StepEntry(step=name)]
    weave = Weave(steps=(sheet, *own, StepEntry(step="normal")))
    maps = ask.ask_many(weave, ["roughness" if name == "grade" else "base", "normal"], 432)
    if name == "grade":
        return np.repeat(np.clip(maps["roughness"].pixels, 0, 1), 3, 2)
    return lit(maps, 288, 216, 1.0)[..., :3] / np.float32(255)


def on_model(store: Store, ask: Evaluator, weave: Weave) -> None:
    """A material in the UVs of the bollard, and a mask of what is sheltered there."""
    digest = store.add_model_source(io.BytesIO(glb(MODELS["bollard"](1), {})), "bollard.glb")
    laid = StepEntry(step="lay_on", settings={"model": digest, "by": "sides"})
    where = StepEntry(step="where_on_model", settings={"by": "shelter", "start": 0.0, "end": 0.5})
    weave = weave.model_copy(update={"steps": (*weave.steps, laid, where)})
    save("lay_on", seen(ask.ask(weave, "base", 288), "base"))
    save("where_on_model", seen(ask.ask(weave, "where", 288), "where"))


def main() -> int:
    OUT.mkdir(parents=True, exist_ok=True)
    store = Store(Path(tempfile.mkdtemp()))
    seed(store)
    weaves = {s.name: s.weave for s in store.materials()}
    ask = Evaluator(store.sources)
    slate, hull, plaster, tiles = (
        weaves[n] for n in ("Keeper's roof slate", "Hull plate, port side", "Oyster-shell plaster", "Galley tiles")
    )

    def row(weave: Weave, step: str) -> str:
        found = weave.first(step)
        assert found is not None
        return found.id

    def base(weave: Weave, below: str | None = None, size: int = 220) -> np.ndarray:
        return seen(ask.ask(weave, "base", size, below=below and row(weave, below)), "base")

    def added_to(weave: Weave, step: str) -> Weave:
        return weave.model_copy(update={"steps": (*weave.steps, StepEntry(step=step))})

    def added(weave: Weave, step: str, settings: dict[str, object]) -> np.ndarray:
        longer = weave.model_copy(update={"steps": (*weave.steps, StepEntry(step=step, settings=settings))})
        return seen(ask.ask(longer, "base", 220), "base")

    on_model(store, ask, hull)
    save("photo", base(slate, "photo"))
    save("chart", added(slate, "chart", {}))
    save("straighten", halves(base(tiles, "photo"), base(tiles, "straighten")))
    save("light", halves(base(plaster, "straighten"), base(plaster, "light")))
    told = StepEntry(step="reading", settings={"light_deg": SHOTS["Oyster-shell plaster"].light_from_deg})
    read = plaster.model_copy(update={"steps": (*plaster.steps, told, StepEntry(step="unlit"))})
    save("reading", seen(ask.ask(read, "relief_read", 220), "height", 4.0))
    save("unlit", halves(base(plaster), seen(ask.ask(read, "base", 220), "base")))
    closed = base(slate)
    save("seamless", np.roll(closed, (closed.shape[0] // 2, closed.shape[1] // 2), (0, 1)))
    spot = [{"kind": "outline", "points": [[0.3, 0.3], [0.72, 0.32], [0.7, 0.7], [0.28, 0.66]]}]
    save("clean", added(hull, "clean", {"regions": spot}))
    points = [[140 + 3.0 * i, 170 + 40.0 * float(np.sin(i / 9)), 1.0] for i in range(70)]
    stroke = {"tool": "paint", "colour": "#9c3a34", "points": points, "radius_mm": 14.0}
    save("repair", added(plaster, "repair", {"layers": [{"strokes": [stroke]}]}))
    save("breakup", added(slate, "breakup", {"repeat_x": 2, "repeat_y": 2}))
    save("quilt", added(slate, "quilt", {}))
    save("tone", halves(closed, added(slate, "tone", {"brightness": 0.9})))
    save("soften", halves(closed, added(slate, "soften", {"width_mm": 14.0})))
    for name, weave in (("height", slate), ("normal", slate), ("roughness", tiles), ("metallic", hull), ("occlusion", slate)):
        save(name, seen(ask.ask(weave, name, 260), name))
    maps = [seen(ask.ask(slate, t, 144), t) for t in ("base", "height", "normal", "roughness")]
    maps = [np.repeat(m, 3, 2) if m.shape[2] == 1 else m for m in maps]
    h, w = min(len(m) for m in maps), 36
    save("mapset", np.concatenate([m[:h, 36 * i : 36 * i + w] for i, m in enumerate(maps)], 1))
    part = tiles.model_copy(update={"steps": (*tiles.steps, StepEntry(step="single", settings={"channel": "first"}))})
    first = np.repeat(seen(ask.ask(part, "helper", 220), "helper"), 3, 2)
    save("single", halves(base(tiles), first))
    longer = slate.model_copy(
        update={"steps": (*slate.steps, *(StepEntry(step=n) for n in ("curvature", "slope", "thickness", "wear")))}
    )
    for name in ("curvature", "slope", "thickness", "wear"):
        save(
            name, seen(ask.ask(longer, name, 260), name) if name != "curvature" else ask.ask(longer, name, 260).pixels * 0.5 + 0.5
        )
    save("integrate", seen(ask.ask(added_to(slate, "integrate"), "height", 260), "height"))
    over = {"first": "base", "second": "base", "how": "multiply", "share": 0.8}
    save("combine", halves(closed, added(slate, "combine", over)))
    save("blank", np.full((108, 144, 3), (0.6, 0.58, 0.53)))
    ids = StepEntry(step="elements")

    def chain(weave: Weave, thread: str, *steps: tuple[str, dict[str, object]], first: tuple[StepEntry, ...] = ()) -> np.ndarray:
        more = tuple(StepEntry(step=n, settings=v) for n, v in steps)
        longer = weave.model_copy(update={"steps": (*weave.steps, *first, *more)})
        image = ask.ask(longer, thread, 220)
        if image.kind is Kind.COLOUR:
            return seen(image, thread)
        made = np.clip(shown(image, ask.meaning(longer, thread)), 0, 1)
        return encode_srgb(made) if image.kind is Kind.ID else made

    lively = {"light": 0.8, "hue_deg": 14.0, "chroma": 40.0}
    save("elements", chain(slate, "id", ("elements", {})))
    save("vary", chain(slate, "base", ("vary", lively), first=(ids,)))
    save("trade", chain(slate, "base", ("trade", {"seed": 4, "alike": 0.4}), first=(ids,)))
    save("joints", halves(base(slate), chain(slate, "base", ("joints", {"tone": 3.0}), first=(ids,))))
    ring = [(0.5 + 0.3 * np.cos(t), 0.5 + 0.34 * np.sin(t)) for t in np.linspace(0, 6.2, 40)]
    marked: dict[str, object] = {"regions": [{"kind": "outline", "points": ring}], "feather_mm": 20.0}
    save("mark", chain(plaster, "mark", ("mark", marked)))
    save("mould", chain(plaster, "height", ("mould", {**marked, "action": "dome", "amount_mm": 3.0})))
    save("shade", halves(base(slate), chain(slate, "base", ("shade", {"amount": 1.0}))))
    save("unshade", halves(base(slate), chain(slate, "base", ("unshade", {}))))
    leaf: dict[str, object] = {"by": "outline", "regions": marked["regions"]}
    save("opacity", chain(plaster, "opacity", ("opacity", leaf)))
    save("specular", chain(slate, "specular", ("specular", {"reads_from": "occlusion", "low": 0.2})))
    save("emission", chain(hull, "emission", ("emission", {"key": [0.5, 0.35, 0.22], "tolerance": 18.0, "strength": 2.0})))
    guess = chain(hull, "roughness", ("convert", {"into": "roughness", "specular": "base"}))
    save("convert", halves(base(hull), np.repeat(guess, 3, 2)))
    over = plaster.rows()[0].settings["source"]
    second = slate.model_copy(update={"sources": {**slate.sources, **plaster.sources}})
    laid = {"maps": [{"thread": "base", "source": over}], "how": "by mask", "mask": "mark"}
    save("over", chain(second, "base", ("mark", {**marked, "name": "mark"}), ("over", laid)))
    for name, step in registry.steps().items():
        if {"pattern", "dye", "grade"} & step.can:
            save(name, pattern(ask, name))
    save(
        "where",
        np.repeat(chain(slate, "where", ("where", {"by": "ridges", "start": 0.0, "end": 0.5, "scale_mm": 14.0}))[..., :1], 3, 2),
    )
    save("steps", halves(*(np.repeat(p, 3, 2) for p in stairs())))
    return 0


def stairs() -> tuple[np.ndarray, np.ndarray]:
    """A hill of few levels under a low light, and the same with its stairs smoothed."""
    v, u = np.mgrid[0:108, 0:144].astype(np.float32) / 144
    hill = np.exp(-(((u - 0.5) ** 2) + (v - 0.37) ** 2) * 7).astype(np.float32)
    few = (np.rint(hill * 9) / 9).astype(np.float32)
    return tuple(  # type: ignore[return-value]
        np.clip(0.5 - 9 * (np.gradient(p, axis=1) + np.gradient(p, axis=0)), 0, 1)[..., None]
        for p in (few, unstepped(few, 1 / 9, False))
    )


if __name__ == "__main__":
    sys.exit(main())
