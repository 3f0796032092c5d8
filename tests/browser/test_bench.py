"""The bench as an artist uses it: with the mouse, the keyboard, and two windows."""

from __future__ import annotations

import base64
import io
import json
import re
import time
import zipfile
from pathlib import Path

import numpy as np
import pytest
from PIL import Image as Pillow
from playwright.sync_api import BrowserContext, FloatRect, Locator, Page, Request, expect

from silent_loom.core.files import read

DROP = """([body, name]) => {
  const bytes = Uint8Array.from(atob(body), (c) => c.charCodeAt(0));
  const carried = new DataTransfer();
  carried.items.add(new File([bytes], name, { type: 'image/jpeg' }));
  for (const kind of ['dragenter', 'dragover', 'drop'])
    document.body.dispatchEvent(new DragEvent(kind, { bubbles: true, cancelable: true, dataTransfer: carried }));
}"""


def wait(page: Page, expression: str, arg: object = None, seconds: float = 180) -> None:
    """Until an expression holds; asked from outside, as the page's own policy lets nothing be evaluated in it."""
    end = time.monotonic() + seconds
    while not page.evaluate(expression if expression.startswith(("h =>", "t =>")) else f"() => ({expression})", arg):
        assert time.monotonic() < end, f"never came true: {expression}"
        page.wait_for_timeout(30)


def ready(page: Page) -> None:
    page.wait_for_selector("body[data-ready]")
    wait(page, "[...document.querySelectorAll('.pane')].every(p => p.dataset.painted && !p.classList.contains('computing'))")


def settled(page: Page, head: str) -> str:
    """Wait until the history has gone on from ``head``, and every picture has followed."""
    wait(page, "h => document.body.dataset.head !== h", arg=head)
    wait(page, "[...document.querySelectorAll('.pane')].every(p => !p.classList.contains('computing'))")
    return head_of(page)


def head_of(page: Page) -> str:
    return str(page.evaluate("document.body.dataset.head"))


def box_of(where: Locator) -> FloatRect:
    """Where something lies on the screen once it lies still: what is drawn above it a moment later would push it down."""
    last: FloatRect | None = None
    for _ in range(100):
        box = where.bounding_box()
        if box and box == last:
            return box
        last = box
        where.page.wait_for_timeout(30)
    raise AssertionError(f"nothing lies still on the screen: {where}")


def drop_photo(page: Page, address: str, photo: Path) -> None:
    page.goto(address)
    page.wait_for_selector(".drop")
    page.evaluate(DROP, [base64.b64encode(photo.read_bytes()).decode(), photo.name])
    page.wait_for_url("**/bench/*")
    ready(page)
    beside(page)


def beside(page: Page) -> None:
    """Close what lies beside the picture: a new photo opens with its report there."""
    if page.locator("#dock dialog[open]").count():
        page.locator("#dock dialog[open] [data-close]").click()
    ready(page)


def picture(page: Page, pane: int = 0) -> np.ndarray:
    raw = page.locator(".pane").nth(pane).locator("canvas").first.screenshot()
    return np.asarray(Pillow.open(io.BytesIO(raw)).convert("RGB")).astype(float)


def brought(page: Page, address: str, photo: Path, greeted: bool = False) -> None:
    """A new material of a photo on the bench, without the library: that draws what every earlier test has left there; with the
    photo report open, as after a photo is dropped, where it is to be greeted."""
    made = page.request.post(
        f"{address}/api/materials",
        headers={"origin": address},
        multipart={"photo": {"name": photo.name, "mimeType": "image/jpeg", "buffer": photo.read_bytes()}},
    )
    page.goto(f"{address}/bench/{made.json()['id']}{'#new' if greeted else ''}")
    ready(page)


@pytest.fixture
def bench(page: Page, address: str, photo_file: Path) -> Page:
    brought(page, address, photo_file)
    return page


