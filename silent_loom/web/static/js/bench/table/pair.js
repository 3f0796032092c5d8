// Two states of the flat picture: wiped over each other, beside each other, one after the other, or their difference.
import { penOf } from "../../base/soft.js";
import { Asking } from "../asking.js";

const GRIP = 12; // how near the wipe a press takes hold of it

export class Pair {
  constructor(flat) {
    this.flat = flat;
    this.state = flat.state;
    this.other = this.sheet();
    this.apart = this.sheet();
    this.layers = [document.createElement("canvas"), document.createElement("canvas")];
    const say = m => flat.pane.say(m),
      busy = on => flat.pane.computing(on);
    this.asking = new Asking(this.state, a => this.took(a), say, busy);
    this.asking.of = () => this.state.seenAs(this.how.b);
    this.asking.have = size =>
      size === Math.max(this.other.canvas.width, this.other.canvas.height) ? { have: this.other.key } : {};
    this.far = new Asking(this.state, a => this.tookFar(a), say, busy);
    this.far.of = () => ({ path: this.state.path, lay: {} });
    this.state.on("compare", () => this.changed());
    this.state.on("wipe", () => this.compose(true));
  }

  sheet() {
    const canvas = document.createElement("canvas");
    return { canvas, pen: canvas.getContext("2d", { willReadFrequently: true }), key: "", mm: null };
  }
  get how() {
    return this.state.compare;
  }
  get on() {
    return !!this.how && ["flat", "repeat", "half"].includes(this.flat.mode);
  }
  get way() {
    return this.how.way;
  }

  // Other sides: what was there says nothing any more
  changed() {
    const of = this.how ? `${JSON.stringify(this.how.a)} ${JSON.stringify(this.how.b)}` : "";
    if (of !== this.of) {
      this.of = of;
      this.other.mm = this.apart.mm = null;
      this.flat.key = "";
    }
    if (this.flat.pane.current === this.flat) {
      this.flat.draw();
      this.flat.ask();
    }
  }

  ask(thread, sizes) {
    if (!this.on) return;
    if (this.way === "difference")
      this.far.ask("difference", { thread, one: this.state.sideOf(this.how.a), other: this.state.sideOf(this.how.b) }, [
        256,
        Math.min(1024, sizes[1]),
      ]);
    else {
      if (this.glanced !== `${this.of} ${thread}`) {
        this.glanced = `${this.of} ${thread}`;
        this.asking.glance({ thread });
      }
      this.asking.ask("map", { thread }, sizes);
    }
  }

  took({ headers, data }) {
    const w = +headers.get("x-width"),
      h = +headers.get("x-height"),
      { other } = this;
    if (headers.get("x-blocks") !== null) {
      if (headers.get("x-from") !== other.key || data.byteLength) {
        other.key = "";
        this.flat.ask();
      } else this.there();
      return;
    }
    other.canvas.width = w;
    other.canvas.height = h;
    other.pen.putImageData(new ImageData(new Uint8ClampedArray(data), w, h), 0, 0);
    other.key = headers.get("x-key");
    other.mm = headers.get("x-mm").split(" ").map(Number);
    this.there();
  }

  tookFar({ headers, data }) {
    const facts = JSON.parse(headers.get("x-facts")),
      { apart } = this,
      rgb = new Uint8Array(data),
      out = new Uint8ClampedArray(4 * facts.width * facts.height);
    for (let i = 0, j = 0; j < out.length; i += 3, j += 4) {
      out[j] = rgb[i];
      out[j + 1] = rgb[i + 1];
      out[j + 2] = rgb[i + 2];
      out[j + 3] = 255;
    }
    apart.canvas.width = facts.width;
    apart.canvas.height = facts.height;
    apart.pen.putImageData(new ImageData(out, facts.width, facts.height), 0, 0);
    apart.mm = this.flat.mm;
    apart.facts = facts;
    this.there();
    this.flat.pane.say(`White is ${facts.white.toPrecision(2)} ${facts.measure || "of its range"} apart or more`);
  }

  there() {
    this.flat.draw();
    const shown = this.way === "difference" ? this.apart : this.other;
    this.flat.pane.node.dataset.paired = `${this.way}:${this.flat.pane.thread}:${shown.canvas.width}`;
  }

  // Both pictures as they lie in the pane, kept while only the wipe moves
  draw(box) {
    const { flat } = this,
      first = this.way === "difference" ? this.apart : { canvas: flat.sheet, mm: flat.mm };
    this.layer(0, box, first);
    if (this.way !== "difference") this.layer(1, box, this.other);
    this.compose();
  }

