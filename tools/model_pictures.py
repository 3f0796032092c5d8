"""Pictures for docs/models.md: the page of models, baked maps, a material laid on.

Start `make demo`, then run this with its address.
"""

from __future__ import annotations

import sys
import tempfile
from pathlib import Path

import cv2
import numpy as np
from playwright.sync_api import sync_playwright

from silent_loom.core.base.images import Image
from silent_loom.core.delivery.models.laid_on import Layer, laid_on
from silent_loom.core.delivery.shelf import profile
from silent_loom.core.form.bake.bake import Order, bake, sources
from silent_loom.core.form.bake.files import encoded
from silent_loom.core.form.bake.targets import Target
from silent_loom.core.form.lay.laying import Laying
from silent_loom.core.form.lay.places import onto_itself, parsed
from silent_loom.core.form.uv.unwrap import UnwrapSettings, unwrapped
from silent_loom.core.weave.answers.evaluate import Evaluator
from silent_loom.core.weave.rows.beginnings import woven_from
from silent_loom.demo.models import buoy
from silent_loom.store.store import Store
from tools.screenshots import FLAGS

OUT = Path(__file__).parent.parent / "docs" / "pictures"
SIDE = 300


def shown(samples: np.ndarray, colour: bool) -> np.ndarray:
    """Samples as codes in the order of OpenCV."""
    from silent_loom.core.base.srgb import encode_srgb

    codes = np.clip(encode_srgb(np.clip(samples, 0, 1)) if colour else samples, 0, 1)
    three = np.repeat(codes, 3, 2) if codes.shape[2] == 1 else codes[..., ::-1]
    small = cv2.resize(np.ascontiguousarray(three, np.float32), (SIDE, SIDE), interpolation=cv2.INTER_AREA)
    return np.round(small.reshape(SIDE, SIDE, 3) * 255).astype(np.uint8)


def sheet(name: str, pictures: list[np.ndarray], columns: int) -> None:
    rows = [np.concatenate(pictures[k : k + columns], 1) for k in range(0, len(pictures), columns)]
    cv2.imwrite(str(OUT / name), np.concatenate(rows), [cv2.IMWRITE_JPEG_QUALITY, 88])


def baked() -> None:
    light = unwrapped(buoy(), UnwrapSettings(size=1024, padding=8))
    pictures: list[np.ndarray] = []

    def keep(target: Target, image: Image) -> None:
        samples, _ = encoded(target, image)
        pictures.append(shown(samples, target.name in ("colour", "vertex_colour", "mesh_id", "material_id")))

    maps = ("normal", "height", "occlusion", "bent", "curvature", "thickness", "position", "mesh_id")
    bake(light, sources([buoy(8)]), Order(maps, (1024, 1024), rays=64), keep)
    sheet("models-baked.jpg", pictures, 4)
    with tempfile.TemporaryDirectory() as folder:
        store = Store(Path(folder))
        evaluator = Evaluator(store.sources)
        surface = onto_itself(light, (1024, 1024))
        below = Layer(evaluator, woven_from("riveted-plate"), Laying("sides"))
        above = Layer(evaluator, woven_from("pebbles"), Laying("sides"), (parsed("altitude=0.35..0.2"),))
        found, _ = laid_on(surface, [below, above], profile("plain"))
        store.close()
    normal = found["normal"].pixels * 0.5 + 0.5
    laid = [shown(found["base"].pixels, True), shown(normal, False), shown(found["roughness"].pixels, False)]
    sheet("models-laid.jpg", laid, 3)


def page(address: str) -> None:
    with sync_playwright() as p:
        browser = p.chromium.launch(executable_path="/usr/bin/chromium", args=FLAGS)
        shot = browser.new_context(viewport={"width": 1280, "height": 800}).new_page()
        shot.set_default_timeout(60_000)
        shot.goto(f"{address}/models")
        shot.click("#quay")
        shot.wait_for_selector(".faults li")
        shot.locator("[data-kind=outside] button").click()
        shot.screenshot(path=OUT / "models-check.png")
        shot.click("#unwrap-start")
        shot.wait_for_selector("[data-job=unwrap][data-state=done]")
        shot.wait_for_selector("#verdict[data-grave='0']")
        shot.click("#tab-bake")
        shot.click("#bake-check")
        shot.wait_for_selector("#bake-points li:nth-child(5)")
        shot.click("#bake-start")
        shot.wait_for_selector("[data-job=bake][data-state=done]")
        shot.click("#tab-lay")
        shot.wait_for_timeout(1500)
        shot.screenshot(path=OUT / "models-work.png")
        shot.select_option("#uv-size", "1024")
        shot.click("#lay-start")
        shot.wait_for_selector("[data-job=lay][data-state=done]")
        shot.get_by_role("radio", name="Model", exact=True).click()
        shot.get_by_role("radio", name="Wipe").click()
        shot.wait_for_selector("#model-form[data-wipe='0.50']")
        shot.wait_for_timeout(1500)
        shot.screenshot(path=OUT / "models-change.png")
        browser.close()


if __name__ == "__main__":
    if "--page" not in sys.argv:
        baked()
    page(sys.argv[1])
