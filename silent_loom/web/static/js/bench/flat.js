// A map laid flat: alone, repeated, or with its joins brought to the middle; zoom down to texels, exact read-out.
import { cm, post } from "../api.js";
import { Asking } from "./asking.js";
import { Hand } from "./hand.js";
import { figure, rule } from "./scale.js";

const MARGIN = 14;

export class FlatView {
  constructor(pane) {
    this.pane = pane;
    this.state = pane.state;
    this.canvas = document.createElement("canvas");
    this.canvas.tabIndex = 0;
    this.canvas.setAttribute("role", "img");
    this.context = this.canvas.getContext("2d");
    this.sheet = document.createElement("canvas"); // the map itself
    this.pen = this.sheet.getContext("2d", { willReadFrequently: true });
    this.key = "";         // which picture it is
    this.mm = null;
    this.copies = [2, 2];
    this.bond = "straight";
    this.hand = new Hand(this);
    this.extra = [this.hand.over.node];
    this.seams = null; // heat of the joins, when it is asked for
    this.zoom = 1;
    this.at = [0, 0];
    this.asking = new Asking(this.state, (a, b) => this.took(a, b), (m) => pane.say(m), (on) => pane.computing(on));
    this.asking.have = (size) => (size === Math.max(this.sheet.width, this.sheet.height) ? { have: this.key } : {});
    const c = this.canvas;
    c.addEventListener("wheel", (e) => { e.preventDefault(); this.closer(1.0015 ** -e.deltaY, e.offsetX, e.offsetY); }, { passive: false });
    c.addEventListener("pointerdown", (e) => this.drag(e));
    c.addEventListener("dblclick", () => this.whole());
    c.addEventListener("pointermove", (e) => { this.hand.hover(e); this.read(e); });
    c.addEventListener("pointerleave", () => { clearTimeout(this.reading); pane.say(""); if (!this.hand.points && !this.hand.pending) this.hand.clear(); });
    c.addEventListener("keydown", (e) => this.key(e));
  }

  get mode() { return this.pane.view; }
  resize() { this.draw(); this.ask(); }

  ask() {
    const [, , scale] = this.layout();
    const need = this.mm ? Math.max(...this.mm) * scale * devicePixelRatio : 700;
    const full = [256, 512, 1024, 2048, 4096].find((n) => n >= need * 0.8) || 4096;
    this.size = Math.min(full, this.zoom > 1.5 ? 4096 : 2048);
    const below = ["flat", "half"].includes(this.mode) ? this.hand.below : null;
    this.asking.ask("map", { thread: this.pane.thread, ...(below ? { below } : {}) }, [256, this.size]);
  }

  // The same picture with settings that are being stored
  soon(step_id, settings) {
    return this.asking.soon("map", { thread: this.pane.thread, below: this.hand.below }, { step_id, settings }, this.size);
  }

