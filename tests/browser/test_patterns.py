"""A surface from nothing to a delivered set; groups, dials, drafts, notes and copies by hand, on the real interface."""

from __future__ import annotations

import json
import zipfile
from pathlib import Path

import pytest
from playwright.sync_api import BrowserContext, Page, expect

from tests.browser.test_bench import ready, wait


@pytest.fixture
def library(context: BrowserContext, address: str) -> Page:
    page = context.new_page()
    page.goto(address)
    page.wait_for_selector("#from-pattern")
    return page


def begin(page: Page, words: str, name: str) -> None:
    page.click("#from-pattern")
    page.wait_for_selector(".pattern")
    page.fill("#pattern-words", words)
    page.locator(".pattern").first.click()
    page.fill("#pattern-name", name)
    page.click("#pattern-begin")
    page.wait_for_url("**/bench/**")
    ready(page)


def test_from_nothing_to_a_delivered_set(library: Page, tmp_path: Path) -> None:
    page = library
    page.click("#from-pattern")
    page.wait_for_selector(".pattern")
    assert page.locator(".pattern").count() >= 40
    page.click("#pattern-families >> text=Metal")
    expect(page.locator(".pattern").first).to_contain_text("Brushed steel")
    page.fill("#pattern-words", "brick wall")
    expect(page.locator("#pattern-none")).to_be_visible()
    page.click("#pattern-families >> text=All of them")
    expect(page.locator("#pattern-none")).to_be_hidden()
    page.locator("[data-pattern=bricks]").click()
    expect(page.locator("#pattern-title")).to_have_text("Bricks")
    page.fill("#pattern-width", "60 cm")
    expect(page.locator("#pattern-high")).to_contain_text("48 cm")
    page.fill("#pattern-name", "Boiler house wall")
    page.click("#pattern-begin")
    page.wait_for_url("**/bench/**")
    ready(page)
    wait(page, "document.querySelectorAll('.course').length > 10")
    page.click("#deliver")
    page.wait_for_selector("#forecast [data-map=base]")
    expect(page.locator("#forecast tr[data-map=metallic]")).to_contain_text("the same everywhere")
    page.locator("#forecast tr[data-map=metallic] button").click()
    expect(page.locator("#forecast tr[data-map=metallic] button")).to_have_text("Take in")
    page.select_option("#deliver-size", "256")
    page.click("#deliver-go")
    page.wait_for_selector("#deliver-job[data-state=done]", timeout=60_000)
    link = page.locator(".made a").first
    with page.expect_download() as waited:
        link.click()
    waited.value.save_as(tmp_path / "set.zip")
    with zipfile.ZipFile(tmp_path / "set.zip") as z:
        names = [n.rpartition("/")[2] for n in z.namelist()]
        manifest = json.loads(z.read(next(n for n in z.namelist() if n.endswith("manifest.json"))))
    assert {"basecolor", "height", "normal", "roughness"} <= {n.rpartition("_")[2].partition(".")[0] for n in names}
    assert not any("metallic" in n for n in names)
    assert any("left out on purpose: metallic" in w for w in manifest["warnings"])
    assert manifest["repeat_mm"] == pytest.approx([600.0, 480.0])


def test_a_draft_is_drawn_and_dials_are_turned(library: Page) -> None:
    page = library
    begin(page, "denim", "Oilskin lining")
    page.click(".course[data-step=cloth]")
    page.select_option("#set-draft", "own")
    page.wait_for_selector(".draft button")
    before = page.evaluate(
        "document.querySelector('.draft').textContent + [...document.querySelectorAll('.draft button')].map((b) => b.ariaChecked).join()"
    )
    page.locator(".draft button").nth(0).click()
    wait(page, "document.querySelector('#saved').textContent.startsWith('Saved')")
    after = page.evaluate(
        "document.querySelector('.draft').textContent + [...document.querySelectorAll('.draft button')].map((b) => b.ariaChecked).join()"
    )
    assert before != after
    page.fill("#draft-wide", "6")
    page.locator("#draft-wide").blur()
    wait(page, "document.querySelectorAll('.draft button').length === 24")
    page.locator(".course.group", has_text="Colour").click()
    dial = page.locator("#dials .dial").first
    dial.locator(".value").first.fill("1")
    dial.locator(".value").first.blur()
    wait(page, "document.querySelector('#saved').textContent.startsWith('Saved')")
    dial.locator("summary").click()
    formula = page.locator("#dials .formula").first
    formula.fill("x ^ 3")
    formula.blur()
    expect(page.locator("#dials .formula").first).to_have_value("x ^ 3")
    wait(page, "document.querySelector('#saved').textContent.startsWith('Saved')")


def test_notes_links_and_copies(library: Page) -> None:
    page = library
    begin(page, "square tiles", "Galley wall")
    page.click(".course[data-step=bonds]")
    page.locator(".row-note summary").click()
    page.fill("#row-note", "as in the old galley")
    page.locator("#row-note").blur()
    expect(page.locator(".course[data-step=bonds] .noted")).to_contain_text("as in")
    page.locator(".link-pair").click()
    field = page.locator("#set-across_mm")
    field.fill("75")
    field.blur()
    wait(page, "Math.abs(parseFloat(document.querySelector('#set-down_mm').value) - 75) < 0.01")
    wait(page, "document.querySelector('#saved').textContent.startsWith('Saved')")
    page.locator(".course.group", has_text="Colour").click()
    page.click("#copy-rows")
    expect(page.locator("#saved")).to_contain_text("1 row copied")
    expect(page.locator("#unused-threads")).to_contain_text("no step uses yet")
    page.goto(page.url.partition("/bench/")[0])
    page.wait_for_selector("#from-pattern")
    begin(page, "rock face", "Cliff below the light")
    plain = page.locator(".course").count()
    page.locator(".course").first.click()
    page.click("#paste-rows")
    wait(page, f"document.querySelectorAll('.course').length > {plain + 4}")
