// The UV layout as a drawing: islands and their borders, by number, by how many texels they get, or by their stretch.
import { svg } from "../base/api.js";

// From few to many, and from even to stretched: told apart by lightness as well as by hue
const SCALE = ["#2b5f8a", "#4f8f8b", "#a3a857", "#d99a3d", "#c2522d"];

const share = (value, low, high) => Math.max(0, Math.min(1, (value - low) / Math.max(high - low, 1e-9)));

export class Layout {
  /**
   * @param {SVGElement} node
   * @param {(island: ?number) => void} chosen
   */
  constructor(node, chosen) {
    this.node = node;
    this.chosen = chosen;
    /** @type {any[]} */
    this.paths = [];
  }

  /** Draw what was found of a model; gives the words that explain its colours.
   * @param {any} found
   * @param {string} by
   */
  draw(found, by) {
    this.paths = [];
    const square = svg("rect", { class: "uv-square", x: 0, y: 0, width: 1, height: 1 });
    this.node.replaceChildren(square);
    if (!found) return "";
    const rows = found.check.islands;
    const dense = found.check.texels_per_cm;
    found.outlines.forEach((lines, number) => {
      const d = lines.map(line => `M${line.map(([u, v]) => `${u} ${(1 - v).toFixed(5)}`).join("L")}Z`).join("");
      const path = svg("path", { class: "island", d, "data-island": number, tabindex: -1 });
      path.style.fill = this.colour(rows[number], number, by, dense);
      path.addEventListener("click", () => this.point([number]));
      path.append(svg("title", {}, `Island ${number}`));
      this.node.append(path);
      this.paths.push(path);
    });
    // Everything that reaches out of the square stays in sight
    const boxes = rows.map(r => r.box);
    const low = [0, 1].map(k => Math.min(0, ...boxes.map(b => (k ? 1 - b[3] : b[0]))));
    const high = [0, 1].map(k => Math.max(1, ...boxes.map(b => (k ? 1 - b[1] : b[2]))));
    const pad = 0.03 * Math.max(high[0] - low[0], high[1] - low[1]);
    const box = [low[0] - pad, low[1] - pad, high[0] - low[0] + 2 * pad, high[1] - low[1] + 2 * pad];
    this.node.setAttribute("viewBox", box.map(v => v.toFixed(4)).join(" "));
    const [least, middle, most] = [dense.least, dense.middle, dense.most].map(v => v.toFixed(1));
    if (by === "density") return `${least} to ${most} texels per cm, ${middle} in the middle`;
    if (by === "stretch") return `1 is even; the whole layout ${found.check.stretch?.toFixed(2) ?? "?"}`;
    return `${rows.length} island${rows.length === 1 ? "" : "s"}, ${Math.round(100 * (1 - found.check.empty))} % used`;
  }

  colour(row, number, by, dense) {
    if (by === "density")
      return this.scaled(share(Math.log2(row.texels_per_cm / Math.max(dense.middle, 1e-9)), -1.5, 1.5));
    if (by === "stretch") return this.scaled(share(row.stretch, 1, 3));
    return `hsl(${(number * 137.5) % 360} 38% ${52 + 9 * (number % 3)}%)`;
  }

  scaled(t) {
    return SCALE[Math.min(SCALE.length - 1, Math.floor(t * SCALE.length))];
  }

  /** Show which islands are meant.
   * @param {number[]} islands
   */
  point(islands) {
    this.paths.forEach((p, k) => p.classList.toggle("meant", islands.includes(k)));
    for (const k of islands) if (this.paths[k]) this.node.append(this.paths[k]); // over the others
    this.chosen(islands.length ? islands[0] : null);
  }
}
