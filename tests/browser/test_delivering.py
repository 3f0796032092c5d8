"""The board of profiles, bakes that are stopped and taken up again, deliveries and their proof, on the real interface."""

from __future__ import annotations

import json
import re
import signal
import subprocess
import sys
import zipfile
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
import pytest
from playwright.sync_api import BrowserContext, Page, expect

from silent_loom.core.files import write
from silent_loom.core.weave.rows.model import StepEntry, Weave
from silent_loom.store.store import Store
from tests.browser.conftest import SERVED
from tests.browser.test_bench import ready, wait

STEPS = ("height", "normal", "roughness", "metallic", "occlusion")


@dataclass
class Served:
    """An application of its own, that may be killed and started again at the same address."""

    folder: Path
    ident: str
    port: int = 0
    process: subprocess.Popen[str] | None = field(default=None, repr=False)

    @property
    def address(self) -> str:
        return f"http://127.0.0.1:{self.port}"

    def start(self) -> None:
        call = [sys.executable, "-m", "silent_loom", "serve", "--data", str(self.folder), "--port", str(self.port)]
        complaints = self.folder.parent / f"stderr-{len(SERVED)}.txt"
        with complaints.open("w") as said:
            self.process = subprocess.Popen(call, stdout=subprocess.PIPE, stderr=said, text=True)
        SERVED.append((self.process, complaints))
        assert self.process.stdout is not None
        for line in self.process.stdout:
            if (found := re.search(r"http://127\.0\.0\.1:(\d+)", line)) is not None:
                self.port = int(found.group(1))
                return

    def end(self, how: int = signal.SIGTERM) -> None:
        assert self.process is not None
        self.process.send_signal(how)
        self.process.wait(20)


@pytest.fixture(scope="module")
def served(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Served]:
    folder = tmp_path_factory.mktemp("served")
    store = Store(folder)
    rng = np.random.default_rng(6)
    y, x = np.mgrid[0:256, 0:256] / 256 * 2 * np.pi
    light = 0.35 + 0.15 * np.sin(6 * x) * np.sin(5 * y) + 0.04 * rng.random((256, 256))
    write(folder / "quay.png", np.stack([light, light * 0.9, light * 0.7], 2).astype(np.float32), colour=True)
    with (folder / "quay.png").open("rb") as stream:
        digest, _ = store.add_source(stream, "quay.png")
    first = StepEntry(step="mapset", settings={"maps": [{"thread": "base", "source": digest}], "width_mm": 300.0})
    weave = Weave(steps=(first, *(StepEntry(step=s) for s in STEPS)), sources={digest: store.source_ref(digest)})
    ident = store.create("Quay stone", weave).id
    store.close()
    server = Served(folder, ident)
    server.start()
    yield server
    server.end()


@pytest.fixture
def bench(context: BrowserContext, served: Served) -> Page:
    page = context.new_page()
    page.add_init_script(
        "localStorage.setItem('loom-panes', JSON.stringify([{ view: 'flat', thread: 'base' }, { view: 'repeat', thread: 'normal' }]))"
    )
    page.goto(f"{served.address}/bench/{served.ident}")
    ready(page)
    page.click("#deliver")
    page.wait_for_selector("#forecast[data-told]")
    return page


def finished(page: Page, state: str = "done") -> None:
    expect(page.locator("#deliver-job")).to_have_attribute("data-state", state, timeout=120_000)
    expect(page.locator("#deliver-go")).to_be_enabled()


def test_a_profile_is_drawn_tried_kept_and_used(bench: Page, served: Served) -> None:
    page = bench
    page.click("[data-profile=plain]")
    page.click("#board-open")
    page.wait_for_selector(".tried[data-told]")
    expect(page.locator(".cloth .threads path")).to_have_count(15)
    # The file of metallic gets four channels, and a map dragged into each of them
    file = page.locator("[data-file=metallic]")
    file.get_by_label("Channels").select_option("4")
    file.get_by_label("Suffix of the file").fill("Masks")
    file.get_by_label("Suffix of the file").press("Enter")
    masks = page.locator("[data-file=Masks]")
    for place, (name, slot) in enumerate((("metallic", 0), ("occlusion", 1), ("height", 2), ("roughness", 3))):
        target = masks.locator(".slot").nth(slot)
        target.scroll_into_view_if_needed()
        peg = page.locator(f".peg[data-map={name}]").first
        a, b = peg.bounding_box(), target.bounding_box()
        assert a is not None
        assert b is not None
        page.mouse.move(a["x"] + a["width"] / 2, a["y"] + a["height"] / 2)
        page.mouse.down()
        page.mouse.move(b["x"] + 40, b["y"] + b["height"] / 2, steps=6)
        page.mouse.up()
        expect(masks.locator(".slot").nth(slot)).to_contain_text(name)
        assert place == slot
    # The last one becomes smoothness
    masks.locator(".slot").nth(3).click()
    page.locator("#channel").get_by_label("inverted").check()
    expect(masks.locator(".slot").nth(3)).to_contain_text("1 − roughness")
    expect(page.locator("[data-packed=Masks] img")).to_have_count(2)
    page.fill("#board-name", "quay")
    page.press("#board-name", "Enter")
    page.fill("#board-title-field", "The quay")
    page.press("#board-title-field", "Enter")
    page.click("#board-save")
    expect(page.locator("[data-profile=quay]")).to_have_attribute("aria-checked", "true")
    page.select_option("#deliver-size", "256")
    page.click("#deliver-go")
    finished(page)
    link = page.locator("#made a").first
    expect(link).to_contain_text("quay_stone_quay_256")
    with zipfile.ZipFile(served.folder / "deliveries" / link.inner_text()) as z:
        manifest = json.loads(z.read("quay_stone/manifest.json"))
    packed = next(f for f in manifest["files"] if f["file"].endswith("Masks.png"))
    assert packed["channels"] == ["metallic", "occlusion", "height", "1-roughness"]
    page.locator("#made button", has_text="Prove").first.click()
    expect(page.locator("#verdict")).to_contain_text("is what was meant", timeout=60_000)