def test_from_dropping_a_photo_to_the_zip(page: Page, address: str, photo_file: Path, tmp_path: Path) -> None:
    drop_photo(page, address, photo_file)
    expect(page.locator("#name")).to_have_text("Sailcloth")
    head = head_of(page)

    # Straighten: corners dragged on the photo
    page.click("[data-step=straighten]")
    page.click("#place-corners")
    wait(page, "document.querySelector('.pane').dataset.painted?.startsWith('photo')")
    for i, (dx, dy) in enumerate([(60, 50), (-50, 40), (-40, -60), (55, -45)]):
        box = box_of(page.locator(f"[data-corner='{i}']"))
        page.mouse.move(box["x"] + box["width"] / 2, box["y"] + box["height"] / 2)
        page.mouse.down()
        page.mouse.move(box["x"] + box["width"] / 2 + dx, box["y"] + box["height"] / 2 + dy, steps=4)
        if i == 0:
            expect(page.locator(".loupe")).to_be_visible()
        page.mouse.up()
        head = settled(page, head)
    expect(page.locator("[data-step=straighten]")).to_contain_text("4 corners")
    page.get_by_role("button", name="Done").click()

    # Real size, typed
    page.fill("#set-width_mm", "210")
    page.press("#set-width_mm", "Enter")
    head = settled(page, head)
    expect(page.locator("#facts")).to_contain_text("16.8 cm")

    # Height: one drag of a slider is one entry
    page.click("[data-step=height]")
    slide = page.locator(".control[data-field=depth_mm] .slide")
    slide.scroll_into_view_if_needed()
    box = box_of(slide)
    page.mouse.move(box["x"] + box["width"] * 0.66, box["y"] + 7)
    page.mouse.down()
    page.mouse.move(box["x"] + box["width"] * 0.4, box["y"] + 7, steps=8)
    expect(page.locator("#saved")).to_have_text("Trying …")
    assert head_of(page) == head
    page.mouse.up()
    head = settled(page, head)
    page.click("#history")
    expect(page.locator("#history-list li").first).to_contain_text("Height: Depth")
    expect(page.locator("#history-list li")).to_have_count(7)
    page.keyboard.press("Escape")

    # Deliver
    page.click("#deliver")
    page.select_option("#deliver-size", label="512")
    page.get_by_role("radio", name="Separate files").click()
    page.get_by_role("button", name="Make the zip").click()
    link = page.locator("#made a[download]").first
    expect(link).to_be_visible(timeout=150_000)
    with page.expect_download() as download:
        link.click()
    path = tmp_path / "set.zip"
    download.value.save_as(path)
    with zipfile.ZipFile(path) as z:
        z.extractall(tmp_path)
    manifest = json.loads((tmp_path / "sailcloth" / "manifest.json").read_text())
    assert max(manifest["size"]) == 512
    assert manifest["repeat_mm"][0] == pytest.approx(168)
    maps = {
        f["file"].split("_")[1].split(".")[0]: read(tmp_path / "sailcloth" / f["file"])
        for f in manifest["files"]
        if f.get("channels")
    }
    assert set(maps) == {"basecolor", "normal", "height", "roughness", "metallic", "occlusion"}
    normal = maps["normal"].data() * 2 - 1
    assert np.abs(np.linalg.norm(normal, axis=2) - 1).max() < 1e-3


def test_views_and_read_out(bench: Page) -> None:
    page = bench
    pane = page.locator(".pane").first
    pane.locator("[data-view=flat]").click()
    wait(page, "document.querySelector('.pane').dataset.painted?.startsWith('flat:base')")
    flat = picture(page)
    pane.locator("select[aria-label=Map]").select_option("normal")
    wait(page, "document.querySelector('.pane').dataset.painted?.startsWith('flat:normal')")
    middle = picture(page)[300:400, 200:300].mean((0, 1))
    assert middle[2] > middle[0] > 90
    page.mouse.move(555, 380)
    expect(pane.locator(".foot")).to_contain_text(" of ")
    pane.locator("select[aria-label=Map]").select_option("base")
    wait(page, "document.querySelector('.pane').dataset.painted?.startsWith('flat:base')")
    pane.locator("[data-view=half]").click()
    wait(page, "document.querySelector('.pane').dataset.painted?.startsWith('half')")
    assert np.abs(picture(page) - flat).mean() > 2
    pane.locator("[data-view=repeat]").click()
    pane.get_by_role("button", name="Tools").click()
    pane.locator("input[aria-label='Copies across']").fill("4")
    pane.locator("input[aria-label='Copies across']").press("Enter")
    wait(page, "!document.querySelector('.pane').classList.contains('computing')")
    pane.locator("[data-view=flat]").click()
    before = picture(page)
    page.mouse.move(557, 380)
    page.mouse.wheel(0, -1500)
    wait(page, "!document.querySelector('.pane').classList.contains('computing')")
    assert np.abs(picture(page) - before).mean() > 2


