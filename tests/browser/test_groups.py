"""Groups, dials, masks and threads on the bench, by mouse and by keys."""

from __future__ import annotations

import json
import urllib.request
from pathlib import Path

import pytest
from playwright.sync_api import Page, expect

from tests.browser.test_bench import box_of, brought, head_of, settled, wait


@pytest.fixture
def bench(page: Page, address: str, photo_file: Path) -> Page:
    brought(page, address, photo_file)
    return page


def weave_of(page: Page) -> dict[str, object]:
    ident = page.url.rstrip("/").split("/")[-1].split("#")[0]
    with urllib.request.urlopen(page.url.split("/bench/")[0] + f"/api/materials/{ident}") as answer:
        return json.load(answer)["weave"]  # type: ignore[no-any-return]


def rows(page: Page) -> list[str]:
    return page.locator(".course").evaluate_all("all => all.map(r => r.dataset.path)")  # type: ignore[no-any-return]


def choose(page: Page, step: str) -> None:
    page.locator(f"[data-step={step}]").click(position={"x": 60, "y": 14})


def test_a_group_with_two_dials_in_a_group(bench: Page) -> None:
    page, head = bench, head_of(bench)
    choose(page, "height")
    page.keyboard.press("Shift+ArrowDown")
    page.keyboard.press("Shift+ArrowDown")
    expect(page.locator(".course.also")).to_have_count(2)
    page.keyboard.press("g")
    head = settled(page, head)
    expect(page.locator("#group-name")).to_be_focused()
    page.keyboard.type("Relief")
    page.keyboard.press("Enter")
    head = settled(page, head)
    assert rows(page)[5:9] == ["relief", "relief/height", "relief/normal", "relief/roughness"]

    # A group in the group: two rows by the mouse, with Shift
    choose(page, "height")
    page.locator("[data-step=normal]").click(position={"x": 70, "y": 14}, modifiers=["Shift"])
    page.click("#group-rows")
    head = settled(page, head)
    page.fill("#group-name", "Form")
    page.keyboard.press("Enter")
    head = settled(page, head)
    assert rows(page)[5:10] == ["relief", "relief/form", "relief/form/height", "relief/form/normal", "relief/roughness"]

    # Two dials; making one changes nothing, dragging one moves its setting
    picture = page.evaluate("document.querySelector('[data-thread=height] img').src")
    for title in ("Height: Depth", "Normal: Strength"):
        page.select_option("#new-dial", label=title)
        head = settled(page, head)
    expect(page.locator("#dials .dial")).to_have_count(2)
    told = weave_of(page)["rows"]
    depth = next(r for r in told if r["step"] == "height")["settings"]["depth_mm"]  # type: ignore[attr-defined]
    assert depth == pytest.approx(10, rel=1e-3)
    slide = box_of(page.locator("[data-dial-title=Depth] .slide"))
    page.mouse.move(slide["x"] + slide["width"] * 0.2, slide["y"] + slide["height"] / 2)
    page.mouse.down()
    page.mouse.move(slide["x"] + slide["width"] * 0.9, slide["y"] + slide["height"] / 2, steps=5)
    expect(page.locator("#saved")).to_contain_text("Trying")
    page.mouse.up()
    head = settled(page, head)
    height = next(r for r in weave_of(page)["rows"] if r["step"] == "height")  # type: ignore[attr-defined]
    assert height["settings"]["depth_mm"] > 30
    assert height["steered"] == {"depth_mm": "Depth"}
    wait(page, f"document.querySelector('[data-thread=height] img').src !== {json.dumps(picture)}")
    choose(page, "height")
    expect(page.locator("[data-field=depth_mm] .moved-by")).to_have_text("moved by the dial Depth")
    expect(page.locator("[data-field=depth_mm] input").first).to_be_disabled()

    # Folded by a key, opened by the mouse
    choose(page, "roughness")
    page.keyboard.press("ArrowLeft")
    expect(page.locator(".course.chosen")).to_have_attribute("data-path", "relief")
    page.keyboard.press("ArrowLeft")
    head = settled(page, head)
    assert rows(page)[5:7] == ["relief", "metallic"]
    expect(page.locator("[data-path=relief]")).to_have_attribute("data-open", "false")
    page.locator("[data-path=relief] .fold").click()
    head = settled(page, head)

    # A row dragged into the inner group, and back by undo
    source, target = box_of(page.locator("[data-step=metallic]")), box_of(page.locator("[data-path='relief/form/normal']"))
    page.mouse.move(source["x"] + 80, source["y"] + 12)
    page.mouse.down()
    page.mouse.move(target["x"] + 60, target["y"] + 24, steps=6)
    page.mouse.up()
    head = settled(page, head)
    assert "relief/form/metallic" in rows(page)
    page.click("#undo")
    head = settled(page, head)
    assert "metallic" in rows(page)

    # Dissolved: the rows stay, as the dials left them; undo brings the group back
    page.locator("[data-path='relief/form']").click(position={"x": 70, "y": 14})
    page.click("#dissolve-group")
    head = settled(page, head)
    assert rows(page)[5:9] == ["relief", "relief/height", "relief/normal", "relief/roughness"]
    height = next(r for r in weave_of(page)["rows"] if r["step"] == "height")  # type: ignore[attr-defined]
    assert height["settings"]["depth_mm"] > 30
    assert height["steered"] == {}
    page.click("#undo")
    settled(page, head)
    assert "relief/form/height" in rows(page)


