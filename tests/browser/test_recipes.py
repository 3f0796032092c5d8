"""A recipe on another photo, a folder through a recipe, words to a surface, a sheet of variations: on the real interface."""

from __future__ import annotations

import re
from pathlib import Path

import pytest
from playwright.sync_api import BrowserContext, Page, expect

from tests.browser.test_bench import ready, wait
from tests.work.test_many import photo


@pytest.fixture
def library(context: BrowserContext, address: str) -> Page:
    page = context.new_page()
    page.goto(address)
    page.wait_for_selector("#from-recipe")
    return page


def recipes(page: Page, name: str) -> None:
    page.click("#from-recipe")
    page.wait_for_selector("#recipe-grid .pattern")
    page.click(f"[data-recipe={name}]")
    expect(page.locator(f"[data-recipe={name}]")).to_have_attribute("aria-checked", "true")


def test_a_recipe_is_found_turned_begun_and_saved_for_another_photo(library: Page, tmp_path: Path) -> None:
    page = library
    page.click("#from-recipe")
    page.wait_for_selector("#recipe-grid .pattern")
    assert page.locator("#recipe-grid .pattern").count() >= 20
    page.fill("#recipe-words", "torn")
    expect(page.locator("#recipe-grid .pattern")).to_have_count(1)
    page.locator("#recipe-grid .pattern").click()
    tears = page.locator("[data-dial=tears]")
    before = page.get_attribute("#recipe-picture", "src")
    tears.fill("0.1")
    expect(page.locator("#recipe-picture")).not_to_have_class(re.compile("stale"))
    assert page.get_attribute("#recipe-picture", "src") != before
    page.fill("#recipe-words", "")
    page.click("[data-recipe=photo-plaster]")
    expect(page.locator("#recipe-begin")).to_be_disabled()
    page.set_input_files("#recipe-file", [photo(tmp_path / "north_wall.png", 1)])
    expect(page.locator("#recipe-begin")).to_have_text("Begin with the photo")
    page.locator("[data-dial=relief]").fill("0.9")
    page.click("#recipe-begin")
    page.wait_for_url("**/bench/**", timeout=60_000)
    ready(page)
    expect(page.locator("#name")).to_have_text("North wall")
    expect(page.locator("#controls")).to_contain_text("Relief")
    page.click("#save-recipe")
    page.fill("#save-title", "Walls of the yard")
    page.click("#save-go")
    expect(page.locator("#recipe-told")).to_contain_text("it takes a photo")
    page.goto(page.url.partition("/bench/")[0])
    recipes(page, "walls_of_the_yard")
    expect(page.locator("#recipe-grid .pattern").first).to_contain_text("Walls of the yard")
    page.set_input_files("#recipe-file", [photo(tmp_path / "south_wall.png", 2)])
    page.click("#recipe-begin")
    page.wait_for_url("**/bench/**", timeout=60_000)
    ready(page)
    expect(page.locator("#name")).to_have_text("South wall")
    page.click("#save-recipe")
    expect(page.locator("#recipe-told")).to_contain_text("Made of the recipe Walls of the yard")


def test_a_folder_goes_through_a_recipe(library: Page, tmp_path: Path) -> None:
    page = library
    recipes(page, "photo-concrete")
    files = [photo(tmp_path / f"{k}.png", k) for k in (1, 2)]
    (tmp_path / "3.png").write_bytes(b"broken")
    page.set_input_files("#recipe-file", [*files, tmp_path / "3.png"])
    expect(page.locator("#recipe-begin")).to_have_text("Put 3 photos through")
    page.select_option("#recipe-profile", "plain")
    page.select_option("#recipe-size", "512")
    page.click("#recipe-begin")
    page.wait_for_selector("#many-sheet[open]")
    page.wait_for_selector("#many-sheet[data-state=done]", timeout=180_000)
    rows = page.locator("#many-rows tr")
    expect(rows).to_have_count(2)
    expect(page.locator("#many-refused")).to_contain_text("3.png")  # no picture: refused before, in words
    expect(page.locator("#many-words")).to_contain_text("2 of 2 done")
    expect(rows.first.locator("a", has_text="Zip")).to_be_visible()
    wait(page, "document.querySelectorAll('#many-rows img').length === 2")
    rows.first.locator("a").first.click()
    page.wait_for_url("**/bench/**")


