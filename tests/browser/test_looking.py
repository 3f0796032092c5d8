"""Looking and comparing on the bench by real gestures: light, forms, wipe, blink, difference, snapshots, trying on, reading."""

from __future__ import annotations

import io
import json
import urllib.request
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from PIL import Image as Pillow
from playwright.sync_api import Browser, Page, expect

from silent_loom.core.base.srgb import decode_srgb
from silent_loom.core.screen.shading import lamp_light, on_screen
from tests.browser.test_bench import box_of, head_of, ready, settled, wait
from tests.browser.test_groups import weave_of
from tests.core.screen.test_looking import CUBE
from tools.surroundings import OUT, blurred

STILL = "document.querySelector('.pane[data-view=form]')?.dataset.still === 'yes'"


def asked(address: str, path: str, body: dict[str, Any] | None = None) -> Any:
    wanted = urllib.request.Request(address + path, None if body is None else json.dumps(body).encode())
    wanted.add_header("content-type", "application/json")
    with urllib.request.urlopen(wanted, timeout=60) as answer:
        return json.load(answer)


@pytest.fixture
def bench(page: Page, address: str) -> Page:
    """A copy of a material of the demo: nothing of it has to be found out anew. A small window: forms are drawn in software."""
    page.set_viewport_size({"width": 1000, "height": 620})
    page.goto(address)
    wait(page, "document.querySelectorAll('.card-cloth .about a').length > 3")
    known = {m["name"]: m["id"] for m in asked(address, "/api/materials")["materials"]}
    copy = asked(address, f"/api/materials/{known['Sailcloth']}/duplicate", {})
    page.goto(f"{address}/bench/{copy['id']}")
    ready(page)
    return page


def picture(page: Page, pane: int = 0) -> np.ndarray:
    raw = page.locator(".pane").nth(pane).screenshot()
    return np.asarray(Pillow.open(io.BytesIO(raw)).convert("RGB")).astype(float)


def still(page: Page) -> np.ndarray:
    wait(page, STILL)
    return picture(page)


def compare(page: Page, other: str) -> None:
    page.keyboard.press("c")
    expect(page.locator("#compare-sheet")).to_be_visible()
    expect(page.locator("#side-b option", has_text="Another")).to_have_count(0)
    wait(page, "document.querySelectorAll('#side-b option').length > 8")
    page.select_option("#side-b", label=other)


def flat(page: Page) -> None:
    page.locator("[data-panes='1']").click()
    page.locator(".pane [data-view=flat]").first.click()
    ready(page)


