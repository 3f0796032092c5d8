// What the hand draws over a picture, on small canvases that exist only where something was drawn: a browser without
// a graphics card composes again what has changed, and a stroke changes one or two of them at a time instead of the
// whole pane.
import { el } from "../../base/api.js";

const SIDE = 160;

export class Tiles {
  constructor() {
    this.node = el("div", { class: "hand", "aria-hidden": "true" });
    this.tiles = new Map();
  }

  *touched(x0, y0, x1, y1) {
    const width = this.node.clientWidth,
      height = this.node.clientHeight,
      dpr = devicePixelRatio;
    for (let j = Math.max(0, Math.floor(y0 / SIDE)); j * SIDE < Math.min(y1, height); j++) {
      for (let i = Math.max(0, Math.floor(x0 / SIDE)); i * SIDE < Math.min(x1, width); i++) yield this.tile(i, j, dpr);
    }
  }

  // Let `draw` work, in pixels of the pane, on every tile that a box touches
  draw(x0, y0, x1, y1, draw) {
    const dpr = devicePixelRatio;
    for (const { c, i, j } of this.touched(x0, y0, x1, y1)) {
      c.setTransform(dpr, 0, 0, dpr, -i * SIDE * dpr, -j * SIDE * dpr);
      draw(c);
    }
  }

  // Cover a box, in pixels of the pane. `cover(x, y)` says how much of a place is covered, 0…1: the most that was
  // ever said of it counts, as in the stroke itself. `colour(x, y, out, at)` writes red, green, blue and 255 for the
  // whole of it
  cover(x0, y0, x1, y1, cover, colour) {
    const dpr = devicePixelRatio;
    for (const tile of this.touched(x0, y0, x1, y1)) {
      const side = tile.c.canvas.width,
        left = tile.i * SIDE,
        top = tile.j * SIDE;
      tile.image ??= tile.c.createImageData(side, side);
      tile.most ??= new Uint8Array(side * side);
      const { most } = tile,
        { data } = tile.image;
      const ax = Math.max(0, Math.floor((x0 - left) * dpr)),
        bx = Math.min(side, Math.ceil((x1 - left) * dpr));
      const ay = Math.max(0, Math.floor((y0 - top) * dpr)),
        by = Math.min(side, Math.ceil((y1 - top) * dpr));
      for (let y = ay; y < by; y++) {
        const py = top + (y + 0.5) / dpr;
        for (let x = ax; x < bx; x++) {
          const px = left + (x + 0.5) / dpr,
            q = Math.round(255 * cover(px, py)),
            at = y * side + x;
          if (q <= most[at]) continue;
          if (!most[at]) colour(px, py, data, 4 * at);
          most[at] = q;
          data[4 * at + 3] = q;
        }
      }
      if (bx > ax && by > ay) tile.c.putImageData(tile.image, 0, 0, ax, ay, bx - ax, by - ay);
    }
  }

  tile(i, j, dpr) {
    const key = `${i}:${j}`,
      side = Math.round(SIDE * dpr);
    let tile = this.tiles.get(key);
    if (!tile || tile.c.canvas.width !== side) {
      tile?.c.canvas.remove();
      const canvas = el("canvas", { width: side, height: side });
      Object.assign(canvas.style, {
        left: `${i * SIDE}px`,
        top: `${j * SIDE}px`,
        width: `${SIDE}px`,
        height: `${SIDE}px`,
      });
      tile = { i, j, c: canvas.getContext("2d", { willReadFrequently: true }), image: null, most: null };
      this.tiles.set(key, tile);
    }
    if (!tile.c.canvas.isConnected) this.node.append(tile.c.canvas);
    return tile;
  }

  clear() {
    for (const { c, image, most } of this.tiles.values()) {
      if (!c.canvas.isConnected) continue;
      c.setTransform(1, 0, 0, 1, 0, 0);
      c.clearRect(0, 0, c.canvas.width, c.canvas.height);
      image?.data.fill(0);
      most?.fill(0);
      c.canvas.remove();
    }
  }
}
