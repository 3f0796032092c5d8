"""The real application in a process of its own, and headless Chromium before it."""

from __future__ import annotations

import re
import signal
import subprocess
import sys
import time
from collections.abc import Generator, Iterator
from pathlib import Path
from typing import Any

import pytest
from playwright.sync_api import Browser, BrowserContext, Page, expect, sync_playwright

expect.set_options(timeout=30_000)  # other tests use the cores at the same time; a state that comes is waited for

FLAGS = [
    "--no-sandbox",
    "--use-angle=swiftshader",
    "--enable-unsafe-swiftshader",
    "--disable-gpu-rasterization",  # Debian asks for it; without a graphics card SwiftShader would play each page's drawing
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
    "--no-first-run",
    "--disable-quic",
]


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    for item in items:
        if "browser" in str(item.path):
            item.add_marker(pytest.mark.browser)


SERVED: list[tuple[subprocess.Popen[str], Path]] = []
"""Applications under test, and the files of what they complain of."""


@pytest.hookimpl(wrapper=True)
def pytest_runtest_makereport(item: pytest.Item, call: pytest.CallInfo[None]) -> Generator[None, Any, Any]:
    """A test that failed says where every thread of the application was at that moment."""
    report = yield
    if report.failed and "browser" in str(item.path):
        for process, complaints in SERVED:
            if process.poll() is None:
                process.send_signal(signal.SIGUSR1)
                time.sleep(1)
            report.sections.append(("the application's threads", complaints.read_text()[-20_000:]))
    return report


@pytest.fixture(scope="session")
def address(tmp_path_factory: pytest.TempPathFactory) -> Iterator[str]:
    folder = tmp_path_factory.mktemp("served")
    complaints = tmp_path_factory.mktemp("complaints") / "stderr.txt"
    with complaints.open("w") as said:
        process = subprocess.Popen(
            [sys.executable, "-m", "silent_loom", "serve", "--data", str(folder), "--port", "0", "--demo"],
            stdout=subprocess.PIPE,
            stderr=said,
            text=True,
        )
    SERVED.append((process, complaints))
    try:
        assert process.stdout is not None
        line = process.stdout.readline()
        found = re.search(r"http://127\.0\.0\.1:\d+", line)
        assert found, line
        yield found.group(0)
    finally:
        process.terminate()
        process.wait(20)


@pytest.fixture(scope="session")
def chromium() -> Iterator[Browser]:
    with sync_playwright() as p:
        browser = p.chromium.launch(executable_path="/usr/bin/chromium", args=FLAGS)
        yield browser
        browser.close()


@pytest.fixture
def context(chromium: Browser, request: pytest.FixtureRequest) -> Iterator[BrowserContext]:
    context = chromium.new_context(
        viewport={"width": 1280, "height": 800},
        # A form is shaded texel by texel on the cores: a screen with half the pixels each way takes a quarter of the time
        device_scale_factor=0.5 if request.node.get_closest_marker("form") else 1,
        accept_downloads=True,
        # What moves while something is computed is drawn by the cores, too: without a graphics card it takes a third of one
        reduced_motion="reduce",
    )
    context.set_default_timeout(45_000)
    yield context
    context.close()


@pytest.fixture
def page(context: BrowserContext, address: str, request: pytest.FixtureRequest) -> Iterator[Page]:
    page = context.new_page()
    if not request.node.get_closest_marker("form"):
        # Without a graphics card the form takes the cores from what the other tests are about
        page.add_init_script(
            "localStorage.setItem('loom-panes', JSON.stringify(['flat', 'repeat'].map(view => ({ view, thread: 'base' }))))"
        )
    faults: list[str] = []
    page.on("pageerror", lambda e: faults.append(str(e)))
    page.on("console", lambda m: faults.append(f"{m.text} {m.location}") if m.type == "error" and "409" not in m.text else None)
    outside: list[str] = []
    page.on("request", lambda r: outside.append(r.url) if not r.url.startswith((address, "data:", "blob:")) else None)
    yield page
    assert faults == []
    assert outside == [], "everything a page needs ships with the application"


@pytest.fixture(scope="session")
def photo_file() -> Path:
    from silent_loom.demo.seed import PICTURES

    return PICTURES / "sailcloth.jpg"