def test_the_form_shades_as_the_core_does(page: Page, address: str) -> None:
    """One lamp, an even colour seen straight on: the texel in the middle, for matt and for glossy surfaces."""
    page.set_viewport_size({"width": 900, "height": 560})
    made = asked(address, "/api/materials/blank", {})
    path = f"/api/materials/{made['id']}"

    def change(**body: Any) -> Any:
        head = asked(address, path)["head"]
        return asked(address, f"{path}/change", {"base": head, **body})

    rows = {r["step"]: r["id"] for r in asked(address, path)["weave"]["rows"]}
    change(kind="settings", step_id=rows["blank"], settings={"colour": "#b08a5a"})
    rough = rows.get("roughness")
    colour = decode_srgb(np.array([0xB0, 0x8A, 0x5A]) / 255)
    for value, bound in ((0.9, 2), (0.35, 5)):
        if rough:
            change(kind="remove", step_id=rough)
        state = change(kind="add", step="roughness", settings={"reads_from": "constant", "high": value}, to=99)
        rough = state["weave"]["rows"][-1]["id"]
        page.goto(f"{address}/bench/{made['id']}")
        ready(page)
        page.locator("[data-panes='1']").click()
        page.locator(".pane [data-view=form]").first.click()
        page.locator("[aria-label=Light]").first.select_option("lamp")
        canvas = page.locator(".pane[data-view=form] > canvas").first
        canvas.focus()
        for key in ("Home", "2", "3", "6"):  # no relief, flat normals, no occlusion
            page.keyboard.press(key)
        for steps in (0, 3):
            lamp = page.locator(".light").first
            lamp.focus()
            for _ in range(steps):
                page.keyboard.press("ArrowRight")
            wait(page, STILL)
            shown = still(page)
            x, y = -0.5 + 0.1 * steps, 0.55
            to_light = np.array([x, y, np.sqrt(1 - x * x - y * y)])
            light = lamp_light(colour, [0, 0, 1], value, 0.0, to_light=to_light, to_eye=[0, 0, 1], light=np.full(3, np.pi))
            middle = shown[shown.shape[0] // 2, shown.shape[1] // 2]
            assert np.abs(middle - on_screen(light)).max() <= bound, (value, steps, middle, on_screen(light))
            for _ in range(steps):
                page.keyboard.press("ArrowLeft")


@pytest.mark.form
def test_forms_lights_and_maps_change_the_picture(bench: Page) -> None:
    page = bench
    page.locator("[data-panes='1']").click()
    page.locator(".pane [data-view=form]").first.click()
    seen = [still(page)]
    form, light = page.locator("[aria-label=Form]").first, page.locator("[aria-label=Light]").first
    for where, name in ((form, "vessel"), (light, "deck"), (form, "floor and wall")):
        where.select_option(name)
        seen.append(still(page))
        assert np.abs(seen[-1] - seen[-2]).mean() > 1, name
    wall = page.get_by_label("Width of the wall in metres")
    wall.fill("1")
    wall.press("Enter")
    nearer = still(page)
    assert np.abs(nearer - seen[-1]).mean() > 1, "repeats follow from the real size"
    canvas = page.locator(".pane[data-view=form] > canvas").first
    canvas.focus()
    for key in ("1", "n", "o"):
        before = still(page)
        page.keyboard.press(key)
        assert np.abs(still(page) - before).mean() > 0.4, key
    page.get_by_role("button", name="More").click()
    before = still(page)
    page.locator("[data-relief=sunk]").click()
    expect(page.locator("[data-relief=sunk]")).to_have_attribute("aria-checked", "true")
    assert np.abs(still(page) - before).mean() > 0.02


@pytest.mark.form
def test_a_model_of_ones_own_is_a_form(bench: Page, tmp_path: Path) -> None:
    page = bench
    path = tmp_path / "hatch.obj"
    path.write_text(CUBE)
    before = still(page)
    page.locator("input[aria-label='Model file']").first.set_input_files(path)
    expect(page.locator("[aria-label=Form] option", has_text="hatch.obj").first).to_be_attached()
    expect(page.locator(".pane .foot").first).to_contain_text("2 triangles")
    assert np.abs(still(page) - before).mean() > 0.5


@pytest.mark.form
def test_what_is_tried_on_the_form_can_be_kept(bench: Page) -> None:
    page, head = bench, head_of(bench)
    still(page)
    page.get_by_role("button", name="More").click()
    expect(page.locator("[data-keep=roughness]")).to_be_hidden()
    page.get_by_label("Rough", exact=True).first.fill("-0.2")
    page.locator("[data-keep=roughness]").click()
    settled(page, head)
    last = weave_of(page)["rows"][-1]
    assert (last["step"], last["settings"]["thread"], last["settings"]["brightness"]) == ("tone", "roughness", -2)
    expect(page.locator("[data-keep=roughness]")).to_be_hidden()


def test_a_wipe_follows_the_hand(bench: Page) -> None:
    page = bench
    flat(page)
    whole = picture(page)
    compare(page, "Without Even light")
    wait(
        page,
        "document.querySelector('.pane').dataset.paired?.startsWith('wipe:base:') && !document.querySelector('.pane.computing')",
    )
    pane = box_of(page.locator(".pane").first)
    middle = pane["x"] + pane["width"] / 2
    wiped = picture(page)
    half = wiped.shape[1] // 2
    page.mouse.move(middle, pane["y"] + 300)
    page.mouse.down()
    page.mouse.move(pane["x"] + 0.2 * pane["width"], pane["y"] + 300, steps=6)
    page.mouse.up()
    expect(page.locator("#wipe-at")).to_have_value("0.2")
    after = picture(page)
    assert (
        np.abs(
            after[100:-60, int(0.25 * after.shape[1]) : half - 20] - wiped[100:-60, int(0.25 * after.shape[1]) : half - 20]
        ).mean()
        > 0.5
    )
    assert np.abs(after[100:-60, half + 20 :] - wiped[100:-60, half + 20 :]).mean() < 0.01, "what was wiped over already stays"
    page.keyboard.press(";")
    expect(page.locator("#wipe-at")).to_have_value("0.24")
    page.get_by_role("button", name="End the comparison").click()
    page.locator("#compare-sheet [data-close]").click()
    ready(page)
    assert picture(page).shape == whole.shape
    assert np.abs(picture(page) - whole)[60:-60].mean() < 0.5


def test_a_difference_says_how_far_and_where(bench: Page, address: str) -> None:
    page = bench
    flat(page)
    compare(page, "Without Even light")
    page.locator("[data-way=difference]").click()
    wait(page, "document.querySelector('.pane').dataset.paired?.startsWith('difference:base:')")
    expect(page.locator("#differences [data-map=base] td").first).to_contain_text("ΔE00", timeout=60_000)
    expect(page.locator("#differences [data-map=metallic] td").first).to_have_text("0")
    ident = page.url.rpartition("/")[2]
    even = next(r["id"] for r in weave_of(page)["rows"] if r["step"] == "even_light" or "light" in r["step"])
    body = json.dumps({"thread": "base", "size": 512, "other": {"off": even}}).encode()
    wanted = urllib.request.Request(f"{address}/api/materials/{ident}/difference", body, {"content-type": "application/json"})
    with urllib.request.urlopen(wanted) as answer:
        mean = json.loads(answer.headers["x-facts"])["mean"]
    expect(page.locator("#differences [data-map=base] td").first).to_contain_text(f"{mean:.2f}" if mean < 10 else f"{mean:.1f}")


def test_a_snapshot_is_kept_compared_and_gone_back_to(bench: Page) -> None:
    page, head = bench, head_of(bench)
    page.keyboard.press("c")
    page.fill("#snapshot-name", "as it came")
    page.press("#snapshot-name", "Enter")
    expect(page.locator("[data-snapshot] input")).to_have_value("as it came")
    wait(page, "document.querySelector('[data-snapshot] .swatch img')?.naturalWidth > 100")
    page.locator("#compare-sheet [data-close]").click()
    page.click("#add-step")
    page.keyboard.type("tone")
    page.keyboard.press("Enter")
    head = settled(page, head)
    page.fill("#set-brightness", "1.5")
    page.press("#set-brightness", "Enter")
    changed = settled(page, head)
    page.keyboard.press("Escape")
    page.locator("#weave .course").first.focus()
    page.keyboard.press("c")
    page.locator("[data-snapshot]").get_by_role("button", name="Compare").click()
    page.locator("[data-way=blink]").click()
    expect(page.locator("#blink-now")).to_be_visible()
    expect(page.locator("#side-b option:checked")).to_have_text("as it came")
    page.locator("[data-snapshot]").get_by_role("button", name="Go to").click()
    back = settled(page, changed)
    assert len(weave_of(page)["rows"]) < 20
    assert back != changed
    page.keyboard.press("Escape")
    page.reload()
    ready(page)
    page.keyboard.press("c")
    expect(page.locator("[data-snapshot] input")).to_have_value("as it came")


@pytest.mark.form
def test_a_map_is_tried_in_another_role_and_one_press_keeps_it(bench: Page) -> None:
    page, head = bench, head_of(bench)
    still(page)
    page.get_by_role("button", name="More").click()
    page.get_by_role("button", name="Try on …").click()
    expect(page.locator(".side-name")).to_have_count(2)
    page.click("#candidate-add")
    expect(page.locator(".side-name")).to_have_count(3)
    before = still(page)
    assert head_of(page) == head, "nothing has changed"
    page.get_by_label("What B is made of").select_option("height")
    expect(page.locator(".side-name").nth(1)).to_contain_text("height")
    wait(page, "!document.querySelector('.pane.computing')")
    assert np.abs(still(page) - before).mean() > 0.02
    page.locator("[data-candidate='1']").click()
    settled(page, head)
    last = weave_of(page)["rows"][-1]
    assert (last["step"], last["settings"]["thread"], last["settings"]["name"]) == ("single", "height", "roughness")
    expect(page.locator(".side-name")).to_have_count(0)


def test_a_map_is_read_by_channel_row_chart_and_values(bench: Page) -> None:
    page = bench
    flat(page)
    pane = page.locator(".pane").first
    whole = picture(page)

    def looks(label: str, value: str) -> np.ndarray:
        turn = pane.get_attribute("data-turn")
        pane.get_by_label(label, exact=True).select_option(value)
        expect(pane).not_to_have_attribute("data-turn", turn or "")
        wait(page, "!document.querySelector('.pane.computing')")
        return picture(page)

    if pane.get_by_label("Channel", exact=True).is_hidden():
        pane.get_by_role("button", name="Tools").click()
    red = looks("Channel", "r")[140:-60, 40:-40]
    assert np.abs(red[..., 0] - red[..., 1]).max() <= 1
    looks("Channel", "")
    first = weave_of(page)["rows"][0]["id"]
    above = looks("At which row", first)
    assert np.abs(above - whole).mean() > 1, "the photo as it came"
    looks("At which row", "")
    charted = looks("Test chart", "checker")
    assert charted[140:-60].std() > whole[140:-60].std()
    looks("Test chart", "")
    page.locator("#weave .course").first.focus()
    page.keyboard.press("v")
    expect(page.locator("#reading-sheet")).to_have_attribute("data-read", "base")
    expect(page.locator("#reading-body table tbody tr")).to_have_count(3)
    wait(page, "document.querySelector('#reading-body .hues img')?.naturalWidth === 193")


@pytest.mark.form
@pytest.mark.parametrize("sheet", ["compare", "reading", "trying"])
def test_the_new_sheets_pass_axe(bench: Page, sheet: str) -> None:
    page = bench
    if sheet == "trying":
        page.get_by_role("button", name="More").click()
        page.get_by_role("button", name="Try on …").click()
    else:
        page.keyboard.press(sheet[0] if sheet == "compare" else "v")
    expect(page.locator(f"#{sheet}-sheet")).to_be_visible()
    if sheet == "compare":
        page.fill("#snapshot-name", "one")
        page.press("#snapshot-name", "Enter")
        expect(page.locator("[data-snapshot]")).to_have_count(1)
        page.locator("[data-snapshot]").get_by_role("button", name="Compare").click()
    axe = (Path(__file__).parents[2] / "tools/vendor/node_modules/axe-core/axe.min.js").read_text("utf-8")
    rules = "{ runOnly: ['wcag2a', 'wcag2aa', 'wcag21aa', 'wcag22aa'] }"
    found = page.evaluate(
        f"{axe}; axe.run({rules}).then(r => r.violations.map(v => v.id + ': ' + v.nodes.map(n => n.target).join()))"
    )
    assert found == []


def test_surroundings_that_ship_are_those_of_the_lights(chromium: Browser) -> None:
    made = blurred(chromium)
    assert set(made) == {p.stem for p in OUT.glob("*.half")}
    for name, light in made.items():
        shipped = np.fromfile(OUT / f"{name}.half", np.float16).reshape(-1, 3).astype(float)
        assert np.abs(shipped - light.astype(float)).max() <= 0.01 * max(1.0, float(shipped.max())), name
