"""Maps in depth on the bench: sizes, the sun, a profile, masks by hand, elements, what is odd; by real gestures."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest
from playwright.sync_api import Page, expect

from tests.browser.test_bench import box_of, brought, head_of, settled
from tests.browser.test_groups import choose, weave_of


@pytest.fixture
def bench(page: Page, address: str, photo_file: Path) -> Page:
    brought(page, address, photo_file)
    return page


def settings_of(page: Page, step: str) -> dict[str, Any]:
    rows: Any = weave_of(page)["rows"]
    return next(r for r in rows if r["step"] == step)["settings"]  # type: ignore[no-any-return]


def add(page: Page, words: str, head: str) -> str:
    page.click("#add-step")
    page.keyboard.type(words)
    expect(page.locator(".palette [aria-selected=true]")).to_be_visible()
    page.keyboard.press("Enter")
    return settled(page, head)


def sheet(page: Page) -> tuple[float, float, float, float]:
    """Where the flat picture lies on the page: left, top, width, height."""
    expect(page.locator(".pane[data-sheet]").first).to_be_visible()
    pane = page.locator(".pane").first
    box = box_of(pane)
    x, y, w, h = (float(v) for v in (pane.get_attribute("data-sheet") or "").split(","))
    return box["x"] + x, box["y"] + y, w, h


def test_sizes_are_weighed_by_dragging_a_curve(bench: Page) -> None:
    page, head = bench, head_of(bench)
    choose(page, "height")
    curve = page.locator("[data-field=sizes] svg")
    curve.scroll_into_view_if_needed()
    expect(curve.locator("rect.bar").first).to_be_attached()
    before = settings_of(page, "height")["sizes"]
    box = box_of(curve.locator("circle").nth(1))
    page.mouse.move(box["x"] + 5, box["y"] + 5)
    page.mouse.down()
    page.mouse.move(box["x"] + 5, box["y"] - 18, steps=4)
    page.mouse.up()
    head = settled(page, head)
    after = settings_of(page, "height")["sizes"]
    assert after[1][1] > before[1][1] + 0.2
    assert [s[1] for i, s in enumerate(after) if i != 1] == [s[1] for i, s in enumerate(before) if i != 1]
    area = box_of(curve)
    page.mouse.dblclick(area["x"] + area["width"] * 0.12, area["y"] + area["height"] * 0.5)
    head = settled(page, head)
    assert len(settings_of(page, "height")["sizes"]) == len(before) + 1
    page.locator("[data-preset=Pebbles]").click()
    settled(page, head)
    assert settings_of(page, "height")["depth_mm"] == 12


def test_the_sun_is_asked_for_and_dragged(bench: Page) -> None:
    page, head = bench, head_of(bench)
    choose(page, "height")
    page.click("#which-relief")
    expect(page.locator("#reliefs img")).to_have_count(2)
    page.locator("#reliefs button").first.click()
    head = settled(page, head)
    assert settings_of(page, "height")["light_deg"] is not None
    expect(page.locator(".pane[data-sun]").first).to_be_visible()
    pane = box_of(page.locator(".pane").first)
    x, y = (float(v) for v in (page.locator(".pane").first.get_attribute("data-sun") or "").split(","))
    left, top, w, h = sheet(page)
    page.mouse.move(pane["x"] + x, pane["y"] + y)
    page.mouse.down()
    page.mouse.move(left + w / 2, top + h * 0.1, steps=6)
    page.mouse.move(left + w / 2 + 1, top + h * 0.05, steps=3)
    page.mouse.up()
    head = settled(page, head)
    assert abs(settings_of(page, "height")["light_deg"] - 90) <= 4, "towards the top of the picture"
    page.click("#no-sun")
    settled(page, head)
    assert settings_of(page, "height")["light_deg"] is None


def test_light_is_a_press_away_and_so_is_brightness(bench: Page) -> None:
    page, head = bench, head_of(bench)
    choose(page, "height")
    page.click("#by-light")
    expect(page.locator("#by-brightness")).to_be_visible()
    expect(page.locator("#which-relief")).to_be_hidden()
    told = settings_of(page, "height")
    assert (told["relief"], told["fill"]) == ("relief_read", "as read")
    assert all(share == 1 for *_, share in told["sizes"])
    steps = [r["step"] for r in weave_of(page)["rows"]]
    assert steps.index("reading") == steps.index("height") - 1
    head = head_of(page)
    choose(page, "reading")
    page.click("#which-relief")
    expect(page.locator("#reliefs img")).to_have_count(2, timeout=90_000)
    page.locator("#reliefs button").first.click()
    head = settled(page, head)
    assert settings_of(page, "reading")["light_deg"] is not None
    expect(page.locator(".pane[data-sun]").first).to_be_visible()
    choose(page, "height")
    page.click("#by-brightness")
    settled(page, head)
    told = settings_of(page, "height")
    assert (told["relief"], told["fill"], told["sizes"][0][2]) == ("none", "by contrast", 0.4)
    expect(page.locator("#which-relief")).to_be_visible()


def test_a_profile_is_drawn_across_the_picture(bench: Page) -> None:
    page = bench
    left, top, w, h = sheet(page)
    pane = page.locator(".pane").first
    opener = pane.locator(".open-rest")
    if opener.is_visible():
        opener.click()
    pane.locator("[data-check=profile]").click()
    page.mouse.move(left + w * 0.2, top + h * 0.5)
    page.mouse.down()
    page.mouse.move(left + w * 0.8, top + h * 0.5, steps=5)
    page.mouse.up()
    expect(pane.locator(".profile svg path")).to_be_visible()
    assert float(pane.get_attribute("data-profile") or 0) > 0
    expect(pane.locator(".profile")).to_contain_text("mm")


def test_a_mask_is_painted_for_a_step(bench: Page) -> None:
    page, head = bench, head_of(bench)
    choose(page, "tone")
    page.locator("details.more summary", has_text="mask").click()
    page.click("#paint-mask")
    expect(page.locator("[data-step=mark]")).to_be_visible()
    expect(page.locator("#controls h2")).to_have_text("Mark out")
    # The chart draws what limits a row as something that the row reads
    expect(page.locator("[data-step=tone][data-limited=mark]")).to_be_visible()
    rows: Any = weave_of(page)["rows"]
    assert next(r for r in rows if r["step"] == "tone")["mask"]["thread"] == "mark"
    head = head_of(page)
    page.locator("[data-tool=brush]").click()
    left, top, w, h = sheet(page)
    page.mouse.move(left + w * 0.3, top + h * 0.4)
    page.mouse.down()
    page.mouse.move(left + w * 0.6, top + h * 0.5, steps=6)
    page.mouse.up()
    settled(page, head)
    assert [r["kind"] for r in settings_of(page, "mark")["regions"]] == ["brush"]
    expect(page.locator(".pane[data-over^='cover/mark']").first).to_be_visible()


def test_elements_are_shown_joined_and_varied(bench: Page) -> None:
    page, head = bench, head_of(bench)
    choose(page, "occlusion")
    head = add(page, "elements", head)
    expect(page.locator(".pane[data-over^='borders/id']").first).to_be_visible()
    left, top, w, h = sheet(page)
    page.click("#join-elements")
    page.mouse.click(left + w * 0.3, top + h * 0.3)
    page.mouse.click(left + w * 0.7, top + h * 0.7)
    head = settled(page, head)
    assert [e["kind"] for e in settings_of(page, "elements")["edits"]] == ["join"]
    head = add(page, "vary elements", head)
    seed = settings_of(page, "vary")["seed"]
    page.click("#another-seed")
    settled(page, head)
    assert settings_of(page, "vary")["seed"] == seed + 1


def test_what_is_odd_is_explained_and_mended(bench: Page) -> None:
    page, head = bench, head_of(bench)
    choose(page, "metallic")
    page.select_option("#set-mode", label="by thread")
    head = settled(page, head)
    page.fill("#set-border", "1")
    page.keyboard.press("Enter")
    head = settled(page, head)
    warning = page.locator("#strip [data-thread=metallic] .warn")
    expect(warning).to_contain_text("metal")
    warning.click()
    mend = page.locator("#odd-sheet [data-mend]").first
    expect(page.locator("#odd-sheet")).to_contain_text("bare metal")
    mend.click()
    settled(page, head)
    assert settings_of(page, "metallic")["mode"] == "constant"
