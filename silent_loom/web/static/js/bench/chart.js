// The weave as a chart: threads run down, steps run across, a knot where a step touches a thread.
import { el, icon, picture as pictured, svg } from "../api.js";
import { Palette } from "./palette.js";

const ROW = 26, HEAD = 58, LANE = 17, LEFT = 160, GRIP = 26, COST = 22;

// Widths of words, to shorten what would run into the lanes
const ruler = document.createElement("canvas").getContext("2d");
function fit(words, font, room) {
  ruler.font = font;
  if (ruler.measureText(words).width <= room) return words;
  let n = words.length;
  while (n > 0 && ruler.measureText(`${words.slice(0, n)}…`).width > room) n--;
  return n ? `${words.slice(0, n)}…` : "";
}
const TITLE = "600 12.5px Figtree, sans-serif", WORDS = "430 10.5px Figtree, sans-serif";

export class Chart {
  constructor(root, state, view) {
    this.root = root;
    this.state = state;
    this.view = view;
    this.palette = new Palette(state, (step) => this.add(step));
    this.adding = el("button", { class: "act", type: "button", id: "add-step", title: "Add a step below the chosen one (A)", "aria-haspopup": "dialog", onclick: () => this.palette.open(this.adding) }, icon("plus"), "Add a step");
    this.head = el("div", { class: "weave-head" });
    this.body = el("div");
    root.append(this.head, this.body);
    this.drawn = new Map(); // a row as last drawn, by id: what has not changed stays under the pointer
    for (const event of ["material", "chosen", "figures"]) state.addEventListener(event, () => this.draw());
    root.addEventListener("pointerdown", (e) => { if (e.target.closest("[data-switch]")) this.hold(); }, true);
    root.addEventListener("keydown", (e) => this.key(e));
    root.addEventListener("scroll", () => this.hideKnot());
  }

  // Nothing is drawn anew under a pressed pointer: figures may arrive at any moment
  hold() {
    this.held = true;
    const release = () => setTimeout(() => { // after the click that ends the press
      this.held = false;
      if (this.late) this.draw();
    });
    for (const end of ["pointerup", "pointercancel"]) addEventListener(end, release, { once: true });
  }

  draw() {
    this.late = Boolean(this.held);
    if (this.held) return;
    const { rows, threads } = this.state;
    const width = LEFT + threads.length * LANE + COST + 16;
    const height = rows.length * ROW + 6;
    const hadFocus = this.root.contains(document.activeElement) ? document.activeElement.dataset.id : null;
    const lanes = svg("g"), bodies = svg("g"), names = svg("svg", { width, height: HEAD, "aria-hidden": true });
    const slowest = Math.max(0.02, ...rows.map((r) => r.seconds));
    threads.forEach((thread, i) => {
      const x = LEFT + 12 + i * LANE;
      const first = rows.findIndex((r) => r.on && ["writes", "both"].includes(r.knots[thread.name]));
      const lane = svg("g", { "data-dye": thread.dye });
      const name = svg("text", { class: "lane-name", transform: `translate(${x + 3} ${HEAD - 5}) rotate(-58)` }, thread.short);
      const dyed = svg("g", { "data-dye": thread.dye }, name);
      names.append(dyed);
      lane.append(svg("line", { class: "lane", x1: x, x2: x, y1: 0, y2: height - 6 }));
      if (first >= 0) lane.append(svg("line", { class: "run", x1: x, x2: x, y1: (first + 0.5) * ROW, y2: height - 6 }));
      lanes.append(lane);
    });
    const old = this.drawn;
    this.drawn = new Map();
    rows.forEach((row, j) => {
      const state = JSON.stringify([row, j, threads, width, slowest, row.id === this.state.chosen, this.state.figures.rows[row.id]]);
      const before = old.get(row.id);
      const drawn = before?.state === state ? before : { state, group: this.row(row, j, threads, width, slowest) };
      this.drawn.set(row.id, drawn);
      bodies.append(drawn.group);
    });
    const chart = svg("svg", { width, height, viewBox: `0 0 ${width} ${height}`, role: "listbox", "aria-label": "Steps, in the order in which they work" }, lanes, bodies);
    this.marker = svg("line", { class: "place", x1: 4, x2: width - 4, visibility: "hidden" });
    chart.append(this.marker);
    // Rows first, lanes on top of their beds: lanes must not catch the pointer
    lanes.setAttribute("pointer-events", "none");
    chart.insertBefore(bodies, lanes);
    this.head.replaceChildren(names, this.adding);
    this.body.replaceChildren(chart);
    if (hadFocus) this.root.querySelector(`[data-id="${hadFocus}"]`)?.focus();
  }

