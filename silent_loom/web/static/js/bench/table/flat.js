// A map laid flat: alone, repeated, or with its joins brought to the middle; zoom down to texels, exact read-out.
import { cm, post } from "../../base/api.js";
import { penOf } from "../../base/soft.js";
import { Asking } from "../asking.js";
import { Hand } from "../hand/hand.js";
import { Fine, FINE } from "./fine.js";
import { Laid } from "./overlays.js";
import { Pair } from "./pair.js";
import { figure, rule } from "./scale.js";

const TALL = 1750; // of the standing figure, in mm
const MARGIN = 12; // of neutral grey, by which colour is judged

export class FlatView {
  /** @type {any} Places that are pointed out */
  spots;

  constructor(pane) {
    this.pane = pane;
    this.state = pane.state;
    this.canvas = document.createElement("canvas");
    this.canvas.tabIndex = 0;
    this.canvas.setAttribute("role", "img");
    this.context = penOf(this.canvas);
    this.sheet = document.createElement("canvas"); // the map itself
    this.pen = this.sheet.getContext("2d", { willReadFrequently: true });
    this.key = ""; // which picture it is
    this.mm = null;
    this.copies = [2, 2];
    this.bond = "straight";
    this.hand = new Hand(this);
    this.fine = new Fine(this);
    this.extra = [this.hand.over.node];
    this.laid = new Laid(this);
    this.pair = new Pair(this);
    this.seams = null; // heat of the joins, when it is asked for
    this.zoom = 1;
    this.at = [0, 0];
    this.asking = new Asking(
      this.state,
      (a, b) => this.took(a, b),
      m => pane.old(m),
      on => pane.computing(on),
    );
    this.asking.of = () =>
      this.pair.on
        ? this.state.seenAs(this.state.compare.a)
        : { path: this.state.path, lay: { ...this.state.question(), ...this.pane.reading() } };
    this.asking.have = size => (size === Math.max(this.sheet.width, this.sheet.height) ? { have: this.key } : {});
    const c = this.canvas;
    c.addEventListener(
      "wheel",
      e => {
        e.preventDefault();
        this.closer(1.0015 ** -e.deltaY, e.offsetX, e.offsetY);
      },
      { passive: false },
    );
    c.addEventListener("pointerdown", e => this.drag(e));
    c.addEventListener("dblclick", () => this.whole());
    c.addEventListener("pointermove", e => {
      this.hand.hover(e);
      this.read(e);
    });
    c.addEventListener("pointerleave", () => {
      clearTimeout(this.reading);
      pane.say("");
      if (!this.hand.points && !this.hand.pending) this.hand.clear();
    });
    c.addEventListener("keydown", e => this.keyed(e));
  }

  get mode() {
    return this.pane.view;
  }
  resize() {
    this.draw();
    this.ask();
  }

  ask() {
    if (this.pane.nothing()) return;
    const [, , scale] = this.layout();
    const need = this.mm ? Math.max(...this.mm) * scale * devicePixelRatio : 700;
    const full = [256, 512, 1024, 2048, 4096].find(n => n >= need * 0.8) || 4096;
    this.size = Math.min(full, this.zoom > 1.5 ? 4096 : 2048);
    const below =
      this.pane.row || (["flat", "half", "repeat"].includes(this.mode) && !this.pair.on ? this.hand.below : null);
    const body = { thread: this.pane.thread, ...(below ? { below } : {}) },
      leap = `${this.state.leaps} ${this.state.before} ${this.pane.thread} ${below}`;
    if (leap !== this.leapt) {
      this.leapt = leap;
      this.asking.glance(body);
    }
    this.asking.ask("map", body, [256, this.size]);
    this.pair.ask(this.pane.thread, [256, this.size]);
  }

  // The same picture with settings that are being stored
  soon(step_id, settings) {
    return this.asking.soon(
      "map",
      { thread: this.pane.thread, below: this.hand.below },
      { step_id, settings },
      this.size,
    );
  }

  // The size of which values are read: that of the bake where its texels are shown
  get read_size() {
    return this.fine.shown ? FINE : this.size;
  }

