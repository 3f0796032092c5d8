"""Pictures of the main views for docs/screenshots, made from the demo data: start `make demo`, then run this."""

from __future__ import annotations

import json
import sys
import tempfile
import urllib.request
from collections.abc import Callable
from pathlib import Path

from playwright.sync_api import Page, sync_playwright

from silent_loom.demo.seed import PICTURES

OUT = Path(__file__).parent.parent / "docs" / "screenshots"
FLAGS = [
    "--no-sandbox",
    "--use-angle=swiftshader",
    "--enable-unsafe-swiftshader",
    "--disable-gpu-rasterization",  # Debian asks for it; without a graphics card SwiftShader would play each page's drawing
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
    "--no-first-run",
    "--disable-quic",
]


def settle(page: Page) -> None:
    page.wait_for_timeout(1500)
    for _ in range(200):
        done = """[...document.querySelectorAll('.pane')].every(p => p.dataset.painted && !p.classList.contains('computing')
          && (p.dataset.view !== 'form' || p.dataset.still === 'yes'))"""
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
        for _ in range(600):
            seen = "[...document.querySelectorAll('.swatch img')].map(i => i.complete && i.naturalWidth > 0)"
            if len(done := page.evaluate(seen)) >= 16 and all(done):
                break
            page.wait_for_timeout(100)
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

        giving(fresh, ident)
        looking(fresh, ident)
        recipes(fresh, address)
        prepared(fresh, ident, address)
        browser.close()


def recipes(fresh: Callable[[str], Page], address: str) -> None:
    """Recipes, words, variations, and photos of the demo through one recipe."""
    page = fresh("/")
    page.click("#from-recipe")
    page.click("[data-recipe=wallpaper-aged]")
    page.locator("[data-dial=tears]").fill("0.8")
    page.wait_for_selector("#recipe-picture:not(.stale)")
    page.wait_for_timeout(1500)
    page.screenshot(path=OUT / "recipes.png")
    page.click("#recipe-begin")
    page.wait_for_url("**/bench/**")
    page.wait_for_selector("body[data-ready]")
    settle(page)
    page.click("#variations")
    page.check("[data-dial=yellowing]")
    page.check("[data-dial=stains]")
    page.click("#variation-ask")
    page.wait_for_selector("#variation-grid[data-waiting='0'] img")
    page.locator(".variation .pattern").nth(3).click()
    page.wait_for_selector("#variation-picture[data-whole]")
    page.wait_for_timeout(1500)
    page.screenshot(path=OUT / "variations.png")

    page = fresh("/")
    page.click("#in-words")
    page.fill("#words-phrase", "old mossy slate with a lot of pale lichen, and gulls")
    page.keyboard.press("Enter")
    page.wait_for_selector("#words-results[data-done='4']")
    page.wait_for_timeout(800)
    page.screenshot(path=OUT / "words.png")

    page = fresh("/")
    page.click("#from-recipe")
    page.click("[data-recipe=photo-plaster]")
    page.set_input_files("#recipe-file", sorted(PICTURES.glob("*.jpg"))[:4])
    page.select_option("#recipe-profile", "plain")
    page.select_option("#recipe-size", "512")
    page.click("#recipe-begin")
    page.wait_for_selector("#many-sheet[data-state=done]", timeout=300_000)
    page.wait_for_timeout(6000)
    page.screenshot(path=OUT / "many.png")


def giving(fresh: Callable[[str], Page], ident: dict[str, str]) -> None:
    """What a bake will make, a profile on the board, and a proof."""
    page = fresh(f"/bench/{ident['Hull']}")
    page.click("#deliver")
    page.wait_for_selector("#forecast[data-told]")
    page.click("#losses-ask")
    page.wait_for_selector("#losses figure")
    page.evaluate("document.querySelector('#deliver-size').scrollIntoView()")
    page.wait_for_timeout(600)
    page.screenshot(path=OUT / "deliver.png")

    page.evaluate("document.querySelector('[data-profile=smoothness]').click()")
    page.evaluate("document.querySelector('#board-open').click()")
    page.wait_for_selector(".tried[data-told]")
    page.click("[data-file=metallicsmoothness] .slot:last-child")
    page.wait_for_timeout(900)
    page.screenshot(path=OUT / "board.png")
    page.click("[data-board-close]")

    page.evaluate("document.querySelector('[data-profile=gltf]').click()")
    page.select_option("#deliver-size", "512")
    page.click("#deliver-go")
    page.wait_for_selector("#deliver-job[data-state=done]")
    page.locator("#made li", has_text="gltf_512").get_by_role("button", name="Prove").first.click()
    page.wait_for_selector("#verdict")
    page.click("[data-mistake=metallic-inverted]")
    settle(page)
    page.wait_for_timeout(2500)
    page.screenshot(path=OUT / "proof.png")