@pytest.mark.form
def test_the_form_turns_and_so_does_its_light(bench: Page) -> None:
    page = bench
    expect(page.locator(".pane").first).to_have_attribute("data-view", "form")
    frames = "document.querySelector('.pane').dataset.frame"
    still = "document.querySelector('.pane').dataset.still === 'yes'"

    def after(act: object) -> np.ndarray:
        start = int(page.evaluate(frames))
        act()  # type: ignore[operator]
        wait(page, f"+{frames} > {start} && {still}")
        return picture(page)

    wait(page, still)
    start = picture(page)
    assert start.std() > 8, "something is drawn"

    def drag(x: int, y: int, **how: str) -> None:
        page.mouse.move(540, 380)
        page.mouse.down(**how)  # type: ignore[arg-type]
        page.mouse.move(540 + x, 380 + y, steps=4)
        page.mouse.up(**how)  # type: ignore[arg-type]

    turned = after(lambda: drag(120, 20))
    assert np.abs(turned - start).mean() > 1
    lit = after(lambda: drag(160, 60, button="right"))
    assert np.abs(lit - turned).mean() > 0.5
    for form in ("ball", "box", "cylinder", "draped cloth"):
        shape = after(lambda form=form: page.locator("select[aria-label=Form]").first.select_option(form))
        assert np.abs(shape - lit).mean() > 1, form
        assert shape.std() > 8, form


@pytest.mark.form
def test_a_form_in_motion_looks_like_the_one_at_rest(bench: Page) -> None:
    page = bench
    rough = page.locator(".pane canvas.rough").first
    page.mouse.move(540, 380)
    page.mouse.down()
    page.mouse.move(560, 384, steps=3)
    expect(rough).to_be_visible()
    moving = picture(page).astype(float)
    page.mouse.up()
    wait(
        page,
        "document.querySelector('.pane canvas.rough').dataset.whole === '1' && document.querySelector('.pane').dataset.still === 'yes'",
    )
    resting = picture(page).astype(float)
    assert np.abs(moving.mean((0, 1)) - resting.mean((0, 1))).max() < 6, "no other light, no other tone"
    assert moving.std() > 0.6 * resting.std()


@pytest.mark.form
def test_the_form_never_shows_a_part_of_a_picture(bench: Page) -> None:
    """While strips are drawn underneath, every picture that is taken holds the whole surface: no band of bare table."""
    page = bench
    wait(page, "document.querySelector('.pane').dataset.still === 'yes'")
    taken = 0
    for key in ("ArrowLeft", "ArrowUp", "ArrowRight"):
        page.locator(".pane canvas[role=img]").first.focus()
        page.keyboard.press(key)
        while page.evaluate("document.querySelector('.pane').dataset.still !== 'yes'"):
            raw = page.locator(".pane").first.screenshot()
            shot = np.asarray(Pillow.open(io.BytesIO(raw)).convert("RGB")).astype(float)
            taken += 1
            middle = shot[150:-180, 200:280]  # inside the form, whichever way it is turned
            bare = (np.abs(middle - 0x77).max(2) < 3).all(1)
            assert not bare.any(), f"{bare.sum()} rows of the table show through"
    assert taken >= 2


def test_what_is_seen_beside_the_work_leaves_room_for_changes(bench: Page) -> None:
    page, under_way, most = bench, set[object](), 0

    def began(request: Request) -> None:
        nonlocal most
        if re.search(r"/map/\w+\.png|/figures|/histogram", request.url):
            under_way.add(request)
            most = max(most, len(under_way))

    page.on("request", began)
    page.on("requestfinished", lambda r: under_way.discard(r))
    page.on("requestfailed", lambda r: under_way.discard(r))
    head = head_of(page)
    page.locator("[data-step=photo]").focus()
    page.keyboard.press("Space")  # every map goes blank, then all come back
    head = settled(page, head)
    page.keyboard.press("Space")
    settled(page, head)
    wait(page, "[...document.querySelectorAll('.strip img')].filter(i => i.naturalWidth).length >= 6")
    assert 0 < most <= 3, "a browser keeps six lines to one host; pictures must not take them all"


