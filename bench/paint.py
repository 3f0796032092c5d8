"""Milliseconds from an input event of a slider to the painted picture, in headless Chromium before the demo's slate.

Start `make demo`, then `python -m bench.paint http://127.0.0.1:8321`.
"""

from __future__ import annotations

import sys

import numpy as np
from playwright.sync_api import sync_playwright

from bench.asking import demo

FLAGS = ["--no-sandbox", "--use-angle=swiftshader", "--enable-unsafe-swiftshader", "--disable-background-networking"]
FLAGS += ["--disable-component-update", "--disable-sync", "--no-first-run", "--disable-quic"]
NUDGE = """async ([field, i, until]) => {
  const slide = document.querySelector(`.control[data-field=${field}] .slide`), pane = document.querySelector('.pane');
  const painted = new Promise(done => {
    const seen = new MutationObserver(() => {
      if (!pane.dataset.painted.endsWith(until)) return;
      seen.disconnect();
      requestAnimationFrame(() => done(performance.now()));
    });
    seen.observe(pane, { attributes: true, attributeFilter: ['data-turn'] });
  });
  const start = performance.now();
  slide.value = 420 + i * 7;
  slide.dispatchEvent(new Event('input', { bubbles: true }));
  return await painted - start;
}"""


def main(address: str) -> None:
    ident = demo(address, "slate")
    with sync_playwright() as p:
        browser = p.chromium.launch(executable_path="/usr/bin/chromium", args=FLAGS)
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        page.goto(f"{address}/bench/{ident}")
        page.wait_for_selector("body[data-ready]")
        page.click("[data-panes='1']")
        for view in ("flat", "form"):
            page.locator(f"[data-view={view}]").first.click()
            for step, field, thread in (
                ("tone", "brightness", "base"),
                ("normal", "strength", "normal"),
                ("roughness", "low", "roughness"),
                ("light", "amount", "base"),
            ):
                page.click(f"[data-step={step}]", position={"x": 60, "y": 14})
                if view == "flat":
                    page.locator("select[aria-label=Map]").first.select_option(thread)
                page.wait_for_timeout(2500)
                took = []
                for i in range(14):
                    took.append(page.evaluate(NUDGE, [field, i, ""]))
                    page.wait_for_timeout(120)
                print(
                    f"{view:5s} {step:10s} median {np.median(took[2:]):4.0f} ms   95th percentile {np.percentile(took[2:], 95):4.0f} ms"
                )
                page.wait_for_timeout(1500)
                page.click("#undo")
        # The form is open and the last step nudged lies above `seamless`
        took = []
        for i in range(12):
            took.append(page.evaluate(NUDGE, ["amount", i, ":512"]))
            page.wait_for_timeout(700)
        print(f"form  light      all maps at 512: median {np.median(took):4.0f} ms   largest {max(took):4.0f} ms")
        browser.close()


if __name__ == "__main__":
    main(sys.argv[1] if len(sys.argv) > 1 else "http://127.0.0.1:8321")