  row(row, j, threads, width, slowest) {
    const y = j * ROW, mid = y + ROW / 2, chosen = row.id === this.state.chosen;
    const notes = this.state.figures.rows[row.id] || {};
    const fault = row.error || notes.error || (notes.warnings || [])[0];
    const group = svg("g", {
      class: `course${row.on ? "" : " off"}${chosen ? " chosen" : ""}`, "data-id": row.id, "data-step": row.step, role: "option", tabindex: chosen ? 0 : -1,
      "aria-selected": chosen, "aria-label": `${row.title} ${row.words || ""}${row.on ? "" : ", switched off"}${fault ? `, ${fault}` : ""}`,
    });
    group.append(svg("rect", { class: "bed", x: 3, y: y + 1, width: width - 6, height: ROW - 2 }));
    const power = svg("g", { class: `switch${row.on ? " on" : ""}`, "data-switch": "" },
      svg("rect", { x: 5, y: mid - 8, width: 24, height: 16, fill: "transparent" }),
      svg("rect", { class: "track", x: 8, y: mid - 5, width: 17, height: 10, rx: 5 }),
      svg("circle", { class: "knob", cx: row.on ? 20 : 13, cy: mid, r: 4 }));
    power.append(svg("title", {}, row.on ? "Switch off" : "Switch on"));
    power.addEventListener("click", (e) => { e.stopPropagation(); this.flip(row); });
    group.append(power);
    const start = 6 + GRIP, title = fit(row.title, TITLE, LEFT - start - 4);
    ruler.font = TITLE;
    const after = start + ruler.measureText(title).width + 6;
    group.append(svg("text", { x: start, y: mid + 4 }, title));
    const words = svg("text", { class: "words", x: after, y: mid + 4 }, fit(row.words, WORDS, LEFT - after - (fault ? 16 : 2)));
    words.append(svg("title", {}, `${row.title}: ${row.words}`));
    group.append(words);
    // What it costs, in a column of its own; square root, so that a step of a hundredth of the slowest can still be seen
    const cost = svg("g", {}, svg("rect", { class: "cost-bed", x: width - COST - 8, y: mid - 2, width: COST, height: 4 }),
      svg("rect", { class: "cost", x: width - COST - 8, y: mid - 2, width: row.seconds > 0.0005 ? Math.max(1, COST * Math.sqrt(row.seconds / slowest)) : 0, height: 4 }));
    cost.append(svg("title", {}, row.seconds > 0.0005 ? `${(row.seconds * 1000).toFixed(0)} ms the last time it worked` : "Not worked yet, or in no time"));
    group.append(cost);
    const at = (name) => LEFT + 12 + threads.findIndex((t) => t.name === name) * LANE;
    const knots = svg("g", { class: "knots" });
    const touched = Object.keys(row.knots).filter((t) => threads.some((k) => k.name === t));
    if (touched.length) {
      const xs = touched.map(at);
      knots.append(svg("line", { class: "pick", x1: Math.min(...xs), x2: Math.max(...xs), y1: mid, y2: mid, "stroke-width": row.knots[touched[0]] === "carries" ? 3 : 1 }));
    }
    for (const name of touched) {
      const kind = row.knots[name], x = at(name), thread = threads.find((t) => t.name === name);
      const knot = kind === "carries" ? svg("rect", { x: x - 5, y: mid - 5, width: 10, height: 10 }) : svg("circle", { cx: x, cy: mid, r: kind === "reads" ? 4.4 : 5 });
      knot.setAttribute("class", `knot ${kind}`);
      knot.dataset.dye = thread.dye;
      knot.dataset.thread = name;
      knot.addEventListener("pointerenter", () => this.showKnot(row, thread, knot, kind));
      knot.addEventListener("pointerleave", () => this.hideKnot());
      knots.append(knot);
    }
    group.append(knots);
    if (fault) {
      const sign = svg("text", { class: "fault", x: LEFT - 12, y: mid + 4 }, "▲");
      sign.append(svg("title", {}, fault));
      group.append(sign);
    }
    group.addEventListener("pointerdown", (e) => this.grab(e, row, j));
    group.addEventListener("mousedown", (e) => e.preventDefault()); // the row is drawn anew; its focus is set by hand
    return group;
  }

