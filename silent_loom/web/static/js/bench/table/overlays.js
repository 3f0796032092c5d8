// What lies over a flat picture: borders of elements, a mask in its dye, the sun that lit the photo, a profile's line.
import { el, post, svg } from "../../base/api.js";
import { length } from "../../base/units.js";

const SUN = 13; // radius in pixels

export class Laid {
  constructor(flat) {
    this.flat = flat;
    this.state = flat.state;
    this.picture = null;
    this.asked = "";
    this.line = null; // two ends of a profile, in parts of the sheet
    for (const event of ["chosen", "material", "overlay"]) this.state.on(event, () => this.look());
    this.state.on("draft", () => {
      if (this.sunny) this.flat.draw();
    });
    this.graph = el("div", { class: "profile tools", hidden: true });
    flat.extra.push(this.graph);
  }

  get row() {
    const row = this.state.row(this.state.chosen);
    return row && !row.resting && !row.group ? row : null;
  }
  get flatly() {
    return ["flat", "half"].includes(this.flat.mode);
  }

  // Which picture lies over the map now: its address, and the dye that it is shown in
  wanted() {
    const row = this.row;
    if (!row || row.error) return null;
    const made = kind =>
      Object.keys(row.knots).find(
        name =>
          row.knots[name] !== "reads" && this.state.threads.some(t => t.name === name && t.kind === kind && t.made),
      );
    if (this.state.steps[row.step]?.panel === "elements") {
      const id = made("id");
      return id ? { path: `borders/${id}.png` } : null;
    }
    const mask =
      this.state.showMask && row.mask
        ? row.mask.thread
        : (this.state.can(row, "marks") || this.state.can(row, "shown")) && this.state.showMask !== false
          ? made("data")
          : null;
    const meaning = this.state.threads.find(t => t.name === mask);
    return meaning?.made && meaning.masks && !meaning.unit ? { path: `cover/${mask}.png`, dye: meaning.dye } : null;
  }

  async look() {
    const wish = this.flat.pane.node.isConnected ? this.wanted() : null,
      key = wish ? `${wish.path} ${this.state.material.head}` : "";
    if (key === this.asked) {
      this.flat.draw();
      return;
    }
    this.asked = key;
    if (!wish) {
      if (this.picture) {
        this.picture = null;
        delete this.flat.pane.node.dataset.over;
      }
      this.flat.draw();
      return;
    }
    const next = new Image();
    next.onload = () => {
      if (this.asked !== key) return;
      this.picture = wish.dye ? tinted(next, dyeOf(this.flat.pane.node, wish.dye)) : next;
      this.flat.pane.node.dataset.over = wish.path;
      this.flat.draw();
    };
    next.src = `${this.state.path}/${wish.path}?size=1024&at=${this.state.material.head}`;
  }

  tile(c, x, y, w, h) {
    if (this.picture) {
      c.imageSmoothingEnabled = true;
      c.drawImage(this.picture, x, y, w, h);
    }
  }

  // --- the sun ---------------------------------------------------------------------------------------------------

  get light() {
    const row = this.row;
    if (!row || !this.state.can(row, "shading")) return null;
    const draft = this.state.draft;
    return (
      (draft && draft.step_id === row.id && "light_deg" in draft.settings ? draft.settings : row.settings).light_deg ??
      null
    );
  }
  get sunny() {
    return this.flat.mode === "flat" && this.light !== null && !!this.flat.mm;
  }

  sun() {
    const [left, top, scale] = this.flat.layout(),
      w = this.flat.mm[0] * scale,
      h = this.flat.mm[1] * scale;
    const a = (this.light * Math.PI) / 180,
      far = Math.min(w, h) / 2 - SUN - 6,
      cx = left + w / 2,
      cy = top + h / 2;
    return { x: cx + far * Math.cos(a), y: cy - far * Math.sin(a), cx, cy };
  }

  after(c) {
    if (this.sunny) {
      const { x, y, cx, cy } = this.sun();
      this.flat.pane.node.dataset.sun = `${x.toFixed(1)},${y.toFixed(1)}`;
      for (const [style, width] of [
        ["rgba(38,37,35,.8)", 4],
        ["#ffd23e", 1.6],
      ]) {
        c.strokeStyle = style;
        c.lineWidth = width;
        c.beginPath();
        c.moveTo(x, y);
        c.lineTo(cx + (x - cx) * 0.35, cy + (y - cy) * 0.35);
        c.stroke();
        c.beginPath();
        c.arc(x, y, SUN, 0, 7);
        c.stroke();
      }
      c.fillStyle = "#ffd23e";
      c.beginPath();
      c.arc(x, y, SUN - 3, 0, 7);
      c.fill();
    } else delete this.flat.pane.node.dataset.sun;
    if (this.line && this.flat.mode === "flat") {
      const [left, top, scale] = this.flat.layout(),
        mm = this.flat.mm;
      /** @type {(place: number[]) => [number, number]} */
      const at = ([u, v]) => [left + u * mm[0] * scale, top + v * mm[1] * scale];
      for (const [style, width] of [
        ["#262523", 4],
        ["#ffd23e", 1.8],
      ]) {
        c.strokeStyle = style;
        c.lineWidth = width;
        c.beginPath();
        c.moveTo(...at(this.line[0]));
        c.lineTo(...at(this.line[1]));
        c.stroke();
        for (const p of this.line) {
          c.beginPath();
          c.arc(...at(p), 5, 0, 7);
          c.stroke();
        }
      }
    }
  }

