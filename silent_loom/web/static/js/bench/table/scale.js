// True size on the picture: a figure of our own, 1.75 m tall, and a rule.
import { cm } from "../../base/api.js";

// A keeper in a long coat and a round hat, as one outline; 0…1 from the head down, width by the same measure
const OUTLINE = [
  [0, 0],
  [0.035, 0.004],
  [0.052, 0.03],
  [0.075, 0.045],
  [0.05, 0.055],
  [0.052, 0.09],
  [0.04, 0.125],
  [0.1, 0.165],
  [0.125, 0.21],
  [0.135, 0.36],
  [0.14, 0.47],
  [0.118, 0.478],
  [0.112, 0.38],
  [0.1, 0.3],
  [0.102, 0.45],
  [0.122, 0.62],
  [0.075, 0.63],
  [0.07, 0.8],
  [0.066, 0.965],
  [0.1, 0.985],
  [0.1, 1],
  [0.012, 1],
  [0.012, 0.64],
  [0, 0.64],
];

export function figure(c, x, foot, tall) {
  c.save();
  c.beginPath();
  /** @type {(at: number[], side: number) => [number, number]} */
  const at = ([u, v], side) => [x + side * u * tall, foot - tall + v * tall];
  OUTLINE.forEach((p, i) => (i ? c.lineTo(...at(p, 1)) : c.moveTo(...at(p, 1))));
  [...OUTLINE].reverse().forEach(p => c.lineTo(...at(p, -1)));
  c.closePath();
  c.fillStyle = "rgba(38, 37, 35, .82)";
  c.fill();
  c.lineWidth = 1.5;
  c.strokeStyle = "#efede8";
  c.stroke();
  c.font = "600 11px Figtree, sans-serif";
  label(c, "1.75 m", x + tall * 0.16, foot - tall * 0.94);
  c.restore();
}

export function rule(c, scale, right, y) {
  const mm = [100, 10, 1000, 1].find(n => n * scale >= 28 && n * scale <= 260);
  if (!mm) return;
  const w = mm * scale,
    x = right - w;
  c.save();
  c.font = "600 11px Figtree, sans-serif";
  for (const [style, width] of [
    ["#262523", 4],
    ["#efede8", 1.8],
  ]) {
    c.strokeStyle = style;
    c.lineWidth = width;
    c.beginPath();
    c.moveTo(x, y - 3);
    c.lineTo(x, y + 4);
    c.moveTo(x, y);
    c.lineTo(right, y);
    c.moveTo(right, y - 3);
    c.lineTo(right, y + 4);
    c.stroke();
  }
  label(c, cm(mm), x - 6 - c.measureText(cm(mm)).width, y + 4);
  c.restore();
}

function label(c, words, x, y) {
  c.lineWidth = 3;
  c.strokeStyle = "#262523";
  c.strokeText(words, x, y);
  c.fillStyle = "#efede8";
  c.fillText(words, x, y);
}
