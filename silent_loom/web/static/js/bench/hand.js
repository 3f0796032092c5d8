// The hand on a flat picture: strokes of repair, marks of clean, a place that is picked. What it draws here is a passing
// preview; the application lays the stroke itself and answers with the exact map.
import { el, post } from "../api.js";
import { coverOf, Looked } from "./stroke.js";
import { Tiles } from "./tiles.js";

export const HANDS = { repair: "strokes", clean: "regions" };

// What the tools are set to; kept for the window, not in the material.
export const brush = {
  tool: "clone", radius: 0.04, softness: 0.5, strength: 1, colour: "#7a756b", threads: "all", layer: 0, fixed: false,
  source: null, aligned: null, mark: "outline", tolerance: 8, everywhere: false,
};

export class Hand {
  constructor(flat) {
    this.flat = flat;
    this.state = flat.state;
    this.over = new Tiles();
    this.looked = new Looked();
    this.points = null;
    this.pending = 0;
    this.written = Promise.resolve(); // what is being stored, one after another
    addEventListener("beforeunload", (e) => { if (this.pending) e.preventDefault(); });
  }

  get row() { const row = this.state.row(this.state.chosen); return row && row.on && HANDS[row.step] ? row : null; }
  // The hand works on the sheet as it comes out of its row: later rows may change its size
  get below() { return this.row ? this.row.id : this.state.picking ? this.state.picking.below : null; }
  get active() { return !!(this.row || this.state.picking) && ["flat", "half"].includes(this.flat.mode); }

  place(event) {
    const [left, top, scale] = this.flat.layout(), mm = this.flat.mm, shift = this.flat.mode === "half" ? 0.5 : 0;
    return [(event.offsetX - left) / (mm[0] * scale) + shift, (event.offsetY - top) / (mm[1] * scale) + shift];
  }

  down(event) {
    if (!this.active || event.button !== 0 || !this.flat.mm) return false;
    const at = this.place(event);
    if (this.state.picking) { this.state.picking.take(((at[0] % 1) + 1) % 1, ((at[1] % 1) + 1) % 1); return true; }
    const clones = ["clone", "heal"].includes(brush.tool) && this.row.step === "repair";
    if (clones && (event.altKey || !brush.source)) {
      brush.source = at;
      brush.aligned = null;
      this.flat.pane.say("This is the source. Now paint where it is wanted.");
      this.state.emit("brush");
      this.hover(event);
      return true;
    }
    if (this.row.step === "clean" && brush.mark === "tone") { this.mark({ kind: "tone", points: [wrapped(at)], tolerance: brush.tolerance, everywhere: brush.everywhere }); return true; }
    if (clones) {
      // Aligned: the way from the first dab to its source holds for every stroke after it
      if (brush.fixed || !brush.aligned) brush.aligned = [brush.source[0] - at[0], brush.source[1] - at[1]];
    }
    this.points = [[...at, this.force(event)]];
    this.started = performance.now();
    this.flat.canvas.setPointerCapture(event.pointerId);
    this.clear();
    this.size();
    this.over.node.style.opacity = this.veil;
    if (this.row.step !== "clean" || brush.mark !== "outline") this.lay(this.points[0], this.points[0]);
    const move = (e) => {
      for (const part of e.getCoalescedEvents?.().length ? e.getCoalescedEvents() : [e]) this.draw(this.place(part), this.force(part));
    };
    const up = () => {
      this.flat.canvas.removeEventListener("pointermove", move);
      this.finish();
    };
    this.flat.canvas.addEventListener("pointermove", move);
    this.flat.canvas.addEventListener("pointerup", up, { once: true });
    this.flat.canvas.addEventListener("pointercancel", up, { once: true });
    return true;
  }

  force(event) { return event.pointerType === "pen" ? Math.max(0.02, event.pressure) : 1; }
  get longer() { return Math.max(...this.flat.mm); }

  draw(at, force) {
    const last = this.points[this.points.length - 1], mm = this.flat.mm;
    const step = Math.max(0.15 * brush.radius * this.longer, 0.3);
    if (Math.hypot((at[0] - last[0]) * mm[0], (at[1] - last[1]) * mm[1]) < step) return;
    this.points.push([...at, force]);
    if (this.row.step === "clean" && brush.mark === "outline") this.outline();
    else this.lay(last, this.points[this.points.length - 1]);
  }

