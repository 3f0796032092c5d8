// How the picture of a form comes about: the rows of each side, at once or in strips, and whole at last.
import * as THREE from "/static/vendor/three/three.module.js";
import { el } from "../../../base/api.js";
import { Rough } from "./rough.js";
import { patched, uniforms } from "./surface.js";

export class Drawing {
  /** @type {any} three.js: what draws, what is drawn, what sees it */
  renderer = null;
  /** @type {any} */
  scene = null;
  /** @type {any} */
  camera = null;
  /** @type {any} The form, in grids of falling fineness */
  body = null;
  /** @type {any[]} None until the form is there */
  groups = null;
  /** @type {any} Somebody who stands beside the form */
  person = null;
  /** @type {any} Says for each pixel what it shows, where there is no graphics card */
  later = null;
  /** Without a graphics card */
  soft = false;
  /** @type {any[]} Surfaces that are held beside each other */
  sides = [];
  /** How they are held: way is one, beside, wipe, blink or difference; at is where the line of a wipe stands, 0…1 */
  arranged = { way: "one", at: 0.5 };
  /** Of a blink, whether the second is seen */
  blinked = false;
  /** Of a difference, whether the second is being drawn */
  second = false;
  /** @type {Promise<void> | null | undefined} Shaders in the making; null once they are there */
  compiling = undefined;
  /** @type {any} Passed once the last strip is drawn */
  fence = null;
  /** A first picture of this form has been drawn */
  begun = false;
  /** @type {number | undefined} Share of the pixels each way that keeps up with a hand */
  share = undefined;
  /** When a moving hand is taken to rest, in the page's milliseconds */
  until = 0;
  /** @type {Record<string, number>} Rows in a strip, by what is drawn */
  highs = {};
  /** @type {ReturnType<typeof setTimeout> | undefined} */
  strips = undefined;
  rough = new Rough();
  shared = uniforms();

  /** @param {any} pane */
  constructor(pane) {
    this.pane = pane;
    this.canvas = el("canvas", { tabindex: 0, role: "img", "aria-label": "The surface on a form" });
  }

  /** Set a side's own numbers; false while it has nothing to show.
   * @param {any} side
   * @returns {boolean}
   */
  ready(side) {
    return !!side.there;
  }
  /** Look at the form on a picture as wide as that
   * @param {number} aspect
   */
  aim(aspect) {
    this.camera.aspect = aspect;
  }

  columns(w, h) {
    const n = this.sides.length;
    return n > 2 && w < 2 * h ? 2 : n;
  }

  // Where each side is drawn on w × h pixels, from the top left: the box its camera looks through, and the part that
  // shows
  places(w, h) {
    const { way, at } = this.arranged,
      n = this.sides.length,
      all = [0, 0, w, h];
    if (way === "wipe")
      return [
        { side: this.sides[0], box: all, part: [0, 0, Math.round(at * w), h] },
        { side: this.sides[1], box: all, part: [Math.round(at * w), 0, w - Math.round(at * w), h] },
      ];
    if (way === "blink") return [{ side: this.sides[this.blinked ? 1 : 0], box: all, part: all }];
    if (way === "difference") return [{ side: this.sides[this.second ? 1 : 0], box: all, part: all }];
    if (n === 1) return [{ side: this.sides[0], box: all, part: all }];
    const columns = this.columns(w, h),
      rows = Math.ceil(n / columns);
    return this.sides.map((side, i) => {
      const x = Math.round(((i % columns) * w) / columns),
        y = Math.round((Math.floor(i / columns) * h) / rows),
        box = [x, y, Math.round(w / columns), Math.round(h / rows)];
      return { side, box, part: box };
    });
  }

