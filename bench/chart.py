"""Milliseconds a frame while the chart of a weave of 200 rows is scrolled, before a demo material.

Start `make demo`, then `python -m bench.chart http://127.0.0.1:8321`. Twice: as a browser without a graphics card puts a page
together by itself, and with a card that the processor plays, as the tests have it. A copy of the slate gets 190 rows of tone.
"""

from __future__ import annotations

import sys

from playwright.sync_api import sync_playwright

from bench.asking import asked, copied
from tools.screenshots import FLAGS, settle

ROWS = 190
SCROLLED = """async () => {
  const list = document.querySelector(".weave"), start = performance.now();
  let n = 0;
  while (performance.now() - start < 4000) {
    list.scrollTop = (n++ * 37) % (list.scrollHeight - list.clientHeight);
    await new Promise(requestAnimationFrame);
  }
  return (performance.now() - start) / n;
}"""


def main(address: str) -> None:
    copy = copied(address, "slate")
    at, head = f"{address}/api/materials/{copy['id']}", copy["head"]
    for i in range(ROWS):
        settings = {"brightness": 0.001 * (i % 7)}
        head = asked(f"{at}/change", {"base": head, "kind": "add", "step": "tone", "settings": settings, "to": 5 + i})["head"]
    with sync_playwright() as p:
        for name, more in (("by itself", ["--disable-gpu-compositing"]), ("a card that the processor plays", [])):
            browser = p.chromium.launch(executable_path="/usr/bin/chromium", args=[*FLAGS, *more])
            page = browser.new_context(viewport={"width": 1280, "height": 800}).new_page()
            page.goto(f"{address}/bench/{copy['id']}")
            page.wait_for_selector("body[data-ready]")
            settle(page)
            page.wait_for_timeout(20_000)  # whatever is still computed would take the processor from the browser
            print(f"a frame of the scrolled chart, {name}: {page.evaluate(SCROLLED):.1f} ms (aim 16)")
            browser.close()


if __name__ == "__main__":
    main(sys.argv[1] if len(sys.argv) > 1 else "http://127.0.0.1:8321")