  size() { if (!this.over.node.isConnected) this.flat.canvas.after(this.over.node); }

  screen(at) {
    const [left, top, scale] = this.flat.layout(), mm = this.flat.mm, shift = this.flat.mode === "half" ? 0.5 : 0;
    return [left + (at[0] - shift) * mm[0] * scale, top + (at[1] - shift) * mm[1] * scale, scale];
  }

  // The way from one dab to the next, as the application will lay it, on the sheet and where it comes in again
  lay(from, to, strength = brush.strength) {
    const { flat } = this, [left, top, scale] = flat.layout(), w = flat.mm[0] * scale, h = flat.mm[1] * scale;
    const marks = this.row.step === "clean", colour = this.colour(left, top, w, h);
    const dabs = [from, to].map((p) => {
      const [x, y] = this.screen(p), force = marks ? 1 : p[2];
      return { x, y, r: Math.max(0.5, brush.radius * this.longer * scale * Math.max(force, 0.05)), alpha: marks ? 1 : force * strength };
    });
    const r = Math.max(dabs[0].r, dabs[1].r) + 1, shifts = flat.wraps ? [-1, 0, 1] : [0];
    for (const i of shifts) for (const j of shifts) {
      const [a, b] = dabs.map((d) => ({ ...d, x: d.x + i * w, y: d.y + j * h }));
      const x0 = Math.max(left, Math.min(a.x, b.x) - r), x1 = Math.min(left + w, Math.max(a.x, b.x) + r);
      const y0 = Math.max(top, Math.min(a.y, b.y) - r), y1 = Math.min(top + h, Math.max(a.y, b.y) + r);
      if (x1 > x0 && y1 > y0) this.over.cover(x0, y0, x1, y1, coverOf(a, b, marks ? 0 : brush.softness), colour);
    }
  }

  colour(left, top, w, h) {
    const marks = this.row.step === "clean";
    if (!marks && ["clone", "heal"].includes(brush.tool)) {
      const looked = this.looked.at(this.flat), shift = this.flat.mode === "half" ? 0.5 : 0, [du, dv] = brush.aligned;
      return (x, y, out, at) => looked.read((x - left) / w + shift + du, (y - top) / h + shift + dv, out, at);
    }
    const code = marks ? "#d6543c" : { paint: brush.colour, erase: "#ffffff", soften: "#78a0d2" }[brush.tool];
    const [r, g, b] = [1, 3, 5].map((k) => parseInt(code.slice(k, k + 2), 16));
    return (x, y, out, at) => { out[at] = r; out[at + 1] = g; out[at + 2] = b; };
  }

  // Softening and erasing, and marks, are only hinted at: a veil
  get veil() { return this.row.step === "clean" ? 0.5 : ["erase", "soften"].includes(brush.tool) ? 0.35 : 1; }

  outline() {
    const points = this.points.map((q) => this.screen(q)), [x0, y0, x1, y1] = around(points);
    this.clear();
    this.over.draw(x0 - 3, y0 - 3, x1 + 3, y1 + 3, (c) => {
      c.beginPath();
      points.forEach(([x, y], i) => (i ? c.lineTo(x, y) : c.moveTo(x, y)));
      c.fillStyle = "rgba(214, 84, 60, .28)";
      c.fill();
      for (const [style, width] of [["#262523", 3], ["#efede8", 1.2]]) { c.strokeStyle = style; c.lineWidth = width; c.stroke(); }
    });
  }

  // What the brush would lay, before it is laid; and where it takes it from
  hover(event) {
    if (!this.active || this.points || !this.flat.mm) { if (!this.points) this.clear(); return; }
    this.size();
    this.over.node.style.opacity = 1;
    const at = this.place(event), [x, y, scale] = this.screen(at), row = this.row;
    if (this.pending) return;
    this.clear();
    this.shown();
    if (!row || (row.step === "clean" && brush.mark !== "brush")) return;
    const r = brush.radius * this.longer * scale;
    const clones = row.step === "repair" && ["clone", "heal"].includes(brush.tool);
    if (clones && brush.source) {
      const keep = brush.aligned;
      if (brush.fixed || !keep) brush.aligned = [brush.source[0] - at[0], brush.source[1] - at[1]];
      this.lay([...at, 1], [...at, 1], 0.85 * brush.strength);
      const [sx, sy] = this.screen([at[0] + brush.aligned[0], at[1] + brush.aligned[1]]);
      this.ring(sx, sy, Math.max(4, r * 0.5));
      brush.aligned = keep;
    } else if (row.step === "repair" && brush.tool === "paint") this.lay([...at, 1], [...at, 1], 0.6 * brush.strength);
    this.ring(x, y, r);
  }

