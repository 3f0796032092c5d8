"""How quick looking is, without a graphics card: the form, a wipe, a snapshot, the texels of a bake.

Start `make demo`, wait until everything is ready, then `python -m bench.looking http://127.0.0.1:8321`. The form fills 800 × 600.
"""

from __future__ import annotations

import sys
import time

from playwright.sync_api import Page, sync_playwright

from bench.asking import asked, copied
from tools.screenshots import FLAGS, settle

STILL = "document.querySelector('.pane[data-view=form]').dataset.still === 'yes'"
FINE = f"{STILL} && document.querySelector('.pane[data-view=form]').dataset.grid === '0'"


def until(page: Page, what: str, seconds: float = 60) -> float:
    """Seconds until something holds."""
    start = time.perf_counter()
    while not page.evaluate(what):
        if time.perf_counter() - start > seconds:
            return seconds
        page.wait_for_timeout(15)
    return time.perf_counter() - start


def dragged(page: Page, x: float, y: float, seconds: float, by: float) -> int:
    """Frames of the page while the hand moves to and fro."""
    page.mouse.move(x, y)
    page.mouse.down()
    start, n = time.perf_counter(), 0
    while time.perf_counter() - start < seconds:
        n += 1
        page.mouse.move(x + by * abs((n % 80) - 40), y + (n % 9))
        page.evaluate("() => new Promise(requestAnimationFrame)")
    page.mouse.up()
    return n


def main(address: str) -> None:
    copy = copied(address, "slate")
    with sync_playwright() as p:
        browser = p.chromium.launch(executable_path="/usr/bin/chromium", args=FLAGS)
        page = browser.new_context(viewport={"width": 1116, "height": 768}).new_page()
        page.goto(f"{address}/bench/{copy['id']}")
        page.wait_for_selector("body[data-ready]")
        settle(page)
        page.click("[data-panes='1']")
        settle(page)
        box = page.locator(".pane").first.bounding_box()
        assert box
        print(
            f"form on {box['width']:.0f} x {box['height']:.0f}    frames a second (aim 8)   whole after (aim 1.5 s)   512 grid after"
        )
        for form in ("flat", "ball", "floor and wall"):
            page.select_option("[aria-label=Form]", form)
            until(page, FINE)
            frame = "+document.querySelector('.pane').dataset.frame"
            before, start = page.evaluate(frame), time.perf_counter()
            dragged(page, box["x"] + 200, box["y"] + 250, 3, 3)
            rate = (page.evaluate(frame) - before) / (time.perf_counter() - start)
            page.wait_for_timeout(30)
            whole = until(page, STILL)
            print(f"{form:24s} {rate:12.1f} {whole:24.2f} {whole + until(page, FINE):24.2f}")

        page.locator(".pane [data-view=flat]").first.click()
        settle(page)
        page.keyboard.press("c")
        page.wait_for_selector("#side-b optgroup", state="attached")
        page.select_option("#side-b", label="Without Even light")
        until(page, "document.querySelector('.pane').dataset.paired?.startsWith('wipe')")
        page.wait_for_timeout(4000)
        box = page.locator(".pane").first.bounding_box()
        assert box
        drawn = dragged(page, box["x"] + box["width"] / 2, box["y"] + 300, 3, 2)
        print(f"wipe on a flat picture: {drawn / 3:.0f} frames a second (aim 20)")
        browser.close()

    asked(f"{address}/api/materials/{copy['id']}/change", {
        "base": asked(f"{address}/api/materials/{copy['id']}")["head"], "kind": "add", "step": "tone", "settings": {"brightness": 0.3}, "to": 99,
    })  # fmt: skip
    for again in ("first", "again"):
        start = time.perf_counter()
        asked(f"{address}/api/materials/{copy['id']}/map", {"thread": "base", "size": 512, "entry": copy["head"], "view": again})
        print(f"a snapshot's picture of 512, {again}: {1000 * (time.perf_counter() - start):.0f} ms (aim 300, at once)")
    start = time.perf_counter()
    asked(f"{address}/api/materials/{copy['id']}/glance", {"thread": "base", "entry": copy["head"]})
    print(f"the small picture kept of it, as after a new start: {1000 * (time.perf_counter() - start):.0f} ms (aim 300)")
    for left in (100, 3000, 3000):
        start = time.perf_counter()
        body = {"thread": "base", "size": 8192, "box": [left, left, left + 700, left + 500], "view": "tile", "sequence": left}
        asked(f"{address}/api/materials/{copy['id']}/window", body)
        print(f"texels of an 8192 bake, 700 x 500 at {left}: {time.perf_counter() - start:.2f} s (aim 1)")


if __name__ == "__main__":
    main(sys.argv[1] if len(sys.argv) > 1 else "http://127.0.0.1:8321")
