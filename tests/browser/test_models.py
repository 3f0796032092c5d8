"""The page of models, with real gestures: bring in, look, unwrap, bake, lay on."""

from __future__ import annotations

import re
import zipfile
from pathlib import Path

from playwright.sync_api import Page, expect

from silent_loom.core.delivery.models.gltf import glb
from silent_loom.core.form.reading.table import read_model
from silent_loom.demo.models import buoy, lifebelt
from tests.browser.test_bench import brought, head_of, settled, wait


def test_from_bringing_in_to_a_model_with_a_material(page: Page, address: str, tmp_path: Path) -> None:
    path = tmp_path / "harbour buoy.glb"
    path.write_bytes(glb(buoy(), {}))
    page.goto(f"{address}/models")
    page.locator("#model-file").set_input_files(path)
    expect(page.locator("#model-list [aria-pressed=true]")).to_contain_text("harbour buoy")
    expect(page.locator("#verdict")).to_have_text("These UVs cannot carry a texture of their own yet.")
    expect(page.locator("[data-kind=overlapping]")).to_be_visible()
    page.locator("[data-kind=outside] button").click()
    expect(page.locator(".island.meant")).to_have_count(1)
    expect(page.locator("#island-facts")).to_contain_text("texels per cm")
    page.select_option("#model-unit", "cm")
    expect(page.locator("#taken-words")).to_contain_text("a unit is 10 mm")
    page.select_option("#model-up", "z")
    expect(page.locator("#taken-words")).to_contain_text("z points up")
    page.select_option("#model-unit", "")
    page.select_option("#model-up", "")
    expect(page.locator("#taken-words")).to_contain_text("a unit is 1000 mm; y points up")
    page.select_option("#uv-size", "512")
    page.fill("#unwrap-padding", "4")
    page.click("#unwrap-start")
    expect(page.locator("#model-list [aria-pressed=true]")).to_contain_text("unwrapped")
    expect(page.locator("#verdict")).to_have_text("These UVs can carry a texture.")
    page.click("#tab-bake")
    page.click("#bake-check")
    expect(page.locator("#bake-points .good")).to_have_count(5)
    page.fill("#bake-rays", "4")
    page.click("#bake-start")
    expect(page.locator("[data-job=bake]")).to_have_attribute("data-state", "done")
    expect(page.locator(".made-maps img")).to_have_count(3)
    page.locator("[data-log=bake] summary").click()
    expect(page.locator("[data-log=bake]")).to_contain_text(re.compile(r"Normal.*Occlusion", re.S))
    page.locator("[data-job=bake]").get_by_role("button", name="See it on the model").click()
    expect(page.locator("#model-form")).to_have_attribute("data-wears", "normal occlusion")
    page.click("#tab-lay")
    page.select_option("#lay-over", index=1)
    page.fill("#lay-low", "0.5")
    page.click("#lay-start")
    expect(page.locator("[data-job=lay]")).to_have_attribute("data-state", "done")
    page.get_by_role("radio", name="Wipe").click()
    expect(page.locator("#model-form")).to_have_attribute("data-wipe", "0.50")
    page.get_by_label("Where the wipe stands").fill("0.2")
    expect(page.locator("#model-form")).to_have_attribute("data-wipe", "0.20")
    page.get_by_role("radio", name="What changed").click()
    expect(page.locator(".before-after [role=status]")).to_contain_text("ΔE00 on the average")
    expect(page.locator("#model-form")).to_have_attribute("data-wipe", "")
    with page.expect_download() as download:
        page.get_by_role("link", name="Model with it").click()
    assert Path(download.value.path()).read_bytes()[:4] == b"glTF"