  // Marks of clean that are there already
  shown() {
    const row = this.row;
    if (row?.step !== "clean" || !this.state.showMarks) return;
    for (const region of row.settings.regions) {
      const points = region.points.map((q) => this.screen(q)), [x0, y0, x1, y1] = around(points);
      const width = region.kind === "brush" ? 2 * region.radius * this.longer * this.flat.layout()[2] : 1.5;
      this.over.draw(x0 - width, y0 - width, x1 + width, y1 + width, (c) => {
        c.beginPath();
        points.forEach(([x, y], i) => (i ? c.lineTo(x, y) : c.moveTo(x, y)));
        if (region.kind === "outline") c.closePath();
        c.lineWidth = width;
        c.lineCap = c.lineJoin = "round";
        c.strokeStyle = region.kind === "brush" ? "rgba(214,84,60,.35)" : "#d6543c";
        c.stroke();
      });
    }
  }

  ring(x, y, r) {
    this.over.draw(x - r - 2, y - r - 2, x + r + 2, y + r + 2, (c) => {
      for (const [style, width] of [["#262523", 2.5], ["#efede8", 1]]) { c.strokeStyle = style; c.lineWidth = width; c.beginPath(); c.arc(x, y, r, 0, 7); c.stroke(); }
    });
  }

  async finish() {
    const points = this.points, row = this.row;
    this.points = null;
    if (!row || !points) return;
    if (row.step === "clean") {
      if (brush.mark === "outline" && points.length < 3) { this.clear(); return; }
      await this.mark({ kind: brush.mark, points: points.map(([u, v]) => [+u.toFixed(6), +v.toFixed(6)]), radius: brush.radius });
      return;
    }
    const mm = this.flat.mm, round = (v) => +v.toFixed(4);
    const stroke = {
      tool: brush.tool, radius_mm: round(brush.radius * this.longer), softness: brush.softness, strength: brush.strength,
      points: points.map(([u, v, f]) => [round(u * mm[0]), round(v * mm[1]), +f.toFixed(3)]),
    };
    if (brush.tool === "paint") stroke.colour = brush.colour;
    if (brush.aligned && ["clone", "heal"].includes(brush.tool)) stroke.offset_mm = [round(brush.aligned[0] * mm[0]), round(brush.aligned[1] * mm[1])];
    const layers = structuredClone(this.latest(row, "layers"));
    if (!layers.length) layers.push({ name: "Layer 1", on: true, threads: brush.threads, strokes: [] });
    const layer = layers[Math.min(brush.layer, layers.length - 1)];
    layer.strokes.push(stroke);
    this.flat.pane.node.dataset.strokeEnded = String(performance.now());
    await this.keep(row, { layers });
  }

  async mark(region) {
    const row = this.row;
    await this.keep(row, { regions: [...this.latest(row, "regions"), region] });
  }

  // A second stroke goes on top of one that is still being written
  latest(row, key) { return this.ahead?.id === row.id ? this.ahead.settings[key] : row.settings[key]; }

  // The preview stays until the application's own picture is there
  async keep(row, settings) {
    const ahead = (this.ahead = { id: row.id, settings });
    this.pending++;
    const seen = this.flat.soon(row.id, settings).then((took) => { if (took && this.ahead === ahead && !this.points) this.clear(); });
    // The picture first, for the hand waits for it: writing and what follows from it take the same cores. Strokes in their order
    const before = this.written;
    this.written = (async () => {
      await Promise.race([seen, new Promise((done) => setTimeout(done, 400))]);
      await before;
      await this.state.change({ kind: "settings", step_id: row.id, settings });
      this.pending--;
      if (this.ahead === ahead) this.ahead = null;
      this.stale = true;
      this.flat.ask();
    })();
    await this.written;
  }

  answered() { if (this.stale && !this.pending && !this.points) { this.stale = false; this.clear(); } }
  clear() { this.over.clear(); }
}