  async add(step) {
    const known = new Set(this.state.rows.map((r) => r.id));
    const at = this.state.rows.findIndex((r) => r.id === this.state.chosen);
    await this.state.change({ kind: "add", step, to: at < 0 ? this.state.rows.length : at + 1 });
    const made = this.state.rows.find((r) => !known.has(r.id));
    if (made) this.state.choose(made.id);
  }

  flip(row) { return this.state.change({ kind: "switch", step_id: row.id, on: !row.on }); }

  grab(event, row, from) {
    if (event.button !== 0 || event.target.closest("[data-switch]")) return;
    this.state.choose(row.id);
    this.root.querySelector(`[data-id="${row.id}"]`)?.focus();
    const start = event.clientY, chart = this.body.querySelector("svg");
    this.hold();
    let to = from;
    const move = (e) => {
      if (Math.abs(e.clientY - start) < 6 && to === from) return;
      const y = e.clientY - chart.getBoundingClientRect().top;
      const gap = Math.max(0, Math.min(this.state.rows.length, Math.round(y / ROW)));
      to = gap > from ? gap - 1 : gap;
      this.marker.setAttribute("y1", gap * ROW);
      this.marker.setAttribute("y2", gap * ROW);
      this.marker.setAttribute("visibility", to === from ? "hidden" : "visible");
    };
    const up = () => {
      removeEventListener("pointermove", move);
      this.marker.setAttribute("visibility", "hidden");
      this.root.querySelector(`[data-id="${row.id}"]`)?.focus(); // the press itself took the focus to nowhere
      if (to !== from) this.state.change({ kind: "move", step_id: row.id, to });
    };
    addEventListener("pointermove", move);
    addEventListener("pointerup", up, { once: true });
    addEventListener("pointercancel", () => { to = from; up(); }, { once: true });
  }

  key(event) {
    const rows = this.state.rows, i = rows.findIndex((r) => r.id === this.state.chosen);
    if (!event.target.closest?.(".course") || i < 0) return;
    const go = (k) => { if (rows[k]) { this.state.choose(rows[k].id); this.root.querySelector(`[data-id="${rows[k].id}"]`)?.focus(); } };
    const by = { ArrowUp: -1, ArrowDown: 1 }[event.key];
    if (by && event.altKey) { if (rows[i + by]) this.state.change({ kind: "move", step_id: rows[i].id, to: i + by }); }
    else if (by) go(i + by);
    else if (event.key === "Home") go(0);
    else if (event.key === "End") go(rows.length - 1);
    else if (event.key === " ") this.flip(rows[i]);
    else if (event.key === "Delete") this.state.change({ kind: "remove", step_id: rows[i].id });
    else if (event.key === "Enter") document.querySelector("#controls input, #controls select, #controls button")?.focus();
    else return;
    event.preventDefault();
    event.stopPropagation();
  }

  showKnot(row, thread, knot, kind) {
    if (!row.on || row.error) return;
    const words = kind === "reads" ? "as it is read" : "as it comes out";
    const place = knot.getBoundingClientRect();
    clearTimeout(this.waiting);
    this.waiting = setTimeout(async () => {
      const hovered = this.hovered = {}, still = () => this.hovered === hovered;
      try {
        const address = `${this.state.path}/map/${thread.name}.png?size=256&below=${row.id}&entry=${this.state.material.head}`;
        const picture = await pictured(address, still);
        if (!picture || !still()) return;
        this.view.replaceChildren(picture, `${thread.title} at ${row.title}, ${words}`);
        this.view.style.left = `${place.right + 12}px`;
        this.view.style.top = `${Math.max(8, Math.min(place.top - 90, innerHeight - 220))}px`;
        this.view.hidden = false;
      } catch { /* the row says what is wrong with it */ }
    }, 120);
  }

  hideKnot() {
    clearTimeout(this.waiting);
    this.hovered = null;
    this.view.hidden = true;
  }
}
