"""Preparing by hand, as an artist does: marks drawn, strokes across an edge, cells, report, grid, map sets."""

from __future__ import annotations

import io
import re
import time
import zipfile
from pathlib import Path

import numpy as np
import pytest
from PIL import Image as Pillow
from playwright.sync_api import BrowserContext, Page, Route, expect

from silent_loom.core.base.images import Image, Kind
from silent_loom.core.base.srgb import encode_srgb
from silent_loom.core.files import write
from silent_loom.core.steps.maps.normal import from_height
from tests.browser.test_bench import bench, box_of, brought, head_of, picture, ready, settled, wait  # noqa: F401
from tests.conftest import spectrum
from tests.support import varied
from tests.support.walls import courses, sheet


@pytest.fixture(autouse=True)
def one_flat_picture(page: Page) -> None:
    """The form is another test's; without it the machine has its cores for what is done here."""
    page.add_init_script("localStorage.setItem('loom-panes', JSON.stringify([{ view: 'flat', thread: 'base' }]))")


def photo_at(folder: Path, light: np.ndarray, name: str = "quay.png") -> Path:
    Pillow.fromarray(np.rint(encode_srgb(np.clip(light, 0, 1)) * 255).astype(np.uint8)).save(folder / name)
    return folder / name


def made(page: Page, thread: str = "base", size: int = 256) -> np.ndarray:
    """A map as the application would deliver it."""
    ident = page.locator("#bench").get_attribute("data-id")
    body = page.request.get(f"{page.url.split('/bench')[0]}/api/materials/{ident}/map/{thread}.png?size={size}").body()
    return np.asarray(Pillow.open(io.BytesIO(body))).astype(int)


def add(page: Page, step: str, after: str) -> None:
    head = head_of(page)
    page.click(f"[data-step={after}]")
    page.click("#add-step")
    page.get_by_role("option", name=step, exact=True).click()
    settled(page, head)


def test_a_photo_of_tiles_begins_with_whole_repeats_and_one_undo_takes_them_back(
    page: Page, address: str, tmp_path: Path
) -> None:
    brought(page, address, photo_at(tmp_path, varied.tiles(np.random.default_rng(6)), "galley.png"), greeted=True)
    expect(page.locator(".toast-line")).to_contain_text("whole repeats are kept")
    expect(page.locator("#report-list [data-code=motif]")).to_contain_text("Seamless sees to it")
    before = head_of(page)
    page.click("#undo")
    settled(page, before)
    material = page.request.get(page.url.split("#")[0].replace("/bench/", "/api/materials/")).json()
    closing = next(r for r in material["weave"]["rows"] if r["step"] == "seamless")
    assert closing["settings"]["method"] == "cut"


def show(page: Page, view: str) -> tuple[float, float, float, float]:
    """Show a view in the first pane, and say where its picture lies: left, top, width, height."""
    page.locator(".pane").first.locator(f"[data-view={view}]").click()
    wait(page, f"document.querySelector('.pane').dataset.painted?.startsWith('{view}')")
    wait(page, "!document.querySelector('.pane').classList.contains('computing')")
    box = box_of(page.locator(".pane canvas").first)
    return box["x"], box["y"], box["width"], box["height"]


def draw(page: Page, points: list[tuple[float, float]]) -> None:
    page.mouse.move(*points[0])
    page.mouse.down()
    for x, y in points[1:]:
        page.mouse.move(x, y, steps=4)
    page.mouse.up()


def sheet_box(page: Page) -> tuple[float, float, float, float]:
    """Where the sheet lies on the screen, from what lies under the pointer."""
    value = page.evaluate("document.querySelector('.pane').dataset.sheet")
    left, top, width, height = (float(v) for v in value.split(","))
    box = box_of(page.locator(".pane canvas").first)
    return box["x"] + left, box["y"] + top, width, height


