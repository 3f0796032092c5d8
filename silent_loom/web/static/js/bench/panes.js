// The table: one to four panes, each with its own view and map.
import { el } from "../api.js";
import { CornersView } from "./corners.js";
import { FlatView } from "./flat.js";
import { FormView } from "./form.js";

const VIEWS = { form: "Form", flat: "Flat", repeat: "Repeat", half: "Half shift" };

class Pane {
  constructor(table, view, thread) {
    this.table = table;
    this.state = table.state;
    this.view = view;
    this.thread = thread;
    this.node = el("section", { class: "pane", "aria-label": "Picture" });
    this.foot = el("div", { class: "foot", role: "status" });
    this.bar = el("div", { class: "bar" });
    this.maps = el("select", { "aria-label": "Map", onchange: () => { this.thread = this.maps.value; this.refresh(); this.table.remember(); } });
    this.views = el("span", { class: "segments", role: "radiogroup", "aria-label": "View" }, ...Object.entries(VIEWS).map(([name, title]) =>
      el("button", { class: "act", type: "button", role: "radio", "data-view": name, onclick: () => this.show(name) }, title)));
    this.copies = ["across", "down"].map((word, i) => el("input", { type: "number", min: 1, max: 16, value: 2, "aria-label": `Copies ${word}`, class: "copies",
      onchange: (e) => { this.flat.copies[i] = Math.max(1, Math.min(16, Math.round(+e.target.value) || 1)); e.target.value = this.flat.copies[i]; this.flat.whole(); } }));
    this.near = el("span", { class: "segments" },
      el("button", { class: "act", type: "button", title: "One texel on one pixel", onclick: () => this.flat.trueTexels() }, "1:1"),
      el("button", { class: "act", type: "button", title: "The whole sheet (double-click)", onclick: () => this.flat.whole() }, "Fit"));
    this.bar.append(this.views, this.maps, ...this.copies, this.near);
    this.node.append(this.bar, this.foot, el("div", { class: "busy" }));
    this.node.addEventListener("pointerdown", () => this.activate(), true);
    this.node.addEventListener("focusin", () => this.activate());
  }

  get flat() { return (this._flat ??= new FlatView(this)); }
  get form() { return (this._form ??= new FormView(this)); }
  get corners() { return (this._corners ??= new CornersView(this)); }
  get current() { return this.view === "form" ? this.form : this.view === "photo" ? this.corners : this.flat; }

  activate() { this.table.activate(this); }

  show(view) {
    if (this.view !== "photo") this.last = this.view;
    this.view = view;
    if (view !== "photo" && this._flat) { this._flat.zoom = 1; this._flat.at = [0, 0]; }
    this.mount();
    this.table.remember();
  }

  mount() {
    const current = this.current;
    this.node.querySelectorAll("canvas, .light, .tools, .corner, .foot-right").forEach((n) => n.remove());
    this.node.prepend(current.canvas);
    if (current.extra) this.node.append(...current.extra);
    this.refresh();
    current.resize();
  }

  refresh() {
    const made = this.state.threads.filter((t) => t.made);
    if (!made.some((t) => t.name === this.thread) && made.length) this.thread = made[0].name;
    this.maps.replaceChildren(...made.map((t) => el("option", { value: t.name, selected: t.name === this.thread }, t.title)));
    for (const b of this.views.children) b.setAttribute("aria-checked", b.dataset.view === this.view);
    const flat = !["form", "photo"].includes(this.view);
    this.maps.hidden = !flat;
    this.near.hidden = !flat;
    for (const c of this.copies) c.hidden = this.view !== "repeat";
    this.node.dataset.view = this.view;
    this.node.dataset.thread = this.thread;
    this.current.ask();
  }

  say(words) { this.foot.textContent = words; }
  computing(on) { this.node.classList.toggle("computing", on); this.node.setAttribute("aria-busy", on); }
  // For whoever waits for a picture: which state, at which size
  painted(width) {
    this.node.dataset.painted = `${this.view}:${this.thread}:${width}`;
    this.node.dataset.turn = String(+(this.node.dataset.turn || 0) + 1);
    if (this.foot.textContent && !this.foot.textContent.includes(" of ")) this.say("");
  }
}

export class Table {
  constructor(root, state) {
    this.root = root;
    this.state = state;
    const stored = JSON.parse(localStorage.getItem("loom-panes") || "null");
    const wanted = Array.isArray(stored) && stored.length ? stored : [{ view: "form", thread: "base" }, { view: "repeat", thread: "base" }];
    this.panes = [];
    this.wanted = wanted.map((p) => ({ view: p.view in VIEWS ? p.view : "flat", thread: p.thread || "base" }));
    state.addEventListener("draft", () => this.ask());
    state.addEventListener("material", () => this.panes.forEach((p) => p.refresh()));
    state.addEventListener("before", () => this.ask());
    state.addEventListener("corners", () => { const pane = this.active || this.panes[0]; pane.show("photo"); pane.node.querySelector(".corner")?.focus(); });
    new ResizeObserver(() => this.panes.forEach((p) => p.current.resize())).observe(root);
  }

  start() { this.lay(this.wanted.length); }

  lay(count) {
    while (this.panes.length < count) {
      const next = this.wanted[this.panes.length] || { view: "flat", thread: this.state.threads.filter((t) => t.made)[this.panes.length]?.name || "base" };
      this.panes.push(new Pane(this, next.view, next.thread));
    }
    const shown = this.panes.slice(0, count);
    this.panes = shown;
    this.root.className = `board ${{ 2: "two", 4: "four" }[count] || "one"}`;
    this.root.replaceChildren(...shown.map((p) => p.node));
    shown.forEach((p) => p.mount());
    this.activate(shown.includes(this.active) ? this.active : shown[0]);
    document.querySelectorAll("[data-panes]").forEach((b) => b.setAttribute("aria-pressed", +b.dataset.panes === count));
    this.remember();
  }

  remember() { localStorage.setItem("loom-panes", JSON.stringify(this.panes.map((p) => ({ view: p.view === "photo" ? p.last : p.view, thread: p.thread })))); }

  activate(pane) {
    if (this.active === pane && pane.node.classList.contains("active")) return;
    this.active = pane;
    for (const p of this.panes) p.node.classList.toggle("active", p === pane && this.panes.length > 1);
    this.state.emit("active");
  }

  // The active pane is answered first
  ask() { for (const p of [this.active, ...this.panes.filter((q) => q !== this.active)]) p?.current.ask(); }
}