def test_knots_show_their_picture_and_rows_obey_the_keyboard(bench: Page) -> None:
    page = bench
    page.hover("[data-step=seamless] [data-thread=base]")
    expect(page.locator("#knot-view img")).to_be_visible()
    expect(page.locator("#knot-view")).to_contain_text("Base colour at Seamless")
    page.mouse.move(640, 400)
    expect(page.locator("#knot-view")).to_be_hidden()
    head = head_of(page)
    page.locator("[data-step=normal]").click(position={"x": 60, "y": 14})
    page.keyboard.press("ArrowDown")
    expect(page.locator(".course.chosen")).to_have_attribute("data-step", "roughness")
    page.keyboard.press("Space")
    head = settled(page, head)
    expect(page.locator("[data-step=roughness]")).to_have_class("course off chosen")
    expect(page.locator(".strip [data-thread=roughness]")).to_be_disabled()
    page.keyboard.press("Control+z")
    head = settled(page, head)
    page.locator("[data-step=roughness]").focus()
    page.keyboard.press("Alt+ArrowUp")
    head = settled(page, head)
    steps = page.locator(".course").evaluate_all("rows => rows.map(r => r.dataset.step)")
    assert steps.index("roughness") == steps.index("normal") - 1
    page.click("#undo")
    head = settled(page, head)
    page.click("#redo")
    head = settled(page, head)
    page.locator("[data-step=roughness]").focus()
    page.keyboard.press("Delete")
    settled(page, head)
    expect(page.locator("[data-step=roughness]")).to_have_count(0)


def test_rows_are_dragged_and_a_fault_is_said_where_it_is(bench: Page) -> None:
    page = bench
    head = head_of(page)
    row, target = box_of(page.locator("[data-step=normal]")), box_of(page.locator("[data-step=photo]"))
    page.mouse.move(row["x"] + 60, row["y"] + 15)
    page.mouse.down()
    page.mouse.move(target["x"] + 60, target["y"] + 2, steps=6)
    page.mouse.up()
    head = settled(page, head)
    expect(page.locator("[data-step=normal] .fault")).to_have_count(1)
    expect(page.locator("#controls [role=alert]")).to_contain_text("needs height")
    page.keyboard.press("Control+z")
    settled(page, head)
    expect(page.locator("[data-step=normal] .fault")).to_have_count(0)


def test_holding_shows_the_state_before(bench: Page) -> None:
    page = bench
    pane = page.locator(".pane").first
    pane.locator("[data-view=flat]").click()
    wait(page, "document.querySelector('.pane').dataset.painted?.startsWith('flat')")
    plain, head = picture(page)[60:640], head_of(page)
    page.click("[data-step=tone]")
    page.fill("#set-brightness", "1.5")
    page.press("#set-brightness", "Enter")
    settled(page, head)
    bright = picture(page)[60:640]
    assert bright.mean() > plain.mean() + 10
    turn = page.evaluate("document.querySelector('.pane').dataset.turn")
    page.locator("#table").focus()
    page.keyboard.down("b")
    wait(page, "t => +document.querySelector('.pane').dataset.turn > +t", arg=turn)
    wait(page, "!document.querySelector('.pane').classList.contains('computing')")
    expect(page.locator(".before").first).to_be_visible()
    assert abs(picture(page)[80:640].mean() - plain[20:].mean()) < 1.5
    page.keyboard.up("b")
    wait(page, "!document.querySelector('.before') && !document.querySelector('.pane').classList.contains('computing')")
    wait(page, "!document.querySelector('.pane').classList.contains('computing')")
    assert picture(page)[60:640].mean() > plain.mean() + 10