def test_what_is_lost_is_shown_beside_the_live_surface(bench: Page) -> None:
    page = bench
    page.click("[data-profile=master]")
    page.select_option("#deliver-size", "256")
    page.evaluate("document.querySelector('#forecast').dataset.told = ''")
    page.wait_for_selector("#forecast[data-told]:not([data-told=''])")
    page.click("#losses-ask")
    expect(page.locator("#losses")).to_contain_text("Nothing is lost at this size")
    expect(page.locator("#forecast tr[data-map=metallic]")).to_contain_text("the same everywhere")
    expect(page.locator("#forecast .facts")).to_contain_text("256 × 256")


def test_a_bake_is_stopped_and_one_that_was_killed_goes_on(bench: Page, served: Served) -> None:
    page = bench
    page.click("[data-profile=master]")
    page.select_option("#deliver-size", "4096")
    page.click("#deliver-go")
    wait(page, "document.querySelectorAll('#job-log li').length > 0")
    page.click("#job-stop")
    finished(page, "stopped")
    folder = served.folder / "deliveries"
    assert not [p.name for p in folder.glob("*master_4096*")]
    assert not list(folder.glob(".part-*"))
    page.select_option("#deliver-size", "2048")
    with page.expect_response(lambda r: r.url.endswith("/deliver") and r.request.method == "POST") as begun:
        page.click("#deliver-go")
    assert begun.value.ok
    # The log of the first job stays until the second is there, so the state is waited for, too
    wait(
        page,
        "document.querySelector('#deliver-job').dataset.state === 'running' && document.querySelectorAll('#job-log li').length > 1",
    )
    served.end(signal.SIGKILL)
    assert not [p.name for p in folder.glob("*master_2048*")], "no half file under a name"
    served.start()
    page.goto(f"{served.address}/bench/{served.ident}")
    ready(page)
    page.click("#deliver")
    # The sheet goes on with the job that is under way
    expect(page.locator("#made a").first).to_contain_text("master_2048", timeout=120_000)
    jobs = page.evaluate("fetch('/api/jobs').then(r => r.json())")["jobs"]
    assert any("taken up again" in line for line in jobs[0]["log"])


def test_a_wrong_green_is_found_and_seen(bench: Page, served: Served) -> None:
    page = bench
    page.click("[data-profile=gltf]")
    page.select_option("#deliver-size", "256")
    page.click("#deliver-go")
    finished(page)
    expect(page.locator("#made a").first).to_contain_text("quay_stone_gltf_256")
    path = served.folder / "deliveries" / page.locator("#made a").first.inner_text()
    with zipfile.ZipFile(path) as z:
        inside = {n: z.read(n) for n in z.namelist()}
    manifest = next(n for n in inside if n.endswith("manifest.json"))
    inside[manifest] = inside[manifest].replace(b'"green": "up"', b'"green": "down"')
    with zipfile.ZipFile(path, "w") as z:
        for name, body in inside.items():
            z.writestr(name, body)
    page.locator("#made button", has_text="Prove").first.click()
    expect(page.locator("#verdict")).to_contain_text("normal is responsible", timeout=60_000)
    expect(page.locator("#proof tr[data-map=normal]")).to_contain_text("its green points the other way")
    expect(page.locator("#proof tr[data-map=base]")).to_contain_text("the same")
    # Live and received on both sides of the wipe, and a mistake made on purpose
    page.click("#look-received")
    wait(page, "[...document.querySelectorAll('.pane')].every(p => (p.dataset.paired || '').startsWith('wipe:'))")
    with page.expect_response(lambda r: "/map" in r.url and '"mistake":"smoothness"' in (r.request.post_data or "")) as seen:
        page.click("[data-mistake=smoothness]")
    assert seen.value.ok
    page.locator("#made button", has_text="Throw away").first.click()
    wait(page, "!document.querySelector('#proof').children.length")
    assert not path.exists()