const wrapped = ([u, v]) => [+(((u % 1) + 1) % 1).toFixed(6), +(((v % 1) + 1) % 1).toFixed(6)];
function around(points) {
  const xs = points.map((p) => p[0]), ys = points.map((p) => p[1]);
  return [Math.min(...xs), Math.min(...ys), Math.max(...xs), Math.max(...ys)];
}

// --- the controls of the two steps that are worked by hand ---------------------------------------------------
const slider = (name, key, low, high, words, after) => {
  const input = el("input", { class: "slide", type: "range", min: 0, max: 1000, "aria-label": name });
  const number = el("span", { class: "quiet" });
  const show = () => { const t = (brush[key] - low) / (high - low); input.value = Math.round(1000 * t); input.style.setProperty("--at", `${100 * t}%`); number.textContent = words(brush[key]); };
  input.addEventListener("input", () => { brush[key] = low + ((high - low) * input.value) / 1000; show(); after?.(); });
  show();
  return el("div", { class: "control", "data-brush": key }, el("span", { class: "label" }, name), number, el("span"), input);
};
const percent = (v) => `${Math.round(100 * v)} %`;

function choices(name, key, options, after) {
  const group = el("span", { class: "segments tools-row", role: "radiogroup", "aria-label": name });
  for (const [value, title, says] of options) {
    group.append(el("button", { class: "act", type: "button", role: "radio", "data-tool": value, title: says, "aria-checked": brush[key] === value, onclick: () => { brush[key] = value; for (const b of group.children) b.setAttribute("aria-checked", b.dataset.tool === value); after?.(); } }, title));
  }
  return group;
}

export function strokesControls(controls) {
  const { state } = controls, row = controls.row, node = el("div", { class: "hand-tools" });
  const of = (v) => `${(v * 100).toFixed(1)} % of the sheet`;
  const build = () => {
    const row = controls.row;
    if (!row || row.step !== "repair") return;
    const layers = row.settings.layers;
    brush.layer = Math.max(0, Math.min(brush.layer, Math.max(0, layers.length - 1)));
    const send = (next) => state.change({ kind: "settings", step_id: row.id, settings: { layers: next } });
    const clones = ["clone", "heal"].includes(brush.tool);
    const list = el("ol", { class: "layers", "aria-label": "Layers, the top one first" });
    [...layers].map((layer, i) => [layer, i]).reverse().forEach(([layer, i]) => {
      const copy = () => structuredClone(layers);
      list.append(el("li", { class: i === brush.layer ? "chosen" : "", "data-layer": i },
        el("button", { class: "act", type: "button", "aria-pressed": i === brush.layer, onclick: () => { brush.layer = i; build(); } }, layer.name, el("span", { class: "quiet" }, ` ${layer.strokes.length}`)),
        el("select", { "aria-label": `${layer.name} works on`, onchange: (e) => { const next = copy(); next[i].threads = e.target.value; send(next); } },
          el("option", { value: "base", selected: layer.threads === "base" }, "base colour"), el("option", { value: "all", selected: layer.threads === "all" }, "all maps")),
        el("button", { class: "act", type: "button", onclick: () => { const next = copy(); next[i].on = !next[i].on; send(next); } }, layer.on ? "Hide" : "Show"),
        el("button", { class: "act", type: "button", "aria-label": `${layer.name} up`, disabled: i === layers.length - 1, onclick: () => { const next = copy(); [next[i], next[i + 1]] = [next[i + 1], next[i]]; brush.layer = i + 1; send(next); } }, "↑"),
        el("button", { class: "act", type: "button", "aria-label": `Last stroke of ${layer.name} back`, disabled: !layer.strokes.length, onclick: () => { const next = copy(); next[i].strokes.pop(); send(next); } }, "−1"),
        el("button", { class: "act", type: "button", "aria-label": `Delete ${layer.name}`, onclick: () => { const next = copy(); next.splice(i, 1); send(next); } }, "×")));
    });
    node.replaceChildren(
      choices("Tool", "tool", [["clone", "Clone", "Copies from another place"], ["heal", "Heal", "Copies detail, keeps the tone"], ["paint", "Paint", "One colour"], ["soften", "Soften", "Blurs a little"], ["erase", "Erase", "Back to what comes in"]], build),
      slider("Size", "radius", 0.003, 0.2, of), slider("Softness", "softness", 0, 1, percent), slider("Strength", "strength", 0.02, 1, percent),
      brush.tool === "paint" ? el("div", { class: "control" }, el("label", { for: "brush-colour" }, "Colour"), el("input", { type: "color", id: "brush-colour", value: brush.colour, oninput: (e) => { brush.colour = e.target.value; } }),
        el("button", { class: "act", type: "button", id: "brush-pick", onclick: () => pickColour(controls, build) }, "Pick")) : el("span"),
      clones ? el("div", { class: "d-flex gap-2 align-items-center my-1" },
        el("label", {}, el("input", { type: "checkbox", class: "form-check-input m-0", checked: brush.fixed, onchange: (e) => { brush.fixed = e.target.checked; brush.aligned = null; } }), " every stroke from the same source"),
        el("button", { class: "act edge push", type: "button", id: "brush-source", onclick: () => { brush.source = null; brush.aligned = null; build(); } }, "New source")) : el("span"),
      el("p", { class: "note" }, clones ? (brush.source ? "Paint on the flat or half-shift picture. Alt and press sets another source." : "Press once on the flat or half-shift picture to set the source.") : "Paint on the flat or half-shift picture; strokes go on round the edges."),
      el("div", { class: "d-flex align-items-center" }, el("b", {}, "Layers"), el("button", { class: "act push", type: "button", id: "add-layer", onclick: () => { const next = structuredClone(layers); next.push({ name: `Layer ${next.length + 1}`, on: true, threads: brush.threads, strokes: [] }); brush.layer = next.length - 1; send(next); } }, "Add a layer")),
      list);
  };
  state.addEventListener("brush", build);
  build();
  return { node, update: build };
}