  took({ headers, data }, body) {
    const w = +headers.get("x-width"), h = +headers.get("x-height"), blocks = headers.get("x-blocks");
    const c = this.pen;
    // Blocks mend the picture that was named in the question, and no other
    if (blocks !== null && headers.get("x-from") !== this.key) { this.key = ""; this.ask(); return; }
    if (blocks === null) {
      if (this.sheet.width !== w || this.sheet.height !== h) { this.sheet.width = w; this.sheet.height = h; }
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
    this.canvas.setAttribute("aria-label", `${body.thread}, ${w} by ${h} texels, ${cm(this.mm[0])} by ${cm(this.mm[1])} a repeat`);
    this.draw(parts);
    this.hand.answered();
    this.pane.painted(this, w);
    if (first) this.ask();
  }

  // left, top in pixels of the drawn area's first texel, and pixels per millimetre
  layout() {
    const box = this.pane.node.getBoundingClientRect();
    const [n, m] = this.mode === "repeat" ? this.copies : [1, 1];
    const mm = this.mm || [1000, 1000];
    const { offsetTop, offsetHeight } = this.pane.bar, top = Math.max(42, offsetTop + offsetHeight + 8); // one row of it, or two
    const fit = Math.min((box.width - 2 * MARGIN) / (mm[0] * n), (box.height - top - MARGIN - 26) / (mm[1] * m));
    const scale = fit * this.zoom;
    const left = box.width / 2 - (mm[0] * n * scale) / 2 + this.at[0];
    const above = (box.height + top - 26) / 2 - (mm[1] * m * scale) / 2 + this.at[1];
    return [left, above, scale];
  }

  // All of it, or only where parts of the map have changed: [x, y, width, height] in its texels
  draw(parts = null) {
    if (parts && this.mode !== "repeat") {
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
    const [left, top, scale] = this.layout(), k = (this.mm[0] * scale) / this.sheet.width, l = (this.mm[1] * scale) / this.sheet.height;
    const shifts = this.mode === "half" ? [-0.5, 0.5] : [0];
    return shifts.flatMap((i) => shifts.map((j) => [
      Math.floor(left + x * k + i * this.mm[0] * scale) - 2, Math.floor(top + y * l + j * this.mm[1] * scale) - 2, Math.ceil(w * k) + 5, Math.ceil(h * l) + 5]));
  }

  drawAll() {
    const { canvas, context: c } = this, box = this.pane.node.getBoundingClientRect(), dpr = devicePixelRatio;
    if (!box.width) return;
    if (canvas.width !== Math.round(box.width * dpr) || canvas.height !== Math.round(box.height * dpr)) {
      canvas.width = Math.round(box.width * dpr);
      canvas.height = Math.round(box.height * dpr);
    }
    c.setTransform(dpr, 0, 0, dpr, 0, 0);
    c.fillStyle = getComputedStyle(this.pane.node).backgroundColor;
    c.fillRect(0, 0, box.width, box.height);
    if (!this.mm) return;
    const [left, top, scale] = this.layout(), w = this.mm[0] * scale, h = this.mm[1] * scale;
    this.pane.node.dataset.sheet = [left, top, w, h].map((v) => v.toFixed(2)).join();
    c.imageSmoothingEnabled = w / this.sheet.width < 3;
    c.imageSmoothingQuality = "high";
    if (this.mode === "half") {
      c.save();
      c.beginPath();
      c.rect(left, top, w, h);
      c.clip();
      for (const dx of [-0.5, 0.5]) for (const dy of [-0.5, 0.5]) this.tile(c, left + dx * w, top + dy * h, w, h);
      c.restore();
      c.strokeStyle = "#efede8";
      c.lineWidth = 1.5;
      c.beginPath();
      for (const [x, y, dx, dy] of [[left + w / 2, top - 9, 0, 7], [left + w / 2, top + h + 2, 0, 7], [left - 9, top + h / 2, 7, 0], [left + w + 2, top + h / 2, 7, 0]]) { c.moveTo(x, y); c.lineTo(x + dx, y + dy); }
      c.stroke();
      return;
    }
    const [n, m] = this.mode === "repeat" ? this.copies : [1, 1], bond = this.mode === "repeat" ? this.bond : "straight";
    c.save();
    c.beginPath();
    c.rect(left, top, n * w, m * h);
    c.clip();
    // Every other column half a repeat down, or every other row half a repeat along; what falls out comes in again
    for (let i = bond === "brick" ? -1 : 0; i < n; i++) for (let j = bond === "half-drop" ? -1 : 0; j < m; j++) {
      const dx = bond === "brick" && j % 2 ? w / 2 : 0, dy = bond === "half-drop" && i % 2 ? h / 2 : 0;
      this.tile(c, left + i * w + dx, top + j * h + dy, w, h);
    }
    c.restore();
    this.scaleMarks(c, box, left, top, n * w, m * h);
  }

  // True size: a standing figure where it fits, else a rule of ten centimetres, or one
  scaleMarks(c, box, left, top, w, h) {
    if (!this.mm || !this.pane.table.sized) return;
    const scale = this.layout()[2], tall = 1750 * scale;
    if (tall > 40 && tall < h * 1.2) figure(c, left + Math.max(tall * 0.18, Math.min(w * 0.12, w - tall * 0.25)), top + h, tall);
    rule(c, scale, box.width - 14, top + h + 7);
  }

  tile(c, x, y, w, h) {
    if (x > this.canvas.width || y > this.canvas.height || x + w < 0 || y + h < 0) return;
    // Whole pixels at both edges, or neighbouring copies would show a hairline that is not in the map
    const x0 = Math.round(x), y0 = Math.round(y);
    c.drawImage(this.sheet, x0, y0, Math.round(x + w) - x0, Math.round(y + h) - y0);
    if (this.seams) c.drawImage(this.seams, x0, y0, Math.round(x + w) - x0, Math.round(y + h) - y0);
    if (this.spots) for (const s of this.spots) {
      for (const [style, width] of [["#262523", 4], ["#ffd23e", 2]]) {
        c.strokeStyle = style; c.lineWidth = width; c.beginPath();
        c.ellipse(x + s.u * w, y + s.v * h, s.radius * Math.max(w, h), s.radius * Math.max(w, h), 0, 0, 7); c.stroke();
      }
    }
  }

  closer(factor, x, y) {
    const [left, top, scale] = this.layout(), box = this.pane.node.getBoundingClientRect();
    const px = x ?? box.width / 2, py = y ?? box.height / 2;
    const u = (px - left) / scale, v = (py - top) / scale;
    this.zoom = Math.max(0.5, Math.min(64, this.zoom * factor));
    const [l2, t2, s2] = this.layout();
    this.at = [this.at[0] + px - (l2 + u * s2), this.at[1] + py - (t2 + v * s2)];
    this.draw();
    clearTimeout(this.sharpen);
    this.sharpen = setTimeout(() => this.ask(), 250);
  }
  whole() { this.zoom = 1; this.at = [0, 0]; this.draw(); this.ask(); }
  // One texel of the sheet on one pixel of the screen
  trueTexels() {
    const [, , scale] = this.layout();
    this.closer(this.sheet.width / devicePixelRatio / (this.mm[0] * scale));
  }

  drag(event) {
    this.pane.activate();
    if (this.hand.down(event)) { event.preventDefault(); return; }
    if (event.button > 1) return;
    event.preventDefault();
    const start = [event.clientX, event.clientY], from = [...this.at];
    const move = (e) => { this.at = [from[0] + e.clientX - start[0], from[1] + e.clientY - start[1]]; this.draw(); };
    this.canvas.setPointerCapture(event.pointerId);
    this.canvas.addEventListener("pointermove", move);
    this.canvas.addEventListener("pointerup", () => this.canvas.removeEventListener("pointermove", move), { once: true });
  }

  key(event) {
    const step = { ArrowLeft: [40, 0], ArrowRight: [-40, 0], ArrowUp: [0, 40], ArrowDown: [0, -40] }[event.key];
    if (step) { this.at = [this.at[0] + step[0], this.at[1] + step[1]]; this.draw(); }
    else if (event.key === "+" || event.key === "=") this.closer(1.25);
    else if (event.key === "-") this.closer(0.8);
    else if (event.key === "0") this.whole();
    else return;
    event.preventDefault();
  }

  place(event) {
    const [left, top, scale] = this.layout(), shift = this.mode === "half" ? 0.5 : 0;
    const u = (event.offsetX - left) / (this.mm[0] * scale), v = (event.offsetY - top) / (this.mm[1] * scale);
    const [n, m] = this.mode === "repeat" ? this.copies : [1, 1];
    if (u < 0 || v < 0 || u >= n || v >= m) return null;
    const bond = this.mode === "repeat" ? this.bond : "straight";
    const du = bond === "brick" && Math.floor(v) % 2 ? 0.5 : 0, dv = bond === "half-drop" && Math.floor(u) % 2 ? 0.5 : 0;
    return [(u + shift + du) % 1, (v + shift + dv) % 1];
  }

  read(event) {
    if (!this.mm || event.buttons) return;
    const place = this.place(event);
    clearTimeout(this.reading);
    if (!place) { this.pane.say(""); return; }
    this.reading = setTimeout(async () => {
      try {
        const p = await post(`${this.state.path}/probe`, { thread: this.pane.thread, u: place[0], v: place[1], size: this.size, ...this.state.question() });
        const number = (v) => v.toFixed(3).replace("-0.000", "0.000");
        const words = p.kind === "colour" ? `sRGB ${p.codes.join(" ")} · linear ${p.values.map(number).join(" ")}` : `${p.values.map(number).join(" ")}${p.unit ? ` ${p.unit}` : ""}`;
        this.pane.say(`${p.x}, ${p.y} of ${p.width} × ${p.height} · ${words}`);
      } catch { /* the next move asks again */ }
    }, 50);
  }
}

// "128 3,4 4,4" as boxes in texels; blocks in the last row and column may be smaller
function partsOf(words, width, height) {
  const [side, ...list] = words.split(" ");
  return list.map((pair) => {
    const [x, y] = pair.split(",").map((n) => n * side);
    return [x, y, Math.min(side, width - x), Math.min(side, height - y)];
  });
}