def test_curves_are_drawn_and_dragged(bench: Page) -> None:
    page = bench
    head = head_of(page)
    page.click("[data-step=roughness]")
    curve = page.locator("svg[aria-label^='Curve']")
    place = box_of(curve)
    page.mouse.dblclick(place["x"] + place["width"] / 2, place["y"] + 20)
    head = settled(page, head)
    expect(curve.locator(".handle")).to_have_count(3)
    curve.locator(".handle").nth(1).focus()
    page.keyboard.press("ArrowUp")
    page.keyboard.press("ArrowUp")
    settled(page, head)
    page.click("#history")
    expect(page.locator("#history-list li").first).to_contain_text("Roughness: curve")


def test_two_windows_on_one_material(bench: Page, context: BrowserContext) -> None:
    page = bench
    other = context.new_page()
    other.goto(page.url)
    ready(other)
    for window, value in ((page, "3"), (other, "7")):
        window.click("[data-step=height]")
        window.fill("#set-depth_mm", value)
        window.press("#set-depth_mm", "Enter")
        if window is page:
            wait(page, "document.querySelector('#saved').textContent.startsWith('Saved ')")
    expect(other.locator("#clash-sheet")).to_be_visible()
    other.click("#clash-mine")
    wait(other, "document.querySelector('#set-depth_mm').value === '7'")
    page.reload()
    ready(page)
    page.click("[data-step=height]")
    expect(page.locator("#set-depth_mm")).to_have_value("7")
    page.click("#history")
    expect(page.locator("#history-list li")).to_have_count(3)
    other.close()


def test_a_value_out_of_range_is_refused_at_its_place(bench: Page) -> None:
    page = bench
    head = head_of(page)
    page.click("[data-step=height]")
    page.fill("#set-depth_mm", "-5")
    page.press("#set-depth_mm", "Tab")
    expect(page.locator("#set-depth_mm")).to_have_value("10")
    expect(page.locator(".control[data-field=depth_mm] .wrong")).to_contain_text("outside: from 0.001 to")
    page.fill("#set-depth_mm", "deep")
    page.press("#set-depth_mm", "Tab")
    expect(page.locator("#set-depth_mm")).to_have_value("10")
    assert head_of(page) == head


def test_a_file_that_is_no_photo_says_so_in_the_library(context: BrowserContext, address: str) -> None:
    page = context.new_page()
    page.goto(address)
    page.wait_for_selector(".drop")
    page.evaluate(DROP, [base64.b64encode(b"only words").decode(), "letter.jpg"])
    expect(page.locator(".say[role=alert]")).to_contain_text("letter.jpg: this is not a JPEG file")
    page.close()


def test_library_cards_open_rename_duplicate_and_bin(page: Page, address: str) -> None:
    page.goto(address)
    card = page.locator(".card-cloth", has_text="Keeper's roof slate").first
    expect(card).to_be_visible(timeout=90_000)
    # The photo stands in until the picture is there
    expect(card.locator("img")).to_have_count(2)
    for image in card.locator("img").all():
        expect(image).to_have_js_property("complete", True, timeout=45_000)
        assert image.evaluate("i => i.naturalWidth") > 100
    card.get_by_role("button", name="Duplicate").click()
    copy = page.locator(".card-cloth", has_text="Keeper's roof slate copy").first
    expect(copy).to_be_visible()
    copy.get_by_role("button", name="Rename").click()
    field = page.get_by_label("New name of Keeper's roof slate copy")
    field.fill("Forward roof")
    field.press("Enter")
    renamed = page.locator(".card-cloth", has_text="Forward roof")
    expect(renamed).to_be_visible()
    renamed.get_by_role("button", name="To the bin").click()
    expect(renamed).to_have_count(0)
    page.get_by_role("button", name="Bin (1)").click()
    page.locator(".card-cloth", has_text="Forward roof").get_by_role("button", name="Put back").click()
    page.get_by_role("button", name="Back to the library").click()
    expect(page.locator(".card-cloth", has_text="Forward roof")).to_be_visible()