async function pickColour(controls, done) {
  const { state } = controls, rows = state.rows, at = rows.findIndex((r) => r.id === controls.row.id);
  state.pick({ below: controls.row.id, words: "Press on the colour that you want.", take: async (u, v) => {
    const { light } = await post(`${state.path}/pick`, { below: rows[at + 1]?.id || controls.row.id, u, v });
    const code = (x) => Math.round(255 * (x <= 0.0031308 ? 12.92 * x : 1.055 * x ** (1 / 2.4) - 0.055));
    brush.colour = `#${light.map((x) => Math.max(0, Math.min(255, code(x))).toString(16).padStart(2, "0")).join("")}`;
    done();
  } });
}

export function regionsControls(controls) {
  const { state } = controls, node = el("div", { class: "hand-tools" });
  const build = () => {
    const row = controls.row;
    if (!row || row.step !== "clean") return;
    const regions = row.settings.regions;
    const send = (next) => state.change({ kind: "settings", step_id: row.id, settings: { regions: next } });
    const list = el("ol", { class: "layers", "aria-label": "Marked regions" });
    regions.forEach((region, i) => list.append(el("li", {}, el("span", {}, `${{ outline: "Outline", brush: "Painted", tone: "By tone" }[region.kind]} ${i + 1}`),
      el("button", { class: "act push", type: "button", "aria-label": `Take region ${i + 1} out`, onclick: () => send(regions.filter((_, k) => k !== i)) }, "×"))));
    node.replaceChildren(
      choices("Mark by", "mark", [["outline", "Outline", "Draw round it"], ["brush", "Brush", "Paint over it"], ["tone", "Similar tone", "Press on it"]], build),
      brush.mark === "brush" ? slider("Brush", "radius", 0.003, 0.2, (v) => `${(v * 100).toFixed(1)} % of the sheet`) : el("span"),
      brush.mark === "tone" ? slider("Tolerance", "tolerance", 1, 40, (v) => v.toFixed(0)) : el("span"),
      brush.mark === "tone" ? el("label", {}, el("input", { type: "checkbox", class: "form-check-input m-0", checked: brush.everywhere, onchange: (e) => { brush.everywhere = e.target.checked; } }), " everywhere, not only where it hangs together") : el("span"),
      el("p", { class: "note" }, "Mark on the flat picture what is to go: it is filled from the rest of the surface, in every map alike."), list,
      el("label", {}, el("input", { type: "checkbox", class: "form-check-input m-0", checked: !!state.showMarks, onchange: (e) => { state.showMarks = e.target.checked; } }), " show the marks"));
  };
  build();
  return { node, update: build };
}
