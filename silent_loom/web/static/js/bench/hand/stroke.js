// The shape of a stroke on the screen: the same that the application lays (see core/tiling/repair.py), for a passing
// preview.

// How much of a place the way from one dab to the next covers, 0…1; a dab is { x, y, r, alpha }, all in pixels
export function coverOf(a, b, softness) {
  const dx = b.x - a.x,
    dy = b.y - a.y,
    length = Math.hypot(dx, dy),
    shrink = length > 0 ? (a.r - b.r) / length : 0;
  const lean = Math.abs(shrink) < 1 ? shrink / Math.sqrt(1 - shrink * shrink) : 0;
  return (x, y) => {
    let t = length === 0 && (b.r > a.r || b.alpha > a.alpha) ? 1 : 0; // pressed harder without moving
    if (length > 0 && shrink < 1) {
      t = 1;
      if (shrink > -1) {
        const along = ((x - a.x) * dx + (y - a.y) * dy) / length,
          aside = Math.abs((x - a.x) * dy - (y - a.y) * dx) / length;
        t = Math.min(Math.max((along - aside * lean) / length, 0), 1);
      }
    }
    const reach = a.r + t * (b.r - a.r),
      ex = x - a.x - t * dx,
      ey = y - a.y - t * dy,
      soft = Math.max(softness * reach, 1);
    const q = Math.min(Math.max(0.5 + (reach - 0.5 * softness * reach - Math.sqrt(ex * ex + ey * ey)) / soft, 0), 1);
    return (q + (1 - 1 / soft) * (q * q * (3 - 2 * q) - q)) * (a.alpha + t * (b.alpha - a.alpha));
  };
}

// The picture of a flat view as numbers, at the scale of the screen where that is the smaller one
export class Looked {
  /** @type {number} */
  w;
  /** @type {number} */
  h;
  /** @type {Uint8ClampedArray} */
  data;

  constructor() {
    this.key = null;
  }

  at(flat) {
    const { sheet } = flat,
      scale = flat.layout()[2] * devicePixelRatio;
    const shrunk = flat.mm[0] * scale < sheet.width;
    const w = shrunk ? Math.max(1, Math.round(flat.mm[0] * scale)) : sheet.width,
      h = shrunk ? Math.max(1, Math.round(flat.mm[1] * scale)) : sheet.height;
    const key = `${flat.key}:${w}:${h}`;
    if (key === this.key) return this;
    let c = flat.pen;
    if (shrunk) {
      const small = document.createElement("canvas");
      small.width = w;
      small.height = h;
      c = small.getContext("2d", { willReadFrequently: true });
      c.imageSmoothingQuality = "high";
      c.drawImage(sheet, 0, 0, w, h);
    }
    Object.assign(this, { key, w, h, data: c.getImageData(0, 0, w, h).data });
    return this;
  }

  // The colour at a place given as parts of the sheet, going on round the edges
  read(u, v, out, at) {
    const x = Math.floor((u - Math.floor(u)) * this.w),
      y = Math.floor((v - Math.floor(v)) * this.h),
      from = 4 * (y * this.w + x);
    out[at] = this.data[from];
    out[at + 1] = this.data[from + 1];
    out[at + 2] = this.data[from + 2];
  }
}