def test_words_become_a_surface(library: Page) -> None:
    page = library
    page.click("#in-words")
    page.fill("#words-phrase", "zorbly quux")
    page.keyboard.press("Enter")
    expect(page.locator("#words-error")).to_contain_text("no surface is named")
    page.fill("#words-phrase", "wet black slate with zorbly moss")
    page.keyboard.press("Enter")
    expect(page.locator(".chip.surface")).to_contain_text("slate")
    expect(page.locator(".chip.unknown")).to_contain_text("zorbly")
    expect(page.locator("#words-there .there").first).to_contain_text("Keeper's roof")
    page.wait_for_selector("#words-results[data-done='4']", timeout=60_000)
    assert page.locator("#words-results img").count() == 4
    page.locator("#words-results .pattern").nth(1).click()
    page.click("#words-begin")
    page.wait_for_url("**/bench/**")
    ready(page)
    expect(page.locator("#name")).to_have_text("Wet black slate with zorbly moss")
    wait(page, "document.querySelectorAll('.course').length > 5")


def test_a_sheet_of_variations_is_compared_and_one_is_kept(library: Page) -> None:
    page = library
    recipes(page, "tarred-rope")
    page.click("#recipe-begin")
    page.wait_for_url("**/bench/**")
    ready(page)
    page.click("#variations")
    page.check("[data-dial=salt]")
    page.select_option("#variation-count", "6")
    page.click("#variation-ask")
    page.wait_for_selector("#variation-grid[data-waiting='0'] img", timeout=90_000)
    expect(page.locator(".variation")).to_have_count(6)
    page.locator(".variation >> text=Drop").first.click()
    expect(page.locator(".variation")).to_have_count(5)
    for k in (0, 1):
        page.locator(".variation input").nth(k).check()
    page.click("#variation-between")
    expect(page.locator(".variation")).to_have_count(6)
    expect(page.locator(".variation").nth(1)).to_contain_text("20 %")
    page.wait_for_selector("#variation-grid[data-waiting='0'] img", timeout=90_000)
    page.locator(".variation .pattern").nth(2).click()
    page.wait_for_selector("#variation-picture[data-whole='40 %']")
    page.keyboard.press("ArrowRight")
    page.wait_for_selector("#variation-picture[data-whole='60 %']")
    page.click("#variation-keep")
    expect(page.locator("#undo")).to_be_enabled()
    page.click("#history")
    expect(page.locator("#history-list li").first).to_contain_text("Between two variations, 60 %")


def test_the_sheets_pass_axe(library: Page) -> None:
    page = library
    rules = "{ runOnly: ['wcag2a', 'wcag2aa', 'wcag21aa', 'wcag22aa'] }"
    axe = (Path(__file__).parents[2] / "tools/vendor/node_modules/axe-core/axe.min.js").read_text("utf-8")

    def wrong() -> list[str]:
        told = f"{axe}; axe.run({rules}).then(r => r.violations.map(v => v.id + ': ' + v.nodes.map(n => n.target).join()))"
        found: list[str] = page.evaluate(told)
        return found

    recipes(page, "photo-stone")
    assert wrong() == []
    page.click("#recipe-close")
    page.click("#in-words")
    page.fill("#words-phrase", "zorbly blue tiles with moss")
    page.keyboard.press("Enter")
    page.wait_for_selector("#words-results[data-done='4']", timeout=60_000)
    assert wrong() == []
    page.click("#words-close")
    page.click("#many-open")
    page.wait_for_selector("#many-sheet[open]")
    assert wrong() == []
    page.click("#many-close")
    recipes(page, "fishing-net")
    page.click("#recipe-begin")
    page.wait_for_url("**/bench/**")
    ready(page)
    page.click("#save-recipe")
    assert wrong() == []
    page.click("#variations")
    page.click("#variation-ask")
    page.wait_for_selector("#variation-grid[data-waiting='0'] img", timeout=90_000)
    assert wrong() == []
    page.locator(".variation .pattern").first.click()
    page.wait_for_selector("#variation-picture[data-whole]")
    assert wrong() == []
