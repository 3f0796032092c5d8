"""Frames a second under the brush, and milliseconds from the end of a stroke to the application's own picture of it.

Start `make demo`, then `python -m bench.brush http://127.0.0.1:8321`. The brush is 128 texels wide on a sheet of 2048, in
headless Chromium with software rendering; every frame moves it by a third of its width. The material is a copy.
"""

from __future__ import annotations

import sys

import numpy as np
from playwright.sync_api import Page, sync_playwright

from bench.asking import copied
from bench.paint import FLAGS

STROKE = """async (frames) => {
  const pane = document.querySelector('.pane'), canvas = pane.querySelector('canvas');
  const [left, top, width, height] = pane.dataset.sheet.split(',').map(Number), box = canvas.getBoundingClientRect();
  const step = width * 128 / 2048 / 3;
  const fire = (kind, i) => {
    const x = left + width * 0.2 + (i * step) % (width * 0.6), y = top + height * (0.3 + 0.3 * Math.sin(i / 17));
    canvas.dispatchEvent(new PointerEvent(kind, { bubbles: true, pointerId: 1, pointerType: 'mouse', isPrimary: true, button: 0, buttons: 1,
      clientX: box.left + x, clientY: box.top + y }));
  };
  canvas.setPointerCapture = () => {};
  fire('pointerdown', 0);
  const start = performance.now();
  for (let i = 1; i <= frames; i++) { fire('pointermove', i); await new Promise(requestAnimationFrame); }
  const drawn = performance.now() - start, ended = performance.now();
  const answered = new Promise(done => {
    const seen = new MutationObserver(() => { seen.disconnect(); requestAnimationFrame(() => done(performance.now() - ended)); });
    seen.observe(pane, { attributes: true, attributeFilter: ['data-turn'] });
  });
  fire('pointerup', frames);
  return [1000 * frames / drawn, await answered];
}"""


def measure(page: Page, view: str, closer: bool = False) -> None:
    pane = page.locator(".pane").first
    pane.locator(f"[data-view={view}]").click()
    page.wait_for_timeout(2000)
    if closer:
        place = pane.bounding_box()
        assert place
        page.mouse.move(place["x"] + place["width"] / 2, place["y"] + place["height"] / 2)
        for _ in range(3):
            page.mouse.wheel(0, -240)
            page.wait_for_timeout(800)
    for tool in ("Clone", "Paint", "Heal"):
        page.get_by_role("radio", name=tool).click()
        if tool == "Clone":
            left, top, width, height = (float(v) for v in str(pane.get_attribute("data-sheet")).split(","))
            box = pane.bounding_box()
            assert box
            if page.get_by_text("Press once on the flat").count():
                page.mouse.click(box["x"] + left + 0.3 * width, box["y"] + top + 0.3 * height)
        slide = page.locator("[data-brush=radius] input")
        slide.evaluate("e => { e.value = Math.round(1000 * (0.03125 - 0.003) / 0.197); e.dispatchEvent(new Event('input')); }")
        found = []
        for _ in range(5):
            found.append(page.evaluate(STROKE, 90))
            page.wait_for_timeout(1500)
        rate, answer = np.median(np.array(found), 0)
        print(
            f"{view:5s} {str(pane.get_attribute('data-painted')).rpartition(':')[2]:>5s} {tool:6s} {rate:5.0f} frames a second, about five dabs each   {answer:5.0f} ms from the end of a stroke",
            flush=True,
        )


def main(address: str) -> None:
    ident = copied(address, "plaster")["id"]
    with sync_playwright() as p:
        browser = p.chromium.launch(executable_path="/usr/bin/chromium", args=FLAGS)
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        page.goto(f"{address}/bench/{ident}")
        page.wait_for_selector("body[data-ready]")
        page.click("[data-panes='1']")
        page.click("[data-step=seamless]")
        page.click("#add-step")
        page.get_by_role("menuitem", name="Repair", exact=True).click()
        page.wait_for_timeout(1500)
        for view in ("flat", "half"):
            measure(page, view)
        measure(page, "flat", closer=True)
        browser.close()


if __name__ == "__main__":
    main(sys.argv[1] if len(sys.argv) > 1 else "http://127.0.0.1:8321")
