// The hand on a flat picture: strokes of repair, marks of clean, a place that is picked. What it draws here is a
// passing preview; the application lays the stroke itself and answers with the exact map.
import { coverOf, Looked } from "./stroke.js";
import { Tiles } from "../table/tiles.js";

// What a row takes of the hand: "strokes", "regions" or nothing; told by the settings that its step declares
export const handOf = (state, row) =>
  state.steps[row?.step]?.fields.find(f => ["strokes", "regions"].includes(f.kind))?.kind;

// What the tools are set to; kept for the window, not in the material.
export const brush = {
  tool: "clone",
  radius: 0.04,
  softness: 0.5,
  strength: 1,
  colour: "#7a756b",
  threads: "all",
  layer: 0,
  fixed: false,
  source: null,
  aligned: null,
  mark: "outline",
  tolerance: 8,
  everywhere: false,
  away: false,
  value: null,
  slope: null,
  by: 0.5,
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
    addEventListener("beforeunload", e => {
      if (this.pending) e.preventDefault();
    });
  }

  get row() {
    const row = this.state.row(this.state.chosen);
    return row && !row.resting && handOf(this.state, row) ? row : null;
  }
  get marks() {
    return handOf(this.state, this.row) === "regions";
  }
  // The hand works on the sheet as it comes out of its row: later rows may change its size
  get below() {
    return this.row ? this.row.id : this.state.picking ? this.state.picking.below : null;
  }
  get active() {
    return !!(this.row || this.state.picking) && WORKED.includes(this.flat.mode);
  }

  place(event) {
    const [left, top, scale] = this.flat.layout(),
      mm = this.flat.mm,
      shift = this.flat.mode === "half" ? 0.5 : 0;
    const at = [(event.offsetX - left) / (mm[0] * scale) + shift, (event.offsetY - top) / (mm[1] * scale) + shift];
    // In a bond, what is drawn follows the copy of the sheet in which it was begun
    if (!this.points) this.bonded = this.flat.bondAt(...at);
    return [at[0] + this.bonded[0], at[1] + this.bonded[1]];
  }

  // By how many pixels a box has to be moved so that it shows on every copy of the sheet that is seen
  *copies(x0, y0, x1, y1) {
    const { flat } = this,
      [left, top, scale] = flat.layout(),
      w = flat.mm[0] * scale,
      h = flat.mm[1] * scale;
    const [ax, ay, aw, ah] = flat.fills ? flat.area() : [left, top, w, h];
    if (!flat.wraps) {
      yield [0, 0, ax, ay, ax + aw, ay + ah];
      return;
    }
    for (let i = Math.ceil((ax - x1) / w); i <= Math.floor((ax + aw - x0) / w); i++) {
      for (let j = Math.ceil((ay - y1) / h); j <= Math.floor((ay + ah - y0) / h); j++)
        yield [i * w, j * h, ax, ay, ax + aw, ay + ah];
    }
  }

  down(event) {
    if (!this.active || event.button !== 0 || !this.flat.mm) return false;
    const at = this.place(event);
    if (this.state.picking) {
      this.state.picking.take(((at[0] % 1) + 1) % 1, ((at[1] % 1) + 1) % 1);
      return true;
    }
    const clones = ["clone", "heal"].includes(brush.tool) && !this.marks;
    if (clones && (event.altKey || !brush.source)) {
      brush.source = at;
      brush.aligned = null;
      this.flat.pane.say("This is the source. Now paint where it is wanted.");
      this.state.emit("brush");
      this.hover(event);
      return true;
    }
    if (this.marks && brush.mark === "element") {
      this.mark({ kind: "element", points: [wrapped(at)] });
      return true;
    }
    if (this.marks && brush.mark === "tone") {
      this.mark({ kind: "tone", points: [wrapped(at)], tolerance: brush.tolerance, everywhere: brush.everywhere });
      return true;
    }
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
    if (!this.marks || brush.mark !== "outline") this.lay(this.points[0], this.points[0]);
    const move = e => {
      for (const part of e.getCoalescedEvents?.().length ? e.getCoalescedEvents() : [e])
        this.draw(this.place(part), this.force(part));
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

  force(event) {
    return event.pointerType === "pen" ? Math.max(0.02, event.pressure) : 1;
  }
  get longer() {
    return Math.max(...this.flat.mm);
  }

  draw(at, force) {
    const last = this.points[this.points.length - 1],
      mm = this.flat.mm;
    const step = Math.max(0.15 * brush.radius * this.longer, 0.3);
    if (Math.hypot((at[0] - last[0]) * mm[0], (at[1] - last[1]) * mm[1]) < step) return;
    this.points.push([...at, force]);
    if (this.marks && brush.mark === "outline") this.outline();
    else this.lay(last, this.points[this.points.length - 1]);
  }

  size() {
    if (!this.over.node.isConnected) this.flat.canvas.after(this.over.node);
  }

  screen(at) {
    const [left, top, scale] = this.flat.layout(),
      mm = this.flat.mm,
      shift = this.flat.mode === "half" ? 0.5 : 0;
    return [left + (at[0] - shift) * mm[0] * scale, top + (at[1] - shift) * mm[1] * scale, scale];
  }

  // The way from one dab to the next, as the application will lay it, on the sheet and where it comes in again
  lay(from, to, strength = brush.strength) {
    const { flat } = this,
      [left, top, scale] = flat.layout(),
      w = flat.mm[0] * scale,
      h = flat.mm[1] * scale;
    const marks = this.marks,
      colour = this.colour(left, top, w, h);
    const dabs = [from, to].map(p => {
      const [x, y] = this.screen(p),
        force = marks ? 1 : p[2];
      return {
        x,
        y,
        r: Math.max(0.5, brush.radius * this.longer * scale * Math.max(force, 0.05)),
        alpha: marks ? 1 : force * strength,
      };
    });
    const r = Math.max(dabs[0].r, dabs[1].r) + 1,
      [bx0, by0, bx1, by1] = around(dabs.map(d => [d.x, d.y]));
    for (const [dx, dy, left, top, right, bottom] of this.copies(bx0 - r, by0 - r, bx1 + r, by1 + r)) {
      const [a, b] = dabs.map(d => ({ ...d, x: d.x + dx, y: d.y + dy }));
      const x0 = Math.max(left, bx0 + dx - r),
        x1 = Math.min(right, bx1 + dx + r);
      const y0 = Math.max(top, by0 + dy - r),
        y1 = Math.min(bottom, by1 + dy + r);
      if (x1 > x0 && y1 > y0) this.over.cover(x0, y0, x1, y1, coverOf(a, b, marks ? 0 : brush.softness), colour);
    }
  }

  colour(left, top, w, h) {
    const marks = this.marks;
    if (!marks && ["clone", "heal"].includes(brush.tool)) {
      const looked = this.looked.at(this.flat),
        shift = this.flat.mode === "half" ? 0.5 : 0,
        [du, dv] = brush.aligned;
      return (x, y, out, at) => looked.read((x - left) / w + shift + du, (y - top) / h + shift + dv, out, at);
    }
    const code = marks
      ? "#d6543c"
      : { paint: brush.colour, erase: "#ffffff", soften: "#78a0d2", lighten: "#ffffff", darken: "#202020" }[brush.tool];
    const [r, g, b] = [1, 3, 5].map(k => parseInt(code.slice(k, k + 2), 16));
    return (x, y, out, at) => {
      out[at] = r;
      out[at + 1] = g;
      out[at + 2] = b;
    };
  }

  // Softening and erasing, and marks, are only hinted at: a veil
  get veil() {
    return this.marks ? 0.5 : ["erase", "soften", "lighten", "darken"].includes(brush.tool) ? 0.35 : 1;
  }

  outline() {
    this.clear();
    this.everywhere(this.points, 3, c => {
      c.fillStyle = "rgba(214, 84, 60, .28)";
      c.fill();
      for (const [style, width] of [
        ["#262523", 3],
        ["#efede8", 1.2],
      ]) {
        c.strokeStyle = style;
        c.lineWidth = width;
        c.stroke();
      }
    });
  }

  // What the brush would lay, before it is laid; and where it takes it from
  hover(event) {
    if (!this.active || this.points || !this.flat.mm) {
      if (!this.points) this.clear();
      return;
    }
    this.size();
    this.over.node.style.opacity = 1;
    const at = this.place(event),
      [x, y, scale] = this.screen(at),
      row = this.row;
    if (this.pending) return;
    this.clear();
    this.shown();
    if (!row || (this.marks && brush.mark !== "brush")) return;
    const r = brush.radius * this.longer * scale;
    const clones = !this.marks && ["clone", "heal"].includes(brush.tool);
    if (clones && brush.source) {
      const keep = brush.aligned;
      if (brush.fixed || !keep) brush.aligned = [brush.source[0] - at[0], brush.source[1] - at[1]];
      this.lay([...at, 1], [...at, 1], 0.85 * brush.strength);
      const [sx, sy] = this.screen([at[0] + brush.aligned[0], at[1] + brush.aligned[1]]);
      this.ring(sx, sy, Math.max(4, r * 0.5));
      brush.aligned = keep;
    } else if (!this.marks && brush.tool === "paint") this.lay([...at, 1], [...at, 1], 0.6 * brush.strength);
    this.ring(x, y, r);
  }

  // Marks of clean that are there already
  shown() {
    const row = this.row;
    if (!row || !this.marks || !this.state.showMarks) return;
    for (const region of row.settings.regions) {
      const picked = ["tone", "element"].includes(region.kind);
      const width = region.kind === "brush" ? 2 * region.radius * this.longer * this.flat.layout()[2] : 1.5;
      this.everywhere(region.points, picked ? 7 : width, (c, points) => {
        if (picked)
          for (const [x, y] of points) {
            c.moveTo(x + 5, y);
            c.arc(x, y, 5, 0, 7);
          }
        if (region.kind === "outline") c.closePath();
        c.lineWidth = width;
        c.lineCap = c.lineJoin = "round";
        c.strokeStyle = region.kind === "brush" ? "rgba(214,84,60,.35)" : "#d6543c";
        c.stroke();
      });
    }
  }

  // A line through places, drawn on every copy of the sheet where it is seen
  everywhere(places, margin, paint) {
    const at = places.map(q => this.screen(q)),
      [x0, y0, x1, y1] = around(at);
    for (const [dx, dy, ax, ay, bx, by] of this.copies(x0 - margin, y0 - margin, x1 + margin, y1 + margin)) {
      const points = at.map(([x, y]) => [x + dx, y + dy]);
      this.over.draw(
        Math.max(ax, x0 + dx - margin),
        Math.max(ay, y0 + dy - margin),
        Math.min(bx, x1 + dx + margin),
        Math.min(by, y1 + dy + margin),
        c => {
          c.save();
          c.beginPath();
          c.rect(ax, ay, bx - ax, by - ay);
          c.clip();
          c.beginPath();
          points.forEach(([x, y], i) => (i ? c.lineTo(x, y) : c.moveTo(x, y)));
          paint(c, points);
          c.restore();
        },
      );
    }
  }

  ring(x, y, r) {
    this.over.draw(x - r - 2, y - r - 2, x + r + 2, y + r + 2, c => {
      for (const [style, width] of [
        ["#262523", 2.5],
        ["#efede8", 1],
      ]) {
        c.strokeStyle = style;
        c.lineWidth = width;
        c.beginPath();
        c.arc(x, y, r, 0, 7);
        c.stroke();
      }
    });
  }

  async finish() {
    const row = this.row,
      points = this.points && ontoSheet(this.points, this.flat.wraps);
    this.points = null;
    if (!row || !points) return;
    if (handOf(this.state, row) === "regions") {
      if (brush.mark === "outline" && points.length < 3) {
        this.clear();
        return;
      }
      await this.mark({
        kind: brush.mark,
        points: points.map(([u, v]) => [+u.toFixed(6), +v.toFixed(6)]),
        radius: brush.radius,
      });
      return;
    }
    const mm = this.flat.mm,
      round = v => +v.toFixed(4);
    const stroke = {
      tool: brush.tool,
      radius_mm: round(brush.radius * this.longer),
      softness: brush.softness,
      strength: brush.strength,
      points: points.map(([u, v, f]) => [round(u * mm[0]), round(v * mm[1]), +f.toFixed(3)]),
    };
    if (brush.tool === "paint") Object.assign(stroke, { colour: brush.colour, value: brush.value, slope: brush.slope });
    if (["lighten", "darken"].includes(brush.tool)) stroke.by = brush.by;
    if (brush.aligned && ["clone", "heal"].includes(brush.tool))
      stroke.offset_mm = [round(brush.aligned[0] * mm[0]), round(brush.aligned[1] * mm[1])];
    const layers = structuredClone(this.latest(row, "layers"));
    if (!layers.length) layers.push({ name: "Layer 1", on: true, threads: brush.threads, strokes: [] });
    const layer = layers[Math.min(brush.layer, layers.length - 1)];
    layer.strokes.push(stroke);
    this.flat.pane.node.dataset.strokeEnded = String(performance.now());
    await this.keep(row, { layers });
  }

  async mark(region) {
    const row = this.row;
    const made = brush.away && !this.state.can(row, "fill") ? { ...region, erase: true } : region;
    await this.keep(row, { regions: [...this.latest(row, "regions"), made] });
  }

  // A second stroke goes on top of one that is still being written
  latest(row, key) {
    return this.ahead?.id === row.id ? this.ahead.settings[key] : row.settings[key];
  }

  // The preview stays until the application's own picture is there
  async keep(row, settings) {
    const ahead = (this.ahead = { id: row.id, settings });
    this.pending++;
    const seen = this.flat.soon(row.id, settings).then(took => {
      if (took && this.ahead === ahead && !this.points) this.clear();
    });
    // The picture first, for the hand waits for it: writing and what follows from it take the same cores. Strokes in
    // their order
    const before = this.written;
    this.written = (async () => {
      await Promise.race([seen, new Promise(done => setTimeout(done, 400))]);
      await before;
      await this.state.change({ kind: "settings", step_id: row.id, settings });
      this.pending--;
      if (this.ahead === ahead) this.ahead = null;
      this.stale = true;
      this.flat.ask();
    })();
    await this.written;
  }

  answered() {
    if (this.stale && !this.pending && !this.points) {
      this.stale = false;
      this.clear();
    }
  }
  clear() {
    this.over.clear();
  }
}

const WORKED = ["flat", "half", "repeat"];
// The same way, begun on the sheet itself: what is drawn on a repeat is drawn on the sheet
const ontoSheet = (points, wraps) => {
  const [du, dv] = wraps ? points[0].map(Math.floor) : [0, 0];
  return points.map(([u, v, ...more]) => [u - du, v - dv, ...more]);
};
/** @param {number[]} at */
const wrapped = ([u, v]) => [+(((u % 1) + 1) % 1).toFixed(6), +(((v % 1) + 1) % 1).toFixed(6)];
function around(points) {
  const xs = points.map(p => p[0]),
    ys = points.map(p => p[1]);
  return [Math.min(...xs), Math.min(...ys), Math.max(...xs), Math.max(...ys)];
}