def looking(fresh: Callable[[str], Page], ident: dict[str, str]) -> None:
    """The form in a room of its own size, dark; two states held against each other; a map read, a chart through the weave."""
    page = fresh(f"/bench/{ident['Keeper']}")
    page.click("#theme")
    page.click("[data-panes='1']")
    page.locator("select[aria-label=Form]").first.select_option("floor and wall")
    page.locator("select[aria-label=Light]").first.select_option("evening")
    page.get_by_role("button", name="More").first.click()
    page.mouse.move(700, 720)
    settle(page)
    page.screenshot(path=OUT / "form.png")

    page = fresh(f"/bench/{ident['Keeper']}")
    page.keyboard.press("c")
    page.fill("#snapshot-name", "as it came")
    page.click("#snapshot")
    page.wait_for_selector("[data-snapshot] img")
    page.select_option("#side-b", label="Without Even light")
    page.wait_for_selector("#differences [data-map=occlusion]")
    settle(page)
    page.wait_for_timeout(6000)
    page.screenshot(path=OUT / "compare.png")
    page.locator("[data-snapshot]").get_by_role("button", name="Forget").click()

    page = fresh(f"/bench/{ident['Oyster-shell']}")
    pane = page.locator(".pane").nth(1)
    pane.locator("[data-view=flat]").click()
    page.locator(".pane").first.locator("[data-view=flat]").click()
    page.locator(".pane").first.locator(".open-rest").click()
    page.locator(".pane").first.get_by_label("Test chart").select_option("checker")
    page.locator(".pane").first.locator(".open-rest").click()
    pane.locator(".open-rest").click()
    pane.get_by_role("button", name="Values").click()
    page.wait_for_selector("#reading-body .hues img")
    settle(page)
    page.screenshot(path=OUT / "reading.png")


def box_of(page: Page) -> tuple[float, float, float, float]:
    """Where the sheet lies in the second pane."""
    pane = page.locator(".pane").nth(1)
    left, top, width, height = (float(v) for v in str(pane.get_attribute("data-sheet")).split(","))
    box = pane.bounding_box()
    assert box
    return box["x"] + left, box["y"] + top, width, height


def add(page: Page, title: str, after: str) -> None:
    page.click(f"[data-step={after}]")
    page.click("#add-step")
    page.get_by_role("option", name=title, exact=True).click()
    settle(page)


def drawn(page: Page, points: list[tuple[float, float]]) -> None:
    page.mouse.move(*points[0])
    page.mouse.down()
    for x, y in points[1:]:
        page.mouse.move(x, y, steps=6)


def place_of(page: Page) -> tuple[float, float, float, float]:
    """Where the sheet lies in the first pane, laid flat."""
    pane = page.locator(".pane").first
    pane.locator("[data-view=flat]").click()
    settle(page)
    left, top, width, height = (float(v) for v in str(pane.get_attribute("data-sheet")).split(","))
    box = pane.bounding_box()
    assert box
    return box["x"] + left, box["y"] + top, width, height


