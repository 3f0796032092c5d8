// The texels of a bake, where somebody looks closer than any preview goes: only the part that is on screen is asked
// for.
import { bytes } from "../../base/api.js";

export const FINE = 8192; // texels along the longer side of the bake that is looked at
const PREVIEW = 4096,
  REST = 300,
  ROOM = 2048;

export class Fine {
  constructor(flat) {
    this.flat = flat;
    this.canvas = document.createElement("canvas");
    this.of = ""; // which picture it is part of: material state and thread
    this.box = null; // left, top, right, bottom in texels of the bake
    this.sequence = 0;
    for (const event of ["draft", "material", "before"])
      flat.state.on(event, () => {
        this.box = null;
      });
  }

  get wanted() {
    return `${this.flat.state.material?.head} ${this.flat.pane.thread} ${JSON.stringify(this.flat.pane.reading())}`;
  }
  get shown() {
    return !!this.box && this.of === this.wanted;
  }
  get needed() {
    const { flat } = this,
      { state } = flat;
    return (
      flat.mm &&
      flat.mode === "flat" &&
      !state.draft &&
      !state.before &&
      !flat.pair.on &&
      !flat.pane.row &&
      !flat.hand.active &&
      Math.max(...flat.mm) * flat.layout()[2] * devicePixelRatio > 1.25 * PREVIEW
    );
  }

  soon() {
    clearTimeout(this.rest);
    if (this.needed) this.rest = setTimeout(() => this.ask(), REST);
    else this.box = null;
  }

  // What is on screen, in texels of the bake
  visible() {
    const { flat } = this,
      [left, top, scale] = flat.layout(),
      pane = flat.pane.node.getBoundingClientRect(),
      texel = Math.max(...flat.mm) / FINE;
    const [w, h] = flat.mm.map(mm => Math.round(mm / texel)),
      at = v => v / scale / texel;
    const box = [
      Math.floor(at(-left)),
      Math.floor(at(-top)),
      Math.ceil(at(pane.width - left)),
      Math.ceil(at(pane.height - top)),
    ];
    return [Math.max(0, box[0]), Math.max(0, box[1]), Math.min(w, box[2]), Math.min(h, box[3])];
  }

  async ask() {
    if (!this.needed) return;
    const box = this.visible(),
      of = this.wanted,
      { flat } = this,
      sequence = ++this.sequence;
    if (box[2] <= box[0] || box[3] <= box[1] || box[2] - box[0] > ROOM || box[3] - box[1] > ROOM) return;
    if (this.shown && box.every((v, i) => (i < 2 ? v >= this.box[i] : v <= this.box[i]))) return; // it is all there
    try {
      const answer = await bytes(`${flat.state.path}/window`, {
        thread: flat.pane.thread,
        size: FINE,
        box,
        ...flat.pane.reading(),
        view: `${flat.asking.view}-fine`,
        sequence,
      });
      if (!answer || sequence !== this.sequence || of !== this.wanted) return;
      const [x0, y0, x1, y1] = answer.headers.get("x-box").split(" ").map(Number);
      this.canvas.width = x1 - x0;
      this.canvas.height = y1 - y0;
      this.canvas
        .getContext("2d")
        .putImageData(new ImageData(new Uint8ClampedArray(answer.data), x1 - x0, y1 - y0), 0, 0);
      this.box = [x0, y0, x1, y1];
      this.of = of;
      flat.pane.node.dataset.fine = this.box.join();
      flat.draw();
    } catch (error) {
      flat.pane.say(error.message);
    }
  }

  draw(c, left, top, w, h) {
    if (!this.shown || !this.needed) return;
    const texel = Math.max(...this.flat.mm) / FINE,
      k = w / (this.flat.mm[0] / texel),
      l = h / (this.flat.mm[1] / texel),
      [x0, y0, x1, y1] = this.box;
    c.imageSmoothingEnabled = k < 3;
    c.drawImage(this.canvas, left + x0 * k, top + y0 * l, (x1 - x0) * k, (y1 - y0) * l);
  }
}