def test_threads_are_chosen_by_their_pictures_and_limit_rows(bench: Page) -> None:
    page, head = bench, head_of(bench)
    choose(page, "roughness")
    page.click("#set-reads_from")
    sheet = page.locator(".thread-sheet")
    expect(sheet.locator("[role=option]")).to_have_text(["constant", "Base colour", "Height"])
    wait(page, "[...document.querySelectorAll('.thread-item img')].filter(i => i.naturalWidth).length === 2")
    page.keyboard.press("ArrowRight")
    page.keyboard.press("Enter")
    head = settled(page, head)
    expect(page.locator("#set-reads_from")).to_have_text("Height")
    expect(page.locator("[data-step=roughness] [data-thread=height]")).to_have_class("knot reads")

    # A helper thread, named by hand, and a mask made of it
    choose(page, "occlusion")
    page.keyboard.press("a")
    page.get_by_label("Find a step").fill("channel")
    page.keyboard.press("Enter")
    head = settled(page, head)
    page.fill("#set-name", "Pale moss!")
    page.keyboard.press("Tab")
    head = settled(page, head)
    expect(page.locator(".strip [data-thread=pale_moss]")).to_be_enabled()
    if page.evaluate("document.activeElement.tagName") == "BODY":
        page.keyboard.press("a")
    else:
        page.click("#add-step")
    page.get_by_label("Find a step").fill("tone")
    page.keyboard.press("Enter")
    head = settled(page, head)
    page.locator("details.more summary").last.click()
    page.click("#set-mask")
    page.locator(".thread-item[data-value=pale_moss]").click()
    head = settled(page, head)
    expect(page.locator("#mask-low")).to_have_value("0")
    page.check("#mask-inverted")
    settled(page, head)
    mask = weave_of(page)["rows"][-1]["mask"]  # type: ignore[index]
    assert mask == {"kind": "thread", "thread": "pale_moss", "channel": "", "inverted": True, "low": 0.0, "high": 1.0}


def test_close_up_the_texels_of_a_bake_are_shown(bench: Page) -> None:
    page = bench
    page.locator(".strip [data-thread=normal]").click()
    pane = page.locator(".pane").first
    pane.locator("canvas[role=img]").first.focus()
    for _ in range(14):
        page.keyboard.press("+")
    wait(page, "document.querySelector('.pane').dataset.fine")
    box = [int(v) for v in page.evaluate("document.querySelector('.pane').dataset.fine").split(",")]
    assert 0 < box[2] - box[0] <= 2048
    assert max(box) <= 8192
    where = box_of(pane)
    page.mouse.move(where["x"] + where["width"] / 2, where["y"] + where["height"] / 2)
    expect(pane.locator(".foot")).to_contain_text("of 8192 ×")