  // --- pointer ---------------------------------------------------------------------------------------------------

  // Takes a press on the sun, or one that draws a profile; anything else is somebody else's
  down(event) {
    if (event.button !== 0 || !this.flat.mm) return false;
    if (this.sunny) {
      const { x, y } = this.sun();
      if (Math.hypot(event.offsetX - x, event.offsetY - y) <= SUN + 5) {
        this.moved(
          event,
          e => this.turn(e),
          () => this.state.settle(),
        );
        return true;
      }
    }
    if (!this.profiling || this.flat.mode !== "flat") return false;
    const start = this.place(event);
    this.line = [start, start];
    this.moved(
      event,
      e => {
        this.line = [start, this.place(e)];
        this.flat.draw();
      },
      () => this.askProfile(),
    );
    return true;
  }

  moved(event, move, done) {
    const canvas = this.flat.canvas;
    canvas.setPointerCapture(event.pointerId);
    canvas.addEventListener("pointermove", move);
    canvas.addEventListener(
      "pointerup",
      () => {
        canvas.removeEventListener("pointermove", move);
        done();
      },
      { once: true },
    );
  }

  turn(event) {
    const { cx, cy } = this.sun();
    const angle = (Math.atan2(cy - event.offsetY, event.offsetX - cx) * 180) / Math.PI;
    this.state.try(this.row.id, { light_deg: Math.round((angle + 360) % 360) });
    this.flat.draw();
  }

  place(event) {
    const [left, top, scale] = this.flat.layout(),
      mm = this.flat.mm;
    return [
      Math.max(0, Math.min(1, (event.offsetX - left) / (mm[0] * scale))),
      Math.max(0, Math.min(1, (event.offsetY - top) / (mm[1] * scale))),
    ];
  }

  // --- the profile -----------------------------------------------------------------------------------------------

  profile(on) {
    this.profiling = on;
    if (!on) {
      this.line = null;
      this.graph.hidden = true;
    }
    this.flat.draw();
  }

  async askProfile() {
    const [a, b] = this.line || [];
    if (!a || Math.hypot(a[0] - b[0], a[1] - b[1]) < 0.004) {
      this.line = null;
      this.graph.hidden = true;
      this.flat.draw();
      return;
    }
    const threads = this.state.threads.filter(t => t.made && t.kind === "data"),
      own = threads.find(t => t.name === this.flat.pane.thread);
    const thread = own || threads.find(t => t.unit === "mm") || threads[0];
    if (!thread) {
      this.flat.pane.say("There is no map of plain numbers to draw a profile of.");
      return;
    }
    try {
      const found = await post(`${this.state.path}/profile`, { thread: thread.name, start: a, end: b });
      this.show(found, thread);
    } catch (e) {
      this.flat.pane.say(e.message);
    }
  }

  show(found, thread) {
    const W = 300,
      H = 96,
      { values } = found,
      low = Math.min(...values),
      high = Math.max(...values),
      span = Math.max(high - low, 1e-9);
    const unit = found.unit ? ` ${found.unit}` : "",
      x = i => 4 + (i * (W - 8)) / (values.length - 1),
      y = v => H - 8 - ((v - low) / span) * (H - 16);
    const graph = svg(
      "svg",
      { class: "drawn", viewBox: `0 0 ${W} ${H}`, role: "img", "aria-label": `Profile of ${thread.title}` },
      svg("path", {
        class: "graph",
        d: values.map((v, i) => `${i ? "L" : "M"}${x(i).toFixed(1)} ${y(v).toFixed(1)}`).join(""),
      }),
    );
    this.graph.hidden = false;
    this.graph.replaceChildren(
      el("b", {}, `${thread.title} along ${length(+found.length_mm.toPrecision(3))}`),
      graph,
      el(
        "span",
        { class: "quiet" },
        `${low.toFixed(2)} to ${high.toFixed(2)}${unit}: ${span.toFixed(2)}${unit} from lowest to highest`,
      ),
    );
    this.flat.pane.node.dataset.profile = span.toFixed(3);
  }
}

function tinted(image, colour) {
  const canvas = document.createElement("canvas"),
    c = canvas.getContext("2d");
  canvas.width = image.naturalWidth;
  canvas.height = image.naturalHeight;
  c.drawImage(image, 0, 0);
  c.globalCompositeOperation = "source-in";
  c.fillStyle = colour;
  c.fillRect(0, 0, canvas.width, canvas.height);
  return canvas;
}

function dyeOf(node, dye) {
  return getComputedStyle(node).getPropertyValue(`--${dye}`).trim() || "#d6543c";
}