@pytest.mark.parametrize("theme", [pytest.param("light", marks=pytest.mark.form), "dark"])
def test_pages_pass_axe(page: Page, address: str, theme: str) -> None:
    axe = (Path(__file__).parent.parent.parent / "tools/vendor/node_modules/axe-core/axe.min.js").read_text()
    page.emulate_media(color_scheme=theme)  # type: ignore[arg-type]
    page.goto(address)
    page.wait_for_selector(".card-cloth", timeout=90_000)

    def faults() -> list[str]:
        # Through the debugger, as the page's own policy lets no script in from outside
        found = page.evaluate(
            axe
            + "; axe.run({ runOnly: ['wcag2a', 'wcag2aa', 'wcag21aa', 'wcag22aa'] }).then(r => r.violations.map(v => v.id + ': ' + v.nodes.map(n => n.target).join(', ')))"
        )
        return list(found)

    assert faults() == []
    page.locator(".card-cloth a").first.click()
    ready(page)
    assert faults() == []
    page.click("#deliver")
    page.wait_for_selector("#deliver-sheet .choice")
    assert faults() == []
    page.keyboard.press("Escape")
    page.click("#report")
    page.wait_for_selector("#report-list [data-code]")
    assert faults() == []
    page.keyboard.press("Escape")
    page.click("#origin")
    assert faults() == []
    page.keyboard.press("Escape")
    page.click("#add-step")
    page.wait_for_selector(".palette-item")
    assert faults() == []


def test_steps_are_found_by_plain_words_and_go_in_below_the_chosen_one(bench: Page) -> None:
    page = bench
    head = head_of(page)
    page.click("[data-step=seamless]")
    page.keyboard.press("a")
    page.get_by_label("Find a step").fill("stain")
    expect(page.locator(".palette-item").first).to_contain_text("Clean")
    wait(page, "document.querySelector('.palette-item img')?.naturalWidth > 70")
    page.keyboard.press("Enter")
    settled(page, head)
    steps = page.locator(".course").evaluate_all("rows => rows.map(r => r.dataset.step)")
    assert steps[steps.index("seamless") + 1] == "clean"
    page.click("#add-step")
    expect(page.locator(".palette-family").first).to_have_text("Used last")
    expect(page.locator(".palette-item").first).to_contain_text("Clean")
    page.keyboard.press("Escape")
    expect(page.locator(".palette")).to_have_count(0)
    expect(page.locator("#add-step")).to_be_focused()


def test_lengths_are_typed_and_shown_in_any_unit(bench: Page) -> None:
    page = bench
    head = head_of(page)
    page.click("[data-step=straighten]")
    page.fill("#set-width_mm", "8 in")
    page.press("#set-width_mm", "Enter")
    head = settled(page, head)
    expect(page.locator("#set-width_mm")).to_have_value("203.2")
    page.select_option("#lengths", "in")
    expect(page.locator("#set-width_mm")).to_have_value("8")
    expect(page.locator("#facts")).to_contain_text(" in a repeat")
    page.fill("#set-width_mm", "1 ft")
    page.press("#set-width_mm", "Enter")
    settled(page, head)
    expect(page.locator("#set-width_mm")).to_have_value("12")
    page.fill("#set-width_mm", "wide")
    page.press("#set-width_mm", "Tab")
    expect(page.locator(".control[data-field=width_mm] .wrong")).to_contain_text("is no number here")
    page.select_option("#lengths", "auto")


def test_undo_in_a_field_is_undo_of_the_material(bench: Page) -> None:
    page = bench
    head = head_of(page)
    page.click("[data-step=height]")
    page.fill("#set-depth_mm", "4")
    page.press("#set-depth_mm", "Enter")
    head = settled(page, head)
    page.focus("#set-depth_mm")
    page.keyboard.press("Control+z")
    settled(page, head)
    expect(page.locator("#set-depth_mm")).to_have_value("10")


def test_what_is_dragged_while_an_answer_comes_is_kept(bench: Page) -> None:
    """An answer to an earlier change arrives while a handle is held: the handle is not put back."""
    page = bench
    head = head_of(page)
    page.click("[data-step=height]")
    slide = page.locator(".control[data-field=depth_mm] .slide")
    slide.scroll_into_view_if_needed()
    box = box_of(slide)
    page.evaluate("() => document.querySelector('#undo').disabled")
    page.locator("[data-step=tone] .switch").click()
    page.mouse.move(box["x"] + box["width"] * 0.5, box["y"] + 12)
    page.mouse.down()
    page.mouse.move(box["x"] + box["width"] * 0.25, box["y"] + 12, steps=3)
    held = page.input_value("#set-depth_mm")
    wait(page, "h => document.body.dataset.head !== h", arg=head)
    assert page.input_value("#set-depth_mm") == held
    expect(page.locator("#saved")).not_to_have_text("Not saved")
    page.mouse.up()
    settled(page, head_of(page))
    assert page.input_value("#set-depth_mm") == held