def test_a_stain_is_drawn_round_and_goes_from_every_map(page: Page, address: str, tmp_path: Path) -> None:
    light = varied.plaster(np.random.default_rng(2))[:480, :640].copy()
    v, u = np.mgrid[0:480, 0:640]
    light[np.hypot(u - 320, v - 240) < 36] = (0.05, 0.02, 0.02)
    brought(page, address, photo_at(tmp_path, light))
    before = made(page)
    add(page, "Clean", "straighten")
    show(page, "flat")
    head = head_of(page)
    x, y, w, h = sheet_box(page)
    ring = [(x + w * (0.5 + 0.1 * np.cos(a)), y + h * (0.5 + 0.13 * np.sin(a))) for a in np.linspace(0, 6.2, 14)]
    draw(page, ring)
    settled(page, head)
    expect(page.locator("ol.layers li")).to_have_count(1)
    after = made(page)
    assert (before.min(2) < 60).mean() > 0.004, "the stain was there"
    assert (after.max(2) < 80).mean() < 0.0005, "and is gone"
    # Taking the mark out brings it back: nothing was painted over
    head = head_of(page)
    page.get_by_role("button", name="Take region 1 out").click()
    settled(page, head)
    assert np.array_equal(made(page), before)


def test_a_stroke_across_an_edge_in_the_half_shift(bench: Page) -> None:  # noqa: F811
    page = bench
    add(page, "Repair", "seamless")
    box = show(page, "half")
    page.get_by_role("radio", name="Paint").click()
    page.locator("#brush-colour").evaluate("e => { e.value = '#ff0000'; e.dispatchEvent(new Event('input')); }")
    before = made(page)
    head = head_of(page)
    x, y, w, h = sheet_box(page)
    # In the half shift the edge runs through the middle
    draw(page, [(x + w * 0.42, y + h * 0.3), (x + w * 0.58, y + h * 0.3)])
    settled(page, head)
    after = made(page)
    red = (np.abs(after - before).max(2) > 20) & (after[..., 0] > after[..., 1] + 60)
    columns = np.flatnonzero(red.any(0))
    assert columns.min() == 0, "it reaches the left edge"
    assert columns.max() == after.shape[1] - 1, "and goes on from the right one"
    assert not red[:, after.shape[1] // 4 : 3 * after.shape[1] // 4].any()
    rows = np.flatnonzero(red.any(1))
    assert rows.mean() / after.shape[0] == pytest.approx(0.8, abs=0.05), "half a sheet down from where it was seen"
    # Hidden, its layer changes nothing; one undo takes the stroke away
    head = head_of(page)
    page.get_by_role("button", name="Hide").click()
    head = settled(page, head)
    assert np.array_equal(made(page), before)
    page.keyboard.press("Control+z")
    head = settled(page, head)
    assert np.array_equal(made(page), after)
    page.keyboard.press("Control+z")
    settled(page, head)
    assert np.array_equal(made(page), before)
    assert box[2] > 100


def test_quick_strokes_are_all_kept_and_the_picture_on_screen_is_the_applications(bench: Page) -> None:  # noqa: F811
    page = bench
    add(page, "Repair", "seamless")
    show(page, "flat")
    page.get_by_role("radio", name="Paint").click()
    x, y, w, h = sheet_box(page)
    places = [(0.2 + 0.15 * (k % 4), 0.3 + 0.2 * (k // 4)) for k in range(6)]
    for u, v in places:
        page.mouse.click(x + w * u, y + h * v)
    ident, base = page.locator("#bench").get_attribute("data-id"), page.url.split("/bench")[0]

    def kept() -> int:
        rows = page.request.get(f"{base}/api/materials/{ident}").json()["weave"]["rows"]
        return sum(len(layer["strokes"]) for row in rows if row["step"] == "repair" for layer in row["settings"]["layers"])

    end = time.monotonic() + 60
    while kept() < len(places) and time.monotonic() < end:
        page.wait_for_timeout(100)
    assert kept() == len(places), "none was lost to the one after it"

    def seen() -> np.ndarray:
        page.mouse.move(5, 5)
        wait(page, "document.querySelectorAll('.hand canvas').length === 0")
        wait(page, "document.querySelector('.pane').getAttribute('aria-busy') === 'false'")
        shown = "() => { const c = document.querySelector('.pane canvas'); return [...c.getContext('2d').getImageData(0, 0, c.width, c.height).data.filter((_, i) => i % 101 === 0)]; }"
        return np.array(page.evaluate(shown), np.int16)

    by_blocks = seen()
    # What came stroke by stroke, as changed blocks, is what comes whole to a page that is opened anew
    page.reload()
    wait(page, "document.body.dataset.ready")
    page.click("[data-step=repair]")
    show(page, "flat")
    whole = seen()
    assert by_blocks.shape == whole.shape
    assert np.abs(whole - by_blocks).max() <= 2


def test_clone_shows_its_source_first_and_moves_every_map(bench: Page) -> None:  # noqa: F811
    page = bench
    add(page, "Repair", "seamless")
    show(page, "flat")
    head = head_of(page)
    x, y, w, h = sheet_box(page)
    expect(page.locator("#controls")).to_contain_text("set the source")
    page.mouse.click(x + w * 0.25, y + h * 0.3)
    expect(page.locator("#controls")).to_contain_text("Alt and press sets another source")
    assert head_of(page) == head, "choosing a source changes nothing"
    before = {t: made(page, t) for t in ("base", "height")}
    draw(page, [(x + w * 0.7, y + h * 0.6), (x + w * 0.74, y + h * 0.62)])
    head = settled(page, head)
    page.get_by_label("Layer 1 works on").select_option("all")
    settled(page, head)
    after = {t: made(page, t) for t in ("base", "height")}
    for thread in ("base", "height"):
        changed = np.abs(after[thread] - before[thread]).reshape(*after[thread].shape[:2], -1).max(2) > 3
        assert changed.any(), thread
        rows, columns = np.nonzero(changed)
        if thread == "base":
            assert columns.mean() / changed.shape[1] == pytest.approx(0.72, abs=0.05)
            assert rows.mean() / changed.shape[0] == pytest.approx(0.61, abs=0.06)


def test_breaking_up_makes_a_larger_sheet_and_shows_its_cells(bench: Page) -> None:  # noqa: F811
    page = bench
    was = made(page, size=240)
    add(page, "Break up", "seamless")
    expect(page.locator("#controls .cell-pictures img")).to_have_count(3)
    wait(page, "[...document.querySelectorAll('#controls .cell-pictures img')].every(i => i.complete && i.naturalWidth > 100)")
    head = head_of(page)
    page.fill("#set-repeat_x", "2")
    page.press("#set-repeat_x", "Enter")
    head = settled(page, head)
    page.fill("#set-repeat_y", "2")
    page.press("#set-repeat_y", "Enter")
    head = settled(page, head)
    now = made(page, size=480)
    assert now.shape[1] == 480
    assert now.shape[0] == pytest.approx(2 * was.shape[0], abs=1)
    tile = now[: now.shape[0] // 2, :240]
    assert np.abs(tile - now[: now.shape[0] // 2, 240:]).mean() > 3, "its tiles differ"
    assert now.std() == pytest.approx(was.std(), rel=0.15)
    page.locator(".control[data-field=turn_deg] .slide").scroll_into_view_if_needed()
    slide = box_of(page.locator(".control[data-field=turn_deg] .slide"))
    draw(page, [(slide["x"] + 4, slide["y"] + 7), (slide["x"] + slide["width"] * 0.7, slide["y"] + 7)])
    settled(page, head)
    assert np.abs(made(page, size=480) - now).mean() > 3


def test_the_report_finds_a_border_and_trims_it(page: Page, address: str, tmp_path: Path) -> None:
    light = varied.rubble(np.random.default_rng(4))[:450, :600].copy()
    light[:, :36] = 0.9
    brought(page, address, photo_at(tmp_path, light))
    page.wait_for_selector("#report[data-mend='1']")  # nobody had to ask
    page.click("#report")
    line = page.locator("#report-list [data-code=border]")
    expect(line).to_contain_text("would print as stripes")
    head = head_of(page)
    line.get_by_role("button").click()
    head = settled(page, head)
    expect(line).to_contain_text("mended")
    expect(line).to_contain_text("Straighten sees to it.")
    expect(line.get_by_role("button")).to_have_count(0)
    page.keyboard.press("Escape")
    page.wait_for_selector("#report[data-mend='0']")
    page.click("#undo")
    head = settled(page, head)
    page.wait_for_selector("#report[data-mend='1']")
    page.click("#redo")
    settled(page, head)
    expect(page.locator("[data-step=straighten]")).to_contain_text("4 corners")
    assert made(page)[:, 4].std() > 4, "the left edge is stone now"


def test_a_motif_is_found_and_its_grid_corrected_by_hand(page: Page, address: str, tmp_path: Path) -> None:
    brought(page, address, photo_at(tmp_path, varied.tiles(np.random.default_rng(3), 97.3, 81.2)))
    page.click("[data-step=seamless]")
    head = head_of(page)
    page.click("#find-motif")
    head = settled(page, head)
    expect(page.locator("[data-step=seamless]")).to_contain_text("motif")
    expect(page.locator("#set-bend")).to_be_checked()
    page.click("#place-grid")
    wait(page, "document.querySelector('.pane').dataset.painted?.startsWith('grid')")
    handle = box_of(page.locator("[data-corner='2']"))
    draw(page, [(handle["x"] + handle["width"] / 2, handle["y"] + handle["height"] / 2), (handle["x"] - 20, handle["y"] - 15)])
    settled(page, head)
    page.get_by_role("button", name="Done").click()
    expect(page.locator("#set-grid_x")).to_have_value("7")


def test_corners_wait_for_the_photo_they_lie_on(page: Page, address: str, tmp_path: Path) -> None:
    brought(page, address, photo_at(tmp_path, varied.gravel(np.random.default_rng(4))))
    maps: list[Route] = []
    photos: list[Route] = []
    page.route("**/map", lambda route: maps.append(route))
    page.route(re.compile(r"/photo\.jpg\?.*size=2800"), lambda route: photos.append(route))
    pane, corner = page.locator(".pane").first, page.locator("[data-corner='0']")
    pane.get_by_label("Map").select_option(label="Height")
    page.click("[data-step=straighten]")
    page.click("#place-corners")
    while not (maps and photos):
        page.wait_for_timeout(20)

    # What comes late belongs to a view that was left: the photo is not there yet, so there is nothing to take hold of
    page.unroute("**/map")
    with page.expect_response(re.compile(r"/map$")) as late:
        for route in maps:
            route.continue_()
    late.value.finished()
    page.evaluate("() => new Promise((done) => requestAnimationFrame(() => requestAnimationFrame(done)))")
    expect(corner).to_be_hidden()
    assert not (pane.get_attribute("data-painted") or "").startswith("photo")

    for route in photos:
        route.continue_()
    expect(corner).to_be_visible()
    expect(corner).to_be_focused()
    assert (pane.get_attribute("data-painted") or "").startswith("photo")
    written = "[...document.querySelector('.pane').childNodes].filter(n => n.nodeType === Node.TEXT_NODE).map(n => n.data)"
    assert page.evaluate(written) == [], "words that nobody wrote are read out all the same"


def test_the_overlap_is_fitted_to_level_courses(page: Page, address: str, tmp_path: Path) -> None:
    brought(page, address, photo_at(tmp_path, sheet(courses(700, 600, 566.0, 4)).pixels))
    page.click("[data-step=seamless]")
    before = page.locator("#set-overlap_y").input_value()
    head = head_of(page)
    page.click("#fit-overlap")
    head = settled(page, head)
    expect(page.get_by_role("status").filter(has_text="meets itself now: ")).to_contain_text("down from")
    assert page.locator("#set-overlap_y").input_value() != before
    page.locator("#set-method").select_option("mirror")
    settled(page, head)
    expect(page.locator("#fit-overlap")).to_be_hidden()


def test_a_map_set_is_shown_as_a_table_before_it_is_taken(page: Page, address: str, tmp_path: Path) -> None:
    plane = spectrum(128, 1.8, 5, keep=0.2)
    n = from_height(Image(plane[..., None] * 2, Kind.DATA, (128.0, 128.0), True)).pixels * np.array([1, -1, 1], np.float32)
    write(tmp_path / "kelp_albedo.png", np.stack([plane] * 3, -1).astype(np.float32) * 0.1 + 0.4, colour=True)
    write(tmp_path / "kelp_normal.png", n * 0.5 + 0.5, colour=False)
    write(tmp_path / "kelp_gloss.png", plane[..., None] * 0.1 + 0.4, colour=False)
    with zipfile.ZipFile(tmp_path / "kelp.zip", "w") as archive:
        for path in tmp_path.glob("kelp_*.png"):
            archive.write(path, path.name)
    page.goto(address)
    page.wait_for_selector(".drop")
    with page.expect_file_chooser() as chooser:
        page.get_by_role("button", name="Open a map set").click()
    chooser.value.set_files(tmp_path / "kelp.zip")
    table = page.locator("dialog table.found")
    expect(table.locator("tbody tr")).to_have_count(3)
    normal = table.locator("tr[data-file='kelp_normal.png']")
    expect(normal).to_contain_text("turned up")
    expect(normal.get_by_label("green down")).to_be_checked()
    expect(table.locator("tr[data-file='kelp_gloss.png']").get_by_label("smoothness")).to_be_checked()
    width = page.get_by_label("Width of a repeat")
    width.fill("wide")
    page.click("#make-sets")
    expect(page.locator("dialog [role=alert]:visible").first).to_contain_text("how wide is a repeat")
    width.fill("20 in")
    page.click("#make-sets")
    page.wait_for_url("**/bench/*")
    ready(page)
    expect(page.locator("[data-step=mapset]")).to_be_visible()
    expect(page.locator("#facts")).to_contain_text("50.8 cm")
    rough, gloss = made(page, "roughness", 128), np.rint((plane * 0.1 + 0.4) * 255)
    assert np.abs(rough.reshape(128, 128, -1)[..., 0] - (255 - gloss)).max() <= 1


def test_two_sets_that_are_one_material_are_joined_by_hand(page: Page, address: str, tmp_path: Path) -> None:
    plane = spectrum(128, 1.8, 6, keep=0.2).astype(np.float32)[..., None]
    with zipfile.ZipFile(tmp_path / "shore.zip", "w") as archive:
        for name, colour in (("kelp_albedo.png", True), ("wrack_roughness.png", False)):
            picture = np.repeat(plane, 3, -1) if colour else plane
            write(tmp_path / name, picture * 0.1 + 0.4, colour=colour)
            archive.write(tmp_path / name, name)
    page.goto(address)
    page.wait_for_selector(".drop")
    with page.expect_file_chooser() as chooser:
        page.get_by_role("button", name="Open a map set").click()
    chooser.value.set_files(tmp_path / "shore.zip")
    tables = page.locator("dialog section table.found")
    expect(tables).to_have_count(2)
    page.get_by_role("button", name="Join with").click()
    expect(tables).to_have_count(1)
    expect(tables.locator("tbody tr")).to_have_count(2)


def test_an_empty_sheet_is_painted_from_nothing(page: Page, address: str) -> None:
    page.goto(address)
    page.wait_for_selector(".drop")
    page.get_by_role("button", name="Empty sheet").click()
    page.wait_for_url("**/bench/*")
    ready(page)
    page.click("[data-step=repair]")
    show(page, "flat")
    page.get_by_role("radio", name="Paint").click()
    head = head_of(page)
    x, y, w, h = sheet_box(page)
    flat = made(page)
    assert flat.std(axis=(0, 1)).max() == 0
    draw(page, [(x + w * 0.3, y + h * 0.5), (x + w * 0.7, y + h * 0.5)])
    settled(page, head)
    assert made(page).std(axis=(0, 1)).max() > 0
    head = head_of(page)
    page.click("#add-layer")
    settled(page, head)
    expect(page.locator("ol.layers li")).to_have_count(2)


def test_a_damaged_set_is_refused_in_words(context: BrowserContext, address: str, tmp_path: Path) -> None:
    page = context.new_page()
    page.goto(address)
    page.wait_for_selector(".drop")
    with zipfile.ZipFile(tmp_path / "up.zip", "w") as archive:
        archive.writestr("../up.png", b"x")
    with page.expect_file_chooser() as chooser:
        page.get_by_role("button", name="Open a map set").click()
    chooser.value.set_files(tmp_path / "up.zip")
    expect(page.locator(".say[role=alert]")).to_contain_text("tries to write outside its folder")


def test_true_size_bond_and_checks_are_drawn(bench: Page) -> None:  # noqa: F811
    page = bench
    show(page, "repeat")
    pane = page.locator(".pane").first
    pane.get_by_role("button", name="Tools").click()
    straight = picture(page)
    pane.get_by_label("Bond").select_option("brick")
    assert np.abs(picture(page) - straight).mean() > 0.5
    pane.get_by_label("Bond").select_option("straight")
    pane.get_by_label("Copies across").fill("6")
    pane.get_by_label("Copies across").press("Enter")
    expect(pane.get_by_label("Copies down")).to_have_value("6")
    pane.get_by_role("button", name="linked").click()
    pane.get_by_label("Copies down").fill("3")
    pane.get_by_label("Copies down").press("Enter")
    expect(pane.get_by_label("Copies across")).to_have_value("6")
    wait(page, "!document.querySelector('.pane').classList.contains('computing')")
    plain = picture(page)
    pane.locator("[data-check=scale]").click()
    assert np.abs(picture(page) - plain).mean() > 0.05
    pane.locator("[data-check=spots]").click()
    expect(pane.locator("[data-check=spots]")).to_have_attribute("aria-pressed", "true")


@pytest.mark.parametrize("view", ["half", "repeat"])
def test_marks_made_in_a_half_shift_or_a_repeat_count_and_are_shown_there(bench: Page, view: str) -> None:  # noqa: F811
    page = bench
    add(page, "Mark out", "seamless")
    show(page, view)
    page.get_by_role("radio", name="Brush").click()
    page.get_by_label("show the marks").check()
    x, y, w, h = sheet_box(page)
    head = head_of(page)
    # Beyond the first copy of the sheet: to the right of it on a repeat, across the join on a half shift
    u, v = (1.3, 0.4) if view == "repeat" else (0.8, 0.7)
    draw(page, [(x + w * u, y + h * v), (x + w * (u + 0.05), y + h * v)])
    settled(page, head)
    mask = made(page, "mark")
    rows, columns = np.nonzero(mask.reshape(*mask.shape[:2], -1)[..., 0] > 128)
    shift = 0.5 if view == "half" else 0.0
    at = columns.mean() / mask.shape[1], rows.mean() / mask.shape[0]
    assert at == pytest.approx(((u + 0.025 + shift) % 1, (v + shift) % 1), abs=0.04)
    page.mouse.move(x + w * 0.5, y + h * 0.5)
    shown = page.evaluate(
        """([x, y]) => [...document.querySelectorAll('.pane .hand canvas')].some((c) => {
          const b = c.getBoundingClientRect(), k = c.width / b.width;
          if (x < b.left || y < b.top || x >= b.right || y >= b.bottom) return false;
          return c.getContext('2d').getImageData((x - b.left) * k, (y - b.top) * k, 1, 1).data[3] > 0;
        })""",
        [x + w * (u + 0.02), y + h * v],
    )
    assert shown, "the mark is shown where it was made"
