"""The page of models, with real gestures: bring in, look, unwrap, bake, lay on."""

from __future__ import annotations

import re
from pathlib import Path

from playwright.sync_api import Page, expect

from silent_loom.core.delivery.models.gltf import glb
from silent_loom.demo.models import buoy


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
    page.locator("[data-job=bake]").get_by_role("button", name="See it on the model").click()
    expect(page.locator("#model-form")).to_have_attribute("data-wears", "normal occlusion")
    page.click("#tab-lay")
    page.select_option("#lay-over", index=1)
    page.fill("#lay-low", "0.5")
    page.click("#lay-start")
    expect(page.locator("[data-job=lay]")).to_have_attribute("data-state", "done")
    with page.expect_download() as download:
        page.get_by_role("link", name="Model with it").click()
    assert Path(download.value.path()).read_bytes()[:4] == b"glTF"


def test_models_of_the_quay_are_looked_at_and_the_page_passes_axe(page: Page, address: str) -> None:
    page.goto(f"{address}/models")
    page.click("#quay")
    expect(page.locator("#verdict")).not_to_be_empty()
    expect(page.locator(".faults li").first).to_be_visible()
    expect(page.locator("#model-form")).not_to_have_attribute("data-shown", "")
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