  layer(i, box, { canvas: sheet, mm }) {
    const layer = this.layers[i],
      { canvas } = this.flat,
      c = penOf(layer);
    if (layer.width !== canvas.width || layer.height !== canvas.height) {
      layer.width = canvas.width;
      layer.height = canvas.height;
    }
    this.flat.ground(c, box);
    const shift = this.way === "beside" ? ((i ? 1 : -1) * box.width) / 4 : 0;
    c.save();
    c.translate(shift, 0);
    if (mm) this.flat.surface(c, box, sheet, mm);
    c.restore();
  }

  // Both put together; where only the wipe moved, no more than lies between its old and its new place, and the names
  // above
  compose(moved = false) {
    if (!this.on || !this.flat.mm) return;
    const { context: c, canvas } = this.flat,
      [one, other] = this.layers,
      { way } = this,
      box = this.flat.pane.node.getBoundingClientRect(),
      dpr = devicePixelRatio;
    const at = Math.round((way === "beside" ? 0.5 : this.how.at) * canvas.width);
    c.save();
    c.setTransform(1, 0, 0, 1, 0, 0);
    if (moved && way === "wipe" && this.wiped !== undefined) {
      const [left, right] = [Math.min(at, this.wiped), Math.max(at, this.wiped)],
        edge = 8 * dpr;
      c.beginPath();
      c.rect(left - edge, 0, right - left + 2 * edge, canvas.height);
      c.rect(0, 0, canvas.width, (this.flat.area()[1] + 28) * dpr);
      c.clip();
    }
    this.wiped = way === "wipe" ? at : undefined;
    const there = !!this.other.mm;
    if (way === "difference" || way === "blink")
      c.drawImage(way === "blink" && this.state.blinked && there ? other : one, 0, 0);
    else {
      c.drawImage(one, 0, 0, at, canvas.height, 0, 0, at, canvas.height);
      if (canvas.width > at)
        c.drawImage(
          there ? other : one,
          at,
          0,
          canvas.width - at,
          canvas.height,
          at,
          0,
          canvas.width - at,
          canvas.height,
        );
    }
    c.setTransform(dpr, 0, 0, dpr, 0, 0);
    this.marks(c, box, at / dpr);
    c.restore();
  }

  // Where the two meet, and which is which
  marks(c, box, x) {
    const { way } = this;
    if (way === "wipe" || way === "beside") {
      c.fillStyle = "#262523";
      c.fillRect(x - 1.5, 0, 3, box.height);
      c.fillStyle = "#efede8";
      c.fillRect(x - 0.5, 0, 1, box.height);
    }
    if (way === "wipe") {
      c.fillStyle = "#efede8";
      c.strokeStyle = "#262523";
      c.lineWidth = 1.5;
      c.beginPath();
      c.roundRect(x - 5, box.height / 2 - 20, 10, 40, 4);
      c.fill();
      c.stroke();
    }
    if (way === "difference") return;
    const names = [this.how.a, this.how.b].map(s => this.state.sideName(s)),
      top = this.flat.area()[1] + 6;
    c.font = "600 12px Figtree, sans-serif";
    c.textBaseline = "middle";
    const word = (text, left, right) => {
      const w = Math.min(c.measureText(text).width, right - left - 30) + 14;
      if (right - left < 50) return;
      c.fillStyle = "#262523";
      c.fillRect(left, top, w, 20);
      c.fillStyle = "#efede8";
      c.fillText(text, left + 7, top + 10.5, w - 14);
    };
    if (way === "blink") word(names[this.state.blinked ? 1 : 0], 14, box.width);
    else {
      word(names[0], 14, x);
      word(names[1], x + 8, box.width);
    }
  }

  // A press on the wipe takes hold of it
  down(event) {
    if (!this.on || this.way !== "wipe") return false;
    const { canvas } = this.flat,
      box = canvas.getBoundingClientRect();
    if (Math.abs(event.clientX - box.left - this.how.at * box.width) > GRIP) return false;
    event.preventDefault();
    const move = e => this.state.wipe(Math.max(0.02, Math.min(0.98, (e.clientX - box.left) / box.width)));
    canvas.setPointerCapture(event.pointerId);
    canvas.addEventListener("pointermove", move);
    canvas.addEventListener("pointerup", () => canvas.removeEventListener("pointermove", move), { once: true });
    return true;
  }

  // How far a picture is moved aside under a place of the pane
  shiftAt(x, width) {
    return this.on && this.way === "beside" ? ((x > width / 2 ? 1 : -1) * width) / 4 : 0;
  }
}