def test_pictures_are_large_and_repeats_fill_their_panes(bench: Page) -> None:
    page = bench
    page.locator(".pane").nth(0).locator("[data-view=half]").click()
    page.locator(".pane").nth(1).locator("[data-view=repeat]").click()
    ready(page)
    for pane in (0, 1):
        shot = picture(page, pane)
        covered = (np.abs(shot - 0x77).max(2) > 3).mean()
        assert covered > 0.85, f"pane {pane}: {covered:.2f}"
    wait(page, "[...document.querySelectorAll('.strip img')].filter(i => i.naturalWidth).length >= 6")
    tall = page.locator(".strip img").evaluate_all("l => l.map(i => i.clientHeight)")
    assert min(tall) >= 72
    border = box_of(page.locator("[data-border=strip]"))
    page.mouse.move(border["x"] + 300, border["y"])
    page.mouse.down()
    page.mouse.move(border["x"] + 300, border["y"] - 90, steps=4)
    page.mouse.up()
    assert min(page.locator(".strip img").evaluate_all("l => l.map(i => i.clientHeight)")) > min(tall) + 80


def test_everything_can_be_reached_in_a_small_window_with_a_long_name(bench: Page) -> None:
    page = bench
    page.click("#name")
    field = page.get_by_label("Name of the material")
    field.fill("A very long name of a material that goes on and on and would push everything out of the window " * 2)
    field.press("Enter")
    wait(page, "document.querySelector('#saved').textContent.startsWith('Saved ')")
    assert page.locator("#name").get_attribute("title", timeout=1000).startswith("A very long name")  # type: ignore[union-attr]
    for size in ((1280, 800), (853, 533)):
        page.set_viewport_size({"width": size[0], "height": size[1]})
        for button in ("#undo", "#history", "#deliver", "#keys"):
            box = box_of(page.locator(button))
            inside = box["x"] >= 0, box["y"] >= 0, box["x"] + box["width"] <= size[0], box["y"] + box["height"] <= size[1]
            assert all(inside), (button, size, box)
        panes = page.locator(".pane").evaluate_all("l => l.map(p => [p.clientWidth, p.clientHeight])")
        assert all(min(p) >= 200 for p in panes), panes


def test_a_known_length_says_how_large_the_photo_is(page: Page, address: str, photo_file: Path) -> None:
    page.goto(address)
    page.wait_for_selector(".drop")
    page.evaluate(DROP, [base64.b64encode(photo_file.read_bytes()).decode(), photo_file.name])
    page.wait_for_url("**/bench/*")
    ready(page)
    expect(page.locator(".course.chosen")).to_have_attribute("data-step", "photo")
    expect(page.locator("#report-sheet")).to_be_visible()
    head = head_of(page)
    page.click("#known-length")
    wait(page, "document.querySelector('.pane').dataset.painted?.startsWith('length')")
    page.get_by_label("How long that is").fill("6 cm")
    page.click("#take-length")
    settled(page, head)
    assert float(page.input_value("#set-width_mm")) == pytest.approx(150, rel=0.01)  # both ends lie 0.4 of its width apart


def test_sheets_lie_beside_a_live_picture(bench: Page) -> None:
    page = bench
    page.click("#history")
    expect(page.locator("#history-sheet")).to_be_visible()
    pane, sheet = box_of(page.locator(".pane").nth(1)), box_of(page.locator("#history-sheet"))
    assert pane["x"] + pane["width"] <= sheet["x"] + 1
    head = head_of(page)
    page.click("[data-step=tone]")
    page.fill("#set-brightness", "0.4")
    page.press("#set-brightness", "Enter")
    settled(page, head)
    expect(page.locator("#history-list li")).to_have_count(2)
    expect(page.locator("#history-list img").first).to_be_visible()
    page.keyboard.press("Escape")
    expect(page.locator("#history-sheet")).to_be_hidden()