  // Draw the rows from `top` on of a picture of w × h pixels, with the first, second or third of the grids; of a
  // deferred picture only the grid ("grid"), or what it has said under light ("light")
  rows(w, h, top, high, ratio, detail, part = "") {
    const { renderer, camera } = this,
      shown = Math.min(detail, this.groups.length - 1);
    this.groups.forEach((group, i) => {
      group.visible = i === shown;
    });
    renderer.setScissorTest(true);
    for (const {
      side,
      box: [x, y, bw, bh],
      part: [px, py, pw, ph],
    } of this.places(w, h)) {
      const y0 = Math.max(top, py),
        y1 = Math.min(top + high, py + ph);
      if (y1 <= y0 || pw <= 0) continue;
      this.aim(bw / bh);
      camera.setViewOffset(bw, bh, px - x, y0 - y, pw, y1 - y0); // what lies outside of these rows is not even moved
      const put = f => f.call(renderer, px / ratio, (h - y1) / ratio, pw / ratio, (y1 - y0) / ratio);
      put(renderer.setViewport);
      put(renderer.setScissor);
      if (part === "grid") this.said(side, [px, h - y1, pw, y1 - y0]);
      else {
        renderer.clear();
        if (this.ready(side)) this.lighted(side, part);
      }
    }
    camera.clearViewOffset();
    renderer.setScissorTest(false);
  }

  // The grid alone, into the buffers that say what each pixel shows
  said(side, [x, y, w, h]) {
    const { renderer, later } = this,
      colour = renderer.getClearColor(new THREE.Color()),
      alpha = renderer.getClearAlpha();
    later.target.viewport.set(x, y, w, h);
    later.target.scissor.set(x, y, w, h);
    later.target.scissorTest = true;
    renderer.setRenderTarget(later.target);
    renderer.setClearColor(0x000000, 0);
    renderer.clear();
    if (this.ready(side)) {
      later.ready(side, this.shared);
      this.scene.overrideMaterial = later.geometry;
      if (this.person) this.person.visible = false; // drawn with the light, in front of everything
      renderer.render(this.scene, this.camera);
      if (this.person) this.person.visible = true;
      this.scene.overrideMaterial = null;
    }
    renderer.setRenderTarget(null);
    renderer.setClearColor(colour, alpha);
  }

  lighted(side, part) {
    const { renderer, scene, camera, body, later } = this;
    if (part !== "light") {
      renderer.render(scene, camera);
      return;
    }
    later.sheet.material = later.lit(side, shader => patched(shader, this.shared));
    [body.visible, later.sheet.visible] = [false, true];
    renderer.render(scene, camera);
    [body.visible, later.sheet.visible] = [true, false];
  }

  // Pixels of the whole picture, read back
  pixels(w, h, detail) {
    const target = this.rough.target;
    return this.rough.pixels(this.renderer, w, h, () => {
      // A target has a viewport and a scissor of its own
      const { renderer } = this,
        viewport = renderer.setViewport,
        scissor = renderer.setScissor,
        test = renderer.setScissorTest;
      renderer.setViewport = (x, y, a, b) => {
        target.viewport.set(x, y, a, b);
        renderer.setRenderTarget(target);
      };
      renderer.setScissor = (x, y, a, b) => {
        target.scissor.set(x, y, a, b);
        renderer.setRenderTarget(target);
      };
      renderer.setScissorTest = on => {
        target.scissorTest = on;
        renderer.setRenderTarget(target);
      };
      try {
        this.rows(w, h, 0, h, 1, detail);
      } finally {
        Object.assign(renderer, { setViewport: viewport, setScissor: scissor, setScissorTest: test });
      }
    });
  }

  // How far the two sides are apart on screen, made four times as bright
  apart(w, h, detail) {
    this.second = false;
    const one = this.pixels(w, h, detail);
    this.second = true;
    const other = this.pixels(w, h, detail);
    for (let i = 0; i < one.length; i++) if (i % 4 !== 3) one[i] = Math.min(255, 4 * Math.abs(one[i] - other[i]));
    return one;
  }

