"""Pictures of the main views for docs/screenshots, made from the demo data: start `make demo`, then run this."""

from __future__ import annotations

import json
import sys
import urllib.request
from pathlib import Path

from playwright.sync_api import Page, sync_playwright

OUT = Path(__file__).parent.parent / "docs" / "screenshots"
FLAGS = [
    "--no-sandbox",
    "--use-angle=swiftshader",
    "--enable-unsafe-swiftshader",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
    "--no-first-run",
    "--disable-quic",
]


def settle(page: Page) -> None:
    page.wait_for_timeout(1500)
    for _ in range(200):
        done = "[...document.querySelectorAll('.pane')].every(p => p.dataset.painted && !p.classList.contains('computing'))"
        if page.evaluate(done):
            break
        page.wait_for_timeout(100)
    page.wait_for_timeout(1200)


def main(address: str) -> None:
    listed = json.load(urllib.request.urlopen(f"{address}/api/materials"))["materials"]
    ident = {m["name"].split()[0].removesuffix("'s"): m["id"] for m in listed}
    with sync_playwright() as p:
        browser = p.chromium.launch(executable_path="/usr/bin/chromium", args=FLAGS)

        def fresh(path: str) -> Page:
            page = browser.new_context(viewport={"width": 1280, "height": 800}).new_page()
            page.set_default_timeout(60_000)
            page.goto(address + path)
            if path.startswith("/bench"):
                page.wait_for_selector("body[data-ready]")
                settle(page)
            return page

        page = fresh("/")
        page.wait_for_timeout(3000)
        page.screenshot(path=OUT / "library.png")

        page = fresh(f"/bench/{ident['Keeper']}")
        page.screenshot(path=OUT / "bench.png")

        page = fresh(f"/bench/{ident['Hull']}")
        page.click("[data-step=straighten]")
        page.click("#place-corners")
        settle(page)
        box = page.locator("[data-corner='0']").bounding_box()
        assert box
        page.mouse.move(box["x"] + 11, box["y"] + 11)
        page.mouse.down()
        settle(page)
        page.screenshot(path=OUT / "corners.png")
        page.mouse.up()

        page = fresh(f"/bench/{ident['Galley']}")
        page.click("[data-panes='4']")
        page.click("[data-step=roughness]")
        settle(page)
        page.hover("[data-step=normal] [data-thread=height]")
        page.wait_for_timeout(1200)
        page.screenshot(path=OUT / "four.png")

        page = fresh(f"/bench/{ident['Oyster-shell']}")
        page.click("#deliver")
        page.get_by_role("button", name="Make the zip").click()
        page.wait_for_selector("#deliver-sheet a[download]")
        page.wait_for_timeout(500)
        page.screenshot(path=OUT / "deliver.png")

        page = fresh(f"/bench/{ident['Hull']}")
        page.click("#theme")
        page.locator("select[aria-label=Form]").first.select_option("draped cloth")
        page.locator("input[aria-label=Repeats]").first.fill("2")
        page.click("[data-step=metallic]", position={"x": 60, "y": 14})
        page.mouse.move(700, 700)
        settle(page)
        page.screenshot(path=OUT / "dark.png")
        browser.close()


if __name__ == "__main__":
    main(sys.argv[1] if len(sys.argv) > 1 else "http://127.0.0.1:8321")
