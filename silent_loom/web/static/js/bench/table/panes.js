// The table: one to four panes, each with its own view and map.
import { el, get } from "../../base/api.js";
import { CornersView } from "./corners.js";
import { FlatView } from "./flat.js";
import { FormView } from "./form/view.js";
import { GridView } from "./lattice.js";
import { LengthView } from "./length.js";

const VIEWS = { form: "Form", flat: "Flat", repeat: "Repeat", half: "Half shift" };
const KEYS = { form: "F", flat: "L", repeat: "R", half: "H" };

// Figures of repetition: up to which nothing stands out, and from which it is seen from afar
const QUIET = [0.2, 0.5];

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
      el("button", { class: "act", type: "button", role: "radio", "data-view": name, title: `${title} (${KEYS[name]})`, onclick: () => this.show(name) }, el("span", {}, title.split(" ")[0], ...title.split(" ").slice(1).map((word) => el("span", { class: "wide" }, ` ${word}`))))));
    this.copies = ["across", "down"].map((word, i) => el("input", { type: "number", min: 1, max: 16, value: 2, "aria-label": `Copies ${word}`, class: "copies",
      onchange: (e) => {
        const n = Math.max(1, Math.min(16, Math.round(+e.target.value) || 1));
        const both = this.linked.getAttribute("aria-pressed") === "true";
        this.copies.forEach((c, k) => { if (k === i || both) { this.flat.copies[k] = n; c.value = n; } });
        if (String(n) !== String(e.target.value).trim() && +e.target.value !== n) this.say(`Copies go from 1 to 16: ${n} were taken.`);
        e.target.value = n;
        this.flat.whole();
        this.markPreset();
      } }));
    this.near = el("span", { class: "segments" },
      el("button", { class: "act", type: "button", title: "One texel on one pixel", onclick: () => this.flat.trueTexels() }, "1:1"),
      el("button", { class: "act", type: "button", title: "The whole sheet (double-click)", onclick: () => this.flat.whole() }, "Fit"));
    this.linked = el("button", { class: "act edge", type: "button", "aria-pressed": true, title: "The same number across and down", onclick: () => { const on = this.linked.getAttribute("aria-pressed") !== "true"; this.linked.setAttribute("aria-pressed", on); } }, "linked");
    this.bond = el("select", { "aria-label": "Bond", onchange: () => { this.flat.bond = this.bond.value; this.flat.draw(); } }, ...["straight", "half-drop", "brick"].map((b) => el("option", {}, b)));
    // The usual numbers of copies at one press
    this.presets = el("span", { class: "segments preset", role: "group", "aria-label": "Copies" }, ...[2, 3, 5].map((n) =>
      el("button", { class: "act", type: "button", "data-copies": n, title: `${n} × ${n} copies`, onclick: () => { this.copies.forEach((c, k) => { c.value = n; this.flat.copies[k] = n; }); this.flat.whole(); this.markPreset(); } }, String(n))));
    this.checks = el("span", { class: "segments" },
      el("button", { class: "act", type: "button", "data-check": "seams", title: "Where joins still show", "aria-pressed": false, onclick: () => this.table.check(this, "seams") }, "Seams"),
      el("button", { class: "act", type: "button", "data-check": "spots", title: "What the eye will find again in every repeat", "aria-pressed": false, onclick: () => this.table.check(this, "spots") }, "Spots"),
      el("button", { class: "act", type: "button", "data-check": "profile", title: "Draw a line over the flat picture: the height across it", "aria-pressed": false, onclick: (e) => this.profile(e.currentTarget) }, "Profile"),
      el("button", { class: "act", type: "button", "data-check": "scale", title: "A figure of 1.75 m beside the sheet", "aria-pressed": this.table.sized, onclick: () => this.table.scale() }, "Figure"));
    this.row = null;         // the map as it is right below this row; at the end without one
    this.at = el("select", { "aria-label": "At which row", title: "The map as it is right below a row", onchange: () => { this.row = this.at.value || null; this.looked(); } });
    this.part = el("select", { "aria-label": "Channel", title: "One channel alone, or the lightness", onchange: () => this.looked() }, ...Object.entries({ "": "all channels", r: "red", g: "green", b: "blue", lightness: "lightness" }).map(([value, words]) => el("option", { value }, words)));
    this.chart = el("select", { "aria-label": "Test chart", title: "A test chart through the weave, in place of the photo", onchange: () => this.looked() }, ...Object.entries({ "": "the surface", checker: "numbered checker", gradient: "gradients", orientation: "orientation" }).map(([value, words]) => el("option", { value }, words)));
    this.chartBelow = el("select", { "aria-label": "Chart below", title: "The row below which the chart goes in", onchange: () => this.looked() });
    this.clipping = el("button", { class: "act edge", type: "button", "aria-pressed": false, title: "Mark what is cut off: blue at the low end, red at the high end", onclick: () => { this.clipping.setAttribute("aria-pressed", this.clipping.getAttribute("aria-pressed") !== "true"); this.looked(); } }, "Clipping");
    this.values = el("button", { class: "act edge", type: "button", title: "How the values are spread (V)", onclick: () => { this.openRest(false); this.state.emit("reading"); } }, "Values");
    this.looks = el("span", { class: "looks" }, this.part, this.at, this.chart, this.chartBelow, this.clipping, this.values);
    // What is used less lies behind one button, unless there is room for all of it
    this.copying = el("span", { class: "looks" }, this.copies[0], this.linked, this.copies[1], this.bond);
    this.rest = el("span", { class: "rest" }, this.near, this.checks, el("span", { class: "rarer" }, this.copying, this.looks));
    this.opener = el("button", { class: "act edge open-rest", type: "button", "aria-expanded": false, title: "Copies, zoom, seams, spots, true size", onclick: () => this.openRest(!this.rest.classList.contains("open")) }, "Tools");
    this.bar.append(this.views, this.maps, this.presets, this.rest, this.opener);
    this.node.append(this.bar, this.foot, el("div", { class: "busy" }));
    // The photo as it came, until the first picture of the surface is there
    const photo = this.state.that("photo");
    if (photo) {
      this.first = el("img", { class: "first", alt: "", src: `${this.state.path}/photo.jpg?step_id=${photo.id}&size=480` });
      this.node.prepend(this.first);
    }
    this.node.addEventListener("pointerdown", () => this.activate(), true);
    this.node.addEventListener("focusin", () => this.activate());
  }

  // What is laid over a question for a flat picture: one channel, marks, a chart
  reading() { return { ...(this.part.value ? { part: this.part.value } : {}), ...(this.clipping.getAttribute("aria-pressed") === "true" ? { clipped: true } : {}), ...this.charted() }; }
  charted() { return this.chart.value ? { chart: this.chart.value, chart_below: this.chartBelow.value } : {}; }
  looked() {
    this.node.classList.toggle("looking", !!this.row || Object.keys(this.reading()).length > 0);
    this.chartBelow.hidden = !this.chart.value;
    this.current.ask();
    this.flat.fine.box = null;
    this.flat.fine.soon();
    this.state.emit("looked");
  }

  // A line over the flat picture, and what the map is along it
  profile(button) {
    const on = button.getAttribute("aria-pressed") !== "true";
    button.setAttribute("aria-pressed", on);
    if (on && this.view !== "flat") this.show("flat");
    this.flat.laid.profile(on);
    this.openRest(false);
    if (on) this.say("Drag a line over the picture.");
  }

  openRest(on) {
    this.rest.classList.toggle("open", on);
    this.opener.setAttribute("aria-expanded", on);
  }

  markPreset() {
    for (const b of this.presets.children) b.setAttribute("aria-pressed", this.flat.copies.every((c) => c === +b.dataset.copies));
    if (this.table.panes.includes(this)) this.table.remember();
  }

  get length() { return (this._length ??= new LengthView(this)); }
  get flat() { return (this._flat ??= new FlatView(this)); }
  get form() { return (this._form ??= new FormView(this)); }
  get corners() { return (this._corners ??= new CornersView(this)); }
  get grid() { return (this._grid ??= new GridView(this)); }
  get placing() { return ["photo", "grid", "length"].includes(this.view); }
  get current() { return this.view === "form" ? this.form : this.view === "photo" ? this.corners : this.view === "grid" ? this.grid : this.view === "length" ? this.length : this.flat; }

  // Two states on the form, in the same light
  compared() {
    if (this.view === "form") this.form.compared(this.state.compare); // elsewhere once the form is shown
  }

  activate() { this.table.activate(this); }

  show(view) {
    if (!this.placing) this.last = this.view;
    this.view = view;
    if (this.placing) this.first?.remove();
    if (!this.placing && this._flat) { this._flat.zoom = 1; this._flat.at = [0, 0]; }
    this.mount();
    this.table.remember();
  }

  mount() {
    const current = this.current;
    this.node.querySelectorAll("canvas, .hand, .light, .tools, .corner, .foot-right, .spots-list, .length-form").forEach((n) => n.remove());
    this.node.prepend(current.canvas);
    if (current === this._flat) current.canvas.after(...current.extra);
    else if (current.extra) this.node.append(...current.extra);
    if (this.view === "form") this.form.compared(this.state.compare);
    this.refresh();
    current.resize();
  }

  refresh() {
    const made = this.state.threads.filter((t) => t.made);
    if (!made.some((t) => t.name === this.thread) && made.length) this.thread = made[0].name;
    this.maps.replaceChildren(...made.map((t) => el("option", { value: t.name, selected: t.name === this.thread }, t.title)));
    for (const b of this.views.children) b.setAttribute("aria-checked", b.dataset.view === this.view);
    const flat = !["form", "photo", "grid", "length"].includes(this.view);
    this.maps.hidden = !flat;
    this.near.hidden = !flat;
    for (const c of [this.copying, this.presets]) c.hidden = this.view !== "repeat";
    if (this.view === "repeat") this.markPreset();
    this.checks.hidden = this.looks.hidden = !flat;
    this.listRows();
    this.opener.hidden = !flat;
    if (!flat) this.openRest(false);
    this.node.dataset.view = this.view;
    this.node.dataset.thread = this.thread;
    this.current.ask();
  }

  listRows() {
    const rows = this.state.rows.filter((r) => !r.resting);
    if (this.row && !rows.some((r) => r.id === this.row)) this.row = null;
    const below = this.chartBelow.value;
    this.at.replaceChildren(el("option", { value: "" }, "at the end"), ...rows.map((r) => el("option", { value: r.id, selected: r.id === this.row }, `below ${r.title}`)));
    this.chartBelow.replaceChildren(el("option", { value: "" }, "from the start"), ...rows.map((r) => el("option", { value: r.id, selected: r.id === below }, `from below ${r.title}`)));
    this.chartBelow.hidden = !this.chart.value;
  }

  // Said instead of asked for, where no step that is on makes anything
  nothing() {
    const none = !this.state.threads.some((t) => t.made);
    if (none) { this.say("Nothing is made here: switch a step on that brings something in."); this.computing(false); }
    return none;
  }

  say(words) { this.foot.textContent = words; }
  // What is shown is of a state that can no longer be computed, and looks so
  old(words) {
    this.say(words);
    this.node.classList.toggle("old", !!words);
  }
  computing(on) { this.node.classList.toggle("computing", on); this.node.setAttribute("aria-busy", on); }
  // For whoever waits for a picture: which state, at which size. An answer to a view that was left meanwhile says nothing
  painted(view, width) {
    if (view !== this.current) return;
    this.first?.remove();
    this.node.classList.remove("old");
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
    this.wanted = wanted.map((p) => ({ view: p.view in VIEWS ? p.view : "flat", thread: p.thread || "base", copies: p.copies }));
    state.addEventListener("draft", () => this.ask());
    state.addEventListener("material", () => this.panes.forEach((p) => p.refresh()));
    state.addEventListener("before", () => this.ask());
    state.addEventListener("compare", () => this.panes.forEach((p) => p.compared()));
    state.addEventListener("wipe", () => this.panes.forEach((p) => { if (p.view === "form" && state.compare) p.form.wiped(); }));
    this.sized = localStorage.getItem("loom-sized") === "yes";
    for (const event of ["chosen", "picking"]) state.addEventListener(event, () => this.panes.forEach((p) => { if (["flat", "half"].includes(p.view)) { p.flat.hand.clear(); p.refresh(); } }));
    state.addEventListener("picking", () => { const pane = this.active || this.panes[0]; if (state.picking) { if (!["flat", "half"].includes(pane.view)) pane.show("flat"); pane.say(state.picking.words); } });
    state.addEventListener("material", () => this.panes.forEach((p) => { if (p._flat && (p._flat.seams || p._flat.spots)) this.recheck(p); }));
    state.addEventListener("sun", () => { const pane = this.active || this.panes[0]; if (pane.view !== "flat") pane.show("flat"); pane.flat.laid.look(); });
    state.addEventListener("grid", () => { const pane = this.active || this.panes[0]; pane.show("grid"); pane.grid.focus(); });
    state.addEventListener("length", () => { const pane = this.active || this.panes[0]; pane.show("length"); });
    addEventListener("loom-unit", () => this.panes.forEach((p) => p._flat?.draw()));
    root.addEventListener("pointerdown", (e) => this.panes.forEach((p) => { if (!p.rest.contains(e.target) && !p.opener.contains(e.target)) p.openRest(false); }));
    state.addEventListener("corners", () => { const pane = this.active || this.panes[0]; pane.show("photo"); pane.corners.focus(); });
    new ResizeObserver(() => this.panes.forEach((p) => p.current.resize())).observe(root);
  }

  start() { this.lay(this.wanted.length); }

  lay(count) {
    while (this.panes.length < count) {
      const next = this.wanted[this.panes.length] || { view: "flat", thread: this.state.threads.filter((t) => t.made)[this.panes.length]?.name || "base" };
      const pane = new Pane(this, next.view, next.thread);
      if (Array.isArray(next.copies) && next.copies.every((n) => n >= 1 && n <= 16)) {
        pane.flat.copies = [...next.copies];
        pane.copies.forEach((c, k) => { c.value = next.copies[k]; });
      }
      this.panes.push(pane);
    }
    // Panes that are taken away come back as they were
    this.panes.forEach((p, i) => { if (i >= count) this.wanted[i] = { view: p.placing ? p.last : p.view, thread: p.thread, copies: p._flat?.copies }; });
    const shown = this.panes.slice(0, count);
    this.panes = shown;
    this.root.className = `board ${{ 2: "two", 4: "four" }[count] || "one"}`;
    this.root.replaceChildren(...shown.map((p) => p.node));
    shown.forEach((p) => p.mount());
    this.activate(shown.includes(this.active) ? this.active : shown[0]);
    document.querySelectorAll("[data-panes]").forEach((b) => b.setAttribute("aria-pressed", +b.dataset.panes === count));
    this.remember();
  }

  remember() { localStorage.setItem("loom-panes", JSON.stringify(this.panes.map((p) => ({ view: p.placing ? p.last : p.view, thread: p.thread, copies: p._flat?.copies })))); }

  activate(pane) {
    if (this.active === pane && pane.node.classList.contains("active")) return;
    this.active = pane;
    for (const p of this.panes) p.node.classList.toggle("active", p === pane && this.panes.length > 1);
    this.state.emit("active");
  }

  // Heat of the joins, or the odd patches, over the picture; asked for again when the material changes
  async check(pane, what) {
    const flat = pane.flat, on = !flat[what];
    flat.seams = flat.spots = null;
    pane.node.querySelector(".spots-list")?.remove();
    pane.checking = on ? what : null;
    for (const b of pane.checks.children) if (!["scale", "profile"].includes(b.dataset.check)) b.setAttribute("aria-pressed", on && b.dataset.check === what);
    flat.draw();
    if (on) await this.recheck(pane);
  }

  scale() {
    this.sized = !this.sized;
    localStorage.setItem("loom-sized", this.sized ? "yes" : "no");
    for (const p of this.panes) { p.checks.querySelector("[data-check=scale]").setAttribute("aria-pressed", this.sized); p._flat?.draw(); }
  }

  async recheck(pane) {
    const flat = pane.flat, what = pane.checking;
    if (!what) return;
    pane.computing(true);
    try {
      if (what === "seams") {
        const picture = new Image();
        await new Promise((done, fail) => { picture.onload = done; picture.onerror = () => fail(new Error("The joins could not be measured.")); picture.src = `${this.state.path}/seams.png?at=${Date.now()}`; });
        flat.seams = picture;
        pane.say("Joins: yellow cannot be told yet, red is visible (above 1)");
      } else {
        const found = await get(`${this.state.path}/spots`);
        flat.spots = found.repetition > QUIET[0] ? found.spots : []; // rings around what nobody would find only worry
        this.spotsList(pane, found);
      }
      flat.draw();
      pane.node.dataset.checked = what;
    } catch (error) { pane.say(error.message); }
    pane.computing(false);
  }

  spotsList(pane, found) {
    pane.node.querySelector(".spots-list")?.remove();
    const words = found.repetition > QUIET[1] ? "seen from afar at 4 × 4" : found.repetition > QUIET[0] ? "may be found again" : "nothing stands out";
    const cure = (title, what, spot) => el("button", { class: "act edge", type: "button", "data-cure": what, onclick: () => this.state.emit("cure", { what, spot }) }, title);
    pane.node.append(el("div", { class: "spots-list tools" }, el("b", {}, `Repetition ${found.repetition.toFixed(2)}: ${words}`),
      found.copied > 0.05 + (found.alike ?? 0) ? el("span", {}, `${Math.round(100 * found.copied)} % is seen twice on the sheet`) : null,
      found.spots.length && found.repetition > QUIET[0] ? cure("Fill the strongest patch", "fill", found.spots[0]) : null,
      found.spots.some((s) => s.broad) ? cure("Even the broad tones", "even") : null,
      cure("Break the repetition up", "breakup"), cure("Grow a larger sheet", "quilt")));
  }

  // The active pane is answered first
  ask() { for (const p of [this.active, ...this.panes.filter((q) => q !== this.active)]) p?.current.ask(); }
}