  took({ headers, data }, body) {
    const w = +headers.get("x-width"),
      h = +headers.get("x-height"),
      blocks = headers.get("x-blocks");
    const c = this.pen;
    // Blocks mend the picture that was named in the question, and no other
    if (blocks !== null && headers.get("x-from") !== this.key) {
      this.key = "";
      this.ask();
      return;
    }
    if (blocks === null) {
      if (this.sheet.width !== w || this.sheet.height !== h) {
        this.sheet.width = w;
        this.sheet.height = h;
      }
      c.putImageData(new ImageData(new Uint8ClampedArray(data), w, h), 0, 0);
    }
    // The blocks that differ from the picture that is here
    const parts = blocks === null ? null : partsOf(blocks, w, h);
    let at = 0;
    for (const [x, y, pw, ph] of parts || []) {
      c.putImageData(new ImageData(new Uint8ClampedArray(data, at, 4 * pw * ph), pw, ph), x, y);
      at += 4 * pw * ph;
    }
    this.key = headers.get("x-key");
    this.wraps = headers.get("x-wraps") === "1";
    const first = !this.mm;
    this.mm = headers.get("x-mm").split(" ").map(Number);
    this.shownThread = body.thread;
    this.canvas.setAttribute(
      "aria-label",
      `${body.thread}, ${w} by ${h} texels, ${cm(this.mm[0])} by ${cm(this.mm[1])} a repeat`,
    );
    this.draw(parts);
    this.fine.soon();
    this.laid.look();
    this.hand.answered();
    this.pane.painted(this, w);
    if (first) this.ask();
  }

  // The part of the pane that pictures may fill: left, top, width, height
  area() {
    const box = this.pane.node.getBoundingClientRect(),
      { offsetTop, offsetHeight } = this.pane.bar,
      top = Math.max(38, offsetTop + offsetHeight + 6);
    return [MARGIN, top, box.width - 2 * MARGIN, box.height - top - MARGIN];
  }

  // Repeats and half shifts go on to the borders of the pane
  get fills() {
    return this.mode === "repeat" || this.mode === "half";
  }

  // left, top in pixels of the first sheet, and pixels per millimetre
  layout() {
    const [n, m] = this.mode === "repeat" ? this.copies : [1, 1];
    const mm = this.mm || [1000, 1000];
    let [left, top, width, height] = this.area();
    const fit = w => Math.min(w / (mm[0] * n), height / (mm[1] * m));
    let scale = fit(width);
    // A standing figure stands beside the sheet, where it is to be seen at all
    this.figureRoom = 0;
    if (!this.fills && this.pane.table.sized && this.zoom === 1) {
      const beside = Math.min((width - 12) / (mm[0] * n + 0.34 * TALL), height / Math.max(mm[1] * m, TALL));
      if (TALL * beside > 40) {
        scale = beside;
        this.figureRoom = 0.34 * TALL * beside + 12;
      }
    }
    scale *= this.zoom;
    const x = left + (width - this.figureRoom - mm[0] * n * scale) / 2 + this.at[0];
    const y = top + (height - mm[1] * m * scale) / 2 + this.at[1];
    return [x, y, scale];
  }

  // All of it, or only where parts of the map have changed: [x, y, width, height] in its texels
  draw(parts = null) {
    if (parts && !this.pair.on && !this.fills) {
      if (!parts.length) return;
      this.context.save();
      this.context.setTransform(devicePixelRatio, 0, 0, devicePixelRatio, 0, 0);
      this.context.beginPath();
      for (const box of parts) for (const [x, y, w, h] of this.onScreen(box)) this.context.rect(x, y, w, h);
      this.context.clip();
      this.drawAll();
      this.context.restore();
      return;
    }
    this.drawAll();
  }

  // Where a box of texels lies in the pane, a little wider, for what is smoothed over its edge
  onScreen([x, y, w, h]) {
    const [left, top, scale] = this.layout(),
      k = (this.mm[0] * scale) / this.sheet.width,
      l = (this.mm[1] * scale) / this.sheet.height;
    const shifts = [0];
    return shifts.flatMap(i =>
      shifts.map(j => [
        Math.floor(left + x * k + i * this.mm[0] * scale) - 2,
        Math.floor(top + y * l + j * this.mm[1] * scale) - 2,
        Math.ceil(w * k) + 5,
        Math.ceil(h * l) + 5,
      ]),
    );
  }

  drawAll() {
    const { canvas, context: c } = this,
      box = this.pane.node.getBoundingClientRect(),
      dpr = devicePixelRatio;
    if (!box.width) return;
    if (canvas.width !== Math.round(box.width * dpr) || canvas.height !== Math.round(box.height * dpr)) {
      canvas.width = Math.round(box.width * dpr);
      canvas.height = Math.round(box.height * dpr);
    }
    if (this.mm)
      this.pane.node.dataset.sheet = this.lies()
        .map(v => v.toFixed(2))
        .join();
    if (this.pair.on && this.mm) {
      this.pair.draw(box);
      return;
    }
    this.ground(c, box);
    if (this.mm) this.surface(c, box, this.sheet, this.mm);
  }

  // Left, top, width and height of the first sheet in the pane
  lies() {
    const [left, top, scale] = this.layout();
    return [left, top, this.mm[0] * scale, this.mm[1] * scale];
  }