def test_models_of_the_quay_are_looked_at_and_the_page_passes_axe(page: Page, address: str) -> None:
    page.goto(f"{address}/models")
    page.click("#quay")
    expect(page.locator("#verdict")).not_to_be_empty()
    expect(page.locator(".faults li").first).to_be_visible()
    chosen = page.locator("#model-list [aria-pressed=true]")
    expect(chosen).to_contain_text("mooring_buoy.glb")  # not one that was there before
    expect(page.locator("body")).to_have_attribute("data-checked", chosen.get_attribute("data-id") or "")
    expect(page.locator("#model-form")).to_have_attribute("data-shown", chosen.get_attribute("data-id") or "")
    form = page.locator("#model-form")
    expect(form).to_have_attribute("data-frames", re.compile("[1-9]"))
    page.locator("#model-form canvas").click()  # its middle lies on the buoy
    expect(page.locator("#island-facts")).to_contain_text("Island 0 of body")
    before = form.get_attribute("data-frames") or ""
    page.locator("#model-form canvas").press("ArrowLeft")
    expect(form).not_to_have_attribute("data-frames", before)
    page.get_by_role("radio", name="UV sheet").click()
    expect(page.locator("#model-form")).to_be_hidden()
    page.get_by_role("radio", name="Both").click()
    axe = (Path(__file__).parents[2] / "tools/vendor/node_modules/axe-core/axe.min.js").read_text("utf-8")
    rules = "{ runOnly: ['wcag2a', 'wcag2aa', 'wcag21aa', 'wcag22aa'] }"
    told = f"{axe}; axe.run({rules}).then(r => r.violations.map(v => v.id + ': ' + v.nodes.map(n => n.target).join()))"
    assert page.evaluate(told) == []


def test_a_material_is_laid_on_a_model_on_the_bench(page: Page, address: str, photo_file: Path, tmp_path: Path) -> None:
    path = tmp_path / "quay lifebelt.glb"
    path.write_bytes(glb(lifebelt(), {}))
    brought(page, address, photo_file)

    def added(words: str, title: str) -> str:
        head = head_of(page)
        page.click("#add-step")
        page.get_by_label("Find a step").fill(words)
        page.locator(".palette-item", has_text=title).first.click()
        return settled(page, head)

    head = added("lay on a model", "Lay on a model")
    page.get_by_label("Model file").first.set_input_files(path)
    settled(page, head)
    expect(page.locator("#facts")).to_contain_text("on quay lifebelt.glb")
    expect(page.locator("#controls")).to_contain_text("1,824 triangles")
    expect(page.locator(".pane").first.get_by_role("radio", name="Repeat")).to_have_count(0)
    page.locator(".pane").first.get_by_role("radio", name="Form").click()
    expect(page.locator(".form-tools select").first).to_have_value("the model")
    head = added("altitude", "Where on the model")
    page.get_by_role("button", name="Upper half").click()
    settled(page, head)
    wait(page, "[...document.querySelectorAll('.strip canvas, .strip img')].length >= 7")
    expect(page.locator("[data-step=where_on_model]")).to_contain_text("altitude")
    head = added("painted", "Where on the model")
    page.get_by_role("button", name="Painted red").click()
    head = settled(page, head)
    page.select_option("#set-channel", "green")
    settled(page, head)
    row = page.locator("[data-step=where_on_model]", has_text="vertex colour green")
    expect(row).to_have_count(1)
    pane = page.locator(".pane").first
    pane.locator("[data-view=flat]").click()
    options = pane.locator("select[aria-label=Map] option").evaluate_all("all => all.map(o => o.value)")
    name = next(o for o in reversed(options) if o.startswith("where"))
    pane.locator("select[aria-label=Map]").select_option(name)
    wait(page, "t => document.querySelector('.pane').dataset.painted?.startsWith(`flat:${t}`)", arg=name)
    facts = page.locator(f".strip [data-thread={name}] .facts")
    # The bands are red, the rest is white
    expect(facts).to_contain_text(re.compile(r"0\.0\d to (0\.9\d|1\.00)"))
    assert not "".join(page.locator(".note.warn[role=alert]").all_inner_texts())
    page.click("#deliver")
    page.wait_for_selector("#forecast[data-told]")
    page.click("[data-profile=gltf]")
    page.select_option("#deliver-size", "256")
    page.click("#deliver-go")
    expect(page.locator("#deliver-job")).to_have_attribute("data-state", "done", timeout=120_000)
    with page.expect_download() as download:
        page.locator("#made a").first.click()
    with zipfile.ZipFile(download.value.path()) as given:
        name = next(n for n in given.namelist() if n.endswith(".glb"))
        (tmp_path / "given.glb").write_bytes(given.read(name))
    worn = read_model(tmp_path / "given.glb")
    assert len(worn) == len(lifebelt())
    assert "base" in worn.slots[0].textures