def depths(fresh: Callable[[str], Page], copy: Callable[[str], str]) -> None:
    """Maps in depth: relief with its sun and a profile, elements, a mask by hand, what is odd."""
    page = fresh(copy("Keeper"))
    x, y, w, h = place_of(page)
    page.locator("[data-step=height]").click(position={"x": 60, "y": 14})
    page.click("#which-relief")
    page.locator("#reliefs button").first.click()
    settle(page)
    page.locator(".pane").first.locator(".open-rest").click()
    page.locator(".pane").first.locator("[data-check=profile]").click()
    drawn(page, [(x + 0.2 * w, y + 0.62 * h), (x + 0.85 * w, y + 0.62 * h)])
    page.mouse.up()
    page.locator("[data-field=sizes]").scroll_into_view_if_needed()
    page.evaluate("document.querySelector('[data-field=sizes]').scrollIntoView({block: 'center'})")
    settle(page)
    page.screenshot(path=OUT / "relief.png")

    page = fresh(copy("Hull"))
    page.locator("[data-step=metallic]").click(position={"x": 60, "y": 14})
    page.select_option("#set-mode", label="by thread")
    settle(page)
    page.fill("#set-border", "1")
    page.keyboard.press("Enter")
    settle(page)
    page.locator("#strip [data-thread=metallic] .warn").click()
    page.wait_for_selector("#odd-body .finding")
    settle(page)


def prepared(fresh: Callable[[str], Page], ident: dict[str, str], address: str) -> None:
    """Report, hand work, motif, break-up and map sets, on copies of the demo's materials."""

    def copy(name: str) -> str:
        request = urllib.request.Request(f"{address}/api/materials/{ident[name]}/duplicate", method="POST")
        return f"/bench/{json.load(urllib.request.urlopen(request))['id']}"

    page = fresh(copy("Hull"))
    page.click("#report")
    page.wait_for_selector("#report-list [data-code=light]")
    page.wait_for_timeout(1500)
    page.screenshot(path=OUT / "report.png")

    page = fresh(copy("Oyster-shell"))
    add(page, "Repair", "seamless")
    page.locator(".pane").nth(1).locator("[data-view=half]").click()
    settle(page)
    x, y, w, h = box_of(page)
    page.mouse.click(x + 0.2 * w, y + 0.3 * h)
    drawn(page, [(x + 0.5 * w, y + 0.4 * h), (x + 0.52 * w, y + 0.5 * h)])
    page.mouse.up()
    settle(page)
    page.mouse.move(x + 0.55 * w, y + 0.65 * h)
    page.wait_for_timeout(500)
    page.screenshot(path=OUT / "repair.png")

    page = fresh(copy("Keeper"))
    add(page, "Break up", "seamless")
    page.locator(".pane").nth(1).locator("[data-view=flat]").click()
    settle(page)
    page.wait_for_timeout(3000)
    page.screenshot(path=OUT / "break-up.png")

    # A group with dials in a group, and a thread chosen by its picture to limit a row
    page = fresh(copy("Hull"))
    page.locator("[data-step=height]").click(position={"x": 60, "y": 14})
    for _ in range(3):
        page.keyboard.press("Shift+ArrowDown")
    page.keyboard.press("g")
    for name, rows in (("Relief", None), ("Form", ("height", "normal"))):
        if rows:
            page.locator(f"[data-step={rows[0]}]").click(position={"x": 60, "y": 14})
            page.locator(f"[data-step={rows[1]}]").click(position={"x": 70, "y": 14}, modifiers=["Shift"])
            page.click("#group-rows")
        page.wait_for_selector("#group-name")
        page.wait_for_timeout(600)
        page.fill("#group-name", name)
        page.keyboard.press("Enter")
        page.wait_for_timeout(900)
    for title in ("Height: Depth", "Normal: Strength"):
        page.select_option("#new-dial", label=title)
        page.wait_for_timeout(900)
    settle(page)
    page.screenshot(path=OUT / "groups.png")
    depths(fresh, copy)

    with tempfile.TemporaryDirectory() as folder:
        made = Path(folder)
        for thread, name in (("base", "Albedo"), ("normal", "Normal"), ("roughness", "Roughness"), ("height", "Height")):
            address_of = f"{address}/api/materials/{ident['Galley']}/map/{thread}.png?size=512"
            (made / f"galley_tiles_{name}.png").write_bytes(urllib.request.urlopen(address_of).read())
        page = fresh("/")
        with page.expect_file_chooser() as chooser:
            page.get_by_role("button", name="Open a map set").click()
        chooser.value.set_files(sorted(made.iterdir()))
        page.wait_for_selector("dialog table.found tr[data-file]")
        page.wait_for_timeout(800)
        page.screenshot(path=OUT / "map-set.png")


if __name__ == "__main__":
    OUT.mkdir(exist_ok=True)
    main(sys.argv[1] if len(sys.argv) > 1 else "http://127.0.0.1:8321")