  ground(c, box) {
    c.setTransform(devicePixelRatio, 0, 0, devicePixelRatio, 0, 0);
    c.fillStyle = getComputedStyle(this.pane.node).backgroundColor;
    c.fillRect(0, 0, box.width, box.height);
  }

  // A sheet of a size in millimetres as the view lays it: alone, repeated, or shifted by half
  surface(c, box, sheet, mm) {
    const [left, top, scale] = this.layout(),
      w = mm[0] * scale,
      h = mm[1] * scale,
      own = sheet === this.sheet;
    c.imageSmoothingEnabled = w / sheet.width < 3;
    c.imageSmoothingQuality = "high";
    if (this.fills) {
      const [ax, ay, aw, ah] = this.area(),
        half = this.mode === "half",
        bond = half ? "straight" : this.bond,
        d = half ? 0.5 : 0;
      c.save();
      c.beginPath();
      c.rect(ax, ay, aw, ah);
      c.clip();
      // Every other column half a repeat down, or every other row half a repeat along
      const first = (at, size, from) => Math.floor((from - at) / size - 1),
        last = (at, size, to) => Math.ceil((to - at) / size + 1);
      for (let i = first(left, w, ax); i < last(left, w, ax + aw); i++)
        for (let j = first(top, h, ay); j < last(top, h, ay + ah); j++) {
          const dx = bond === "brick" && j & 1 ? w / 2 : 0,
            dy = bond === "half-drop" && i & 1 ? h / 2 : 0;
          this.tile(c, left + (i + d) * w + dx, top + (j + d) * h + dy, w, h, [ax, ay, ax + aw, ay + ah], sheet);
        }
      c.restore();
      if (own) this.laid.after(c);
      if (half) this.joinMarks(c, left + w / 2, top + h / 2, [ax, ay, aw, ah]);
      else this.rule(c, box);
      return;
    }
    this.tile(c, left, top, w, h, [0, 0, box.width, box.height], sheet);
    if (own && !this.pair.on) this.fine.draw(c, left, top, w, h);
    this.scaleMarks(c, box, left, top, w, h);
    if (own) this.laid.after(c);
  }

  // Where the joins of the half shift lie: marks in the border around the picture
  joinMarks(c, x, y, [ax, ay, aw, ah]) {
    for (const [style, width] of [
      ["#262523", 4],
      ["#efede8", 1.8],
    ]) {
      c.strokeStyle = style;
      c.lineWidth = width;
      c.beginPath();
      for (const [px, py, dx, dy] of [
        [x, ay - 1, 0, 10],
        [x, ay + ah + 1, 0, -10],
        [ax - 1, y, 10, 0],
        [ax + aw + 1, y, -10, 0],
      ]) {
        c.moveTo(px, py);
        c.lineTo(px + dx, py + dy);
      }
      c.stroke();
    }
  }

  rule(c, box) {
    rule(c, this.layout()[2], box.width - 20, box.height - 22);
  }

  // True size: a standing figure where it fits, else a rule of ten centimetres, or one
  scaleMarks(c, box, left, top, w, h) {
    const scale = this.layout()[2],
      tall = TALL * scale;
    if (this.figureRoom) figure(c, left + w + this.figureRoom / 2 + 4, top + h, tall);
    rule(c, scale, Math.min(box.width - 14, left + w), Math.min(box.height - 8, top + h + 6));
  }

  tile(c, x, y, w, h, [x0, y0, x1, y1], sheet = this.sheet) {
    if (x > x1 || y > y1 || x + w < x0 || y + h < y0) return;
    // Whole pixels at both edges, or neighbouring copies would show a hairline that is not in the map
    const px = Math.round(x),
      py = Math.round(y);
    c.drawImage(sheet, px, py, Math.round(x + w) - px, Math.round(y + h) - py);
    if (sheet !== this.sheet) return;
    this.laid.tile(c, px, py, Math.round(x + w) - px, Math.round(y + h) - py);
    if (this.seams) c.drawImage(this.seams, px, py, Math.round(x + w) - px, Math.round(y + h) - py);
    if (this.spots)
      for (const s of this.spots) {
        for (const [style, width] of [
          ["#262523", 4],
          ["#ffd23e", 2],
        ]) {
          c.strokeStyle = style;
          c.lineWidth = width;
          c.beginPath();
          c.ellipse(x + s.u * w, y + s.v * h, s.radius * Math.max(w, h), s.radius * Math.max(w, h), 0, 0, 7);
          c.stroke();
        }
      }
  }

