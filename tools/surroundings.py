"""Surroundings of the form blurred for every roughness, as a page without a graphics card takes seconds to make them: run with
`python tools/surroundings.py` after `static/js/bench/table/form/lights.js` has changed.

One file a light: level by level of roughness, six faces of a cube each, three half floats a texel, linear light.
"""

from __future__ import annotations

import base64
import json
from pathlib import Path

import numpy as np
from playwright.sync_api import Browser, Route, sync_playwright

STATIC = Path(__file__).parents[1] / "silent_loom/web/static"
OUT = STATIC / "lights"
FLAGS = ["--no-sandbox", "--use-angle=swiftshader", "--enable-unsafe-swiftshader"]
SIDE, ROUGHEST = 64, 8
"""Texels of a face at its sharpest, and at its roughest."""
MADE = """async () => {
  const THREE = await import('/static/vendor/three/three.module.js');
  const { LIGHTS, painted } = await import('/static/js/bench/table/form/lights.js');
  const renderer = new THREE.WebGLRenderer(), gl = renderer.getContext(), out = {};
  const frame = gl.createFramebuffer();
  for (const [name, light] of Object.entries(LIGHTS)) {
    if (!light.share) continue;
    const { texture } = painted(renderer, light.around, 128);
    const made = renderer.properties.get(texture).__webglTexture;
    gl.bindFramebuffer(gl.READ_FRAMEBUFFER, frame);
    let text = '';
    texture.mipmaps.forEach(({ width }, level) => {
      for (let face = 0; face < 6; face++) {
        const where = gl.TEXTURE_CUBE_MAP_POSITIVE_X + face, codes = new Uint16Array(4 * width * width);
        gl.framebufferTexture2D(gl.READ_FRAMEBUFFER, gl.COLOR_ATTACHMENT0, where, made, level);
        gl.readPixels(0, 0, width, width, gl.RGBA, gl.HALF_FLOAT, codes);
        const bytes = new Uint8Array(codes.buffer);
        for (let i = 0; i < bytes.length; i += 8192) text += String.fromCharCode(...bytes.subarray(i, i + 8192));
      }
    });
    gl.bindFramebuffer(gl.READ_FRAMEBUFFER, null);
    renderer.resetState();
    out[name] = btoa(text);
  }
  return JSON.stringify(out);
}"""


def blurred(browser: Browser) -> dict[str, np.ndarray]:
    """Every light that has surroundings: red, green and blue of all texels as half floats, shape (N, 3)."""

    def file(route: Route) -> None:
        path = route.request.url.partition("/static/")[2]
        if path.endswith("three.module.js"):  # it makes nothing smaller than this by itself
            smaller = (STATIC / path).read_text("utf-8").replace("const MIN_SIZE = 256;", f"const MIN_SIZE = {SIDE};")
            route.fulfill(body=smaller, content_type="text/javascript")
        elif path:
            route.fulfill(path=STATIC / path)
        else:
            route.fulfill(body="<!doctype html>", content_type="text/html")

    page = browser.new_page()
    page.route("**/*", file)
    page.goto("http://127.0.0.1:9/")
    made = json.loads(page.evaluate(MADE))
    page.close()
    out = {name: np.frombuffer(base64.b64decode(v), np.float16).reshape(-1, 4)[:, :3] for name, v in made.items()}
    sides = [SIDE >> k for k in range(8) if SIDE >> k >= ROUGHEST]
    assert all(len(v) == 6 * sum(n * n for n in sides) for v in out.values()), "three.js has laid them out in another way"
    return out


def main() -> None:
    OUT.mkdir(exist_ok=True)
    with sync_playwright() as p:
        browser = p.chromium.launch(executable_path="/usr/bin/chromium", args=FLAGS)
        made = blurred(browser)
        browser.close()
    for name, light in made.items():
        (OUT / f"{name}.half").write_bytes(np.ascontiguousarray(light).tobytes())
        print(f"{name}: {len(light)} texels, {float(light.mean()):.3f} on the average")


if __name__ == "__main__":
    main()