  // While something moves, and always first where there is no graphics card: as many pixels as keep up, enlarged.
  // At rest there the full picture comes in strips, one a frame, so that the hand never waits for more than one.
  picture(moving) {
    clearTimeout(this.strips);
    this.finished(false);
    const { renderer } = this,
      size = renderer.getDrawingBufferSize(new THREE.Vector2()),
      ratio = renderer.getPixelRatio();
    const ready = this.sides.every(s => s.there),
      part = (n, share) => Math.max(32, 16 * Math.round((n * share) / 16));
    const share = this.share ?? (this.soft ? 0.3 : 1),
      apart = this.arranged.way === "difference";
    if (!ready) return; // the old picture stays
    if (apart || (this.soft && (moving || !this.begun))) {
      this.begun = true;
      const k = apart && !moving ? Math.max(share, this.soft ? 0.5 : 1) : share,
        w = part(size.x, k),
        h = part(size.y, k);
      this.timed(
        k,
        () => this.rough.show(w, h, apart ? this.apart(w, h, moving ? 2 : 1) : this.pixels(w, h, 2), apart && !moving),
        apart && !moving,
      );
      if (moving) return;
      if (apart) {
        this.finished(true);
        return;
      }
    } else if (!this.soft) {
      this.rows(size.x, size.y, 0, size.y, ratio, 0);
      this.rough.hide();
      this.pane.node.dataset.grid = "0";
      this.finished(!moving);
      return;
    }
    const fine = () => {
      if (!this.later) {
        this.inStrips(size, ratio, 0);
        return;
      }
      this.later.sized(size.x, size.y);
      this.inStrips(size, ratio, 0, () => this.inStrips(size, ratio, 0, null, "light"), "grid");
    };
    this.inStrips(size, ratio, 1, () => {
      this.strips = setTimeout(fine, 60);
    });
  }

  inStrips(size, ratio, detail, then = null, part = "") {
    let top = 0;
    const highs = this.highs,
      kind = `${detail}${part}`,
      least = detail ? 180 : 120; // milliseconds for a strip
    highs[kind] ??= detail ? 200 : 60;
    const strip = () => {
      if (!this.renderer || performance.now() < (this.until || 0)) return;
      if (!this.canvas.offsetWidth) return; // another view is on screen: drawn anew once the form is
      const began = performance.now();
      this.rows(size.x, size.y, top, Math.min(highs[kind], size.y - top), ratio, detail, part);
      this.afterwards(() => drawn(began));
    };
    const drawn = began => {
      top += highs[kind];
      highs[kind] = Math.max(
        24,
        Math.min(
          size.y,
          Math.round(highs[kind] * Math.max(0.5, Math.min(2, least / Math.max(4, performance.now() - began)))),
        ),
      );
      if (top < size.y) {
        this.strips = setTimeout(strip, 0);
        return;
      }
      if (part !== "grid") {
        this.rough.take(this.canvas);
        this.pane.node.dataset.grid = String(detail);
        this.finished(true);
      }
      then?.();
    };
    this.strips = setTimeout(strip, 0);
  }

  // For whoever looks on from outside: the picture is whole and nothing moves
  finished(is) {
    this.pane.node.dataset.still = is ? "yes" : "no";
  }

  // How long a picture takes says how many pixels the next one may have
  timed(share, make, once = false) {
    const began = performance.now();
    make();
    const spent = performance.now() - began;
    this.pane.node.dataset.spent = spent.toFixed(0);
    if (!once) this.share = Math.max(0.16, Math.min(1, share * Math.sqrt(36 / Math.max(4, spent))));
  }

  // Once everything asked for so far is drawn; the page goes on meanwhile
  afterwards(then) {
    const gl = this.renderer.getContext();
    gl.deleteSync(this.fence); // of strips that were given up
    const fence = (this.fence = gl.fenceSync(gl.SYNC_GPU_COMMANDS_COMPLETE, 0));
    gl.flush();
    const look = () => {
      if (gl.clientWaitSync(fence, 0, 0) === gl.TIMEOUT_EXPIRED) this.strips = setTimeout(look, 3);
      else then();
    };
    this.strips = setTimeout(look, 0);
  }

  // Shaders are made beside the page, which goes on meanwhile: false until they are there
  shadersThere() {
    if (this.compiling !== undefined) return this.compiling === null;
    if (!this.ready(this.sides[0])) return true;
    if (this.later) this.later.sheet.material = this.later.lit(this.sides[0], shader => patched(shader, this.shared));
    const done = () => {
      this.compiling = null;
      this.draw();
    };
    const { renderer, scene, camera } = this;
    // A target has other shaders than the canvas
    const made = (this.soft ? [this.rough.target, null] : [null]).map(target => {
      renderer.setRenderTarget(target);
      return renderer.compileAsync(scene, camera);
    });
    this.compiling = Promise.all(made).then(done, done);
    return false;
  }

  /** Ask for a picture. */
  draw() {}
}