  closer(factor, x, y) {
    const [left, top, scale] = this.layout(),
      box = this.pane.node.getBoundingClientRect();
    const px = x ?? box.width / 2,
      py = y ?? box.height / 2;
    const u = (px - left) / scale,
      v = (py - top) / scale;
    this.zoom = Math.max(0.5, Math.min(64, this.zoom * factor));
    const [l2, t2, s2] = this.layout();
    this.at = [this.at[0] + px - (l2 + u * s2), this.at[1] + py - (t2 + v * s2)];
    this.draw();
    clearTimeout(this.sharpen);
    this.sharpen = setTimeout(() => {
      this.ask();
      this.fine.soon();
    }, 250);
  }
  whole() {
    this.zoom = 1;
    this.at = [0, 0];
    this.draw();
    this.ask();
  }
  // One texel of the sheet on one pixel of the screen
  trueTexels() {
    const [, , scale] = this.layout();
    this.closer(this.sheet.width / devicePixelRatio / (this.mm[0] * scale));
  }

  drag(event) {
    this.pane.activate();
    if (this.pair.down(event)) return;
    if (!this.state.picking && this.laid.down(event)) {
      event.preventDefault();
      return;
    }
    if (this.hand.down(event)) {
      event.preventDefault();
      return;
    }
    if (event.button > 1) return;
    event.preventDefault();
    const start = [event.clientX, event.clientY],
      from = [...this.at];
    const move = e => {
      this.at = [from[0] + e.clientX - start[0], from[1] + e.clientY - start[1]];
      this.draw();
    };
    this.canvas.setPointerCapture(event.pointerId);
    this.canvas.addEventListener("pointermove", move);
    this.canvas.addEventListener(
      "pointerup",
      () => {
        this.canvas.removeEventListener("pointermove", move);
        this.fine.soon();
      },
      { once: true },
    );
  }

  keyed(event) {
    const step = { ArrowLeft: [40, 0], ArrowRight: [-40, 0], ArrowUp: [0, 40], ArrowDown: [0, -40] }[event.key];
    if (step) {
      this.at = [this.at[0] + step[0], this.at[1] + step[1]];
      this.draw();
      this.fine.soon();
    } else if (event.key === "+" || event.key === "=") this.closer(1.25);
    else if (event.key === "-") this.closer(0.8);
    else if (event.key === "0") this.whole();
    else return;
    event.preventDefault();
  }

  // By how much a copy of the sheet is moved against the first one
  bondAt(u, v) {
    const bond = this.mode === "repeat" ? this.bond : "straight";
    return [bond === "brick" && Math.floor(v) & 1 ? 0.5 : 0, bond === "half-drop" && Math.floor(u) & 1 ? 0.5 : 0];
  }

  place(event) {
    const [left, top, scale] = this.layout(),
      shift = this.mode === "half" ? 0.5 : 0;
    const aside = this.pair.shiftAt(event.offsetX, this.canvas.clientWidth);
    const u = (event.offsetX - aside - left) / (this.mm[0] * scale),
      v = (event.offsetY - top) / (this.mm[1] * scale);
    if (this.fills) {
      const [ax, ay, aw, ah] = this.area();
      if (event.offsetX < ax || event.offsetY < ay || event.offsetX > ax + aw || event.offsetY > ay + ah) return null;
    } else if (u < 0 || v < 0 || u >= 1 || v >= 1) return null;
    const [du, dv] = this.bondAt(u, v);
    return [(((u + shift + du) % 1) + 1) % 1, (((v + shift + dv) % 1) + 1) % 1];
  }

  read(event) {
    if (!this.mm || event.buttons) return;
    const place = this.place(event);
    clearTimeout(this.reading);
    if (!place) {
      this.pane.say("");
      return;
    }
    this.reading = setTimeout(async () => {
      try {
        const p = await post(`${this.state.path}/probe`, {
          thread: this.pane.thread,
          u: place[0],
          v: place[1],
          size: this.pane.row ? Math.min(4096, this.read_size) : this.read_size,
          ...(this.pane.row ? { below: this.pane.row } : {}),
          ...this.state.question(),
          ...this.pane.charted(),
        });
        const number = v => v.toFixed(3).replace("-0.000", "0.000");
        const words =
          p.kind === "colour"
            ? `sRGB ${p.codes.join(" ")} · linear ${p.values.map(number).join(" ")}`
            : `${p.values.map(number).join(" ")}${p.unit ? ` ${p.unit}` : ""}`;
        this.pane.say(`${p.x}, ${p.y} of ${p.width} × ${p.height} · ${words}`);
      } catch {
        /* the next move asks again */
      }
    }, 50);
  }
}

// "128 3,4 4,4" as boxes in texels; blocks in the last row and column may be smaller
function partsOf(words, width, height) {
  const [side, ...list] = words.split(" ");
  return list.map(pair => {
    const [x, y] = pair.split(",").map(n => n * side);
    return [x, y, Math.min(side, width - x), Math.min(side, height - y)];
  });
}
