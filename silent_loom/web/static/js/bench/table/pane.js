// One picture on the table: its view, its map, what its head and foot say.
import { el } from "../../base/api.js";
import { CornersView } from "./corners.js";
import { FlatView } from "./flat.js";
import { FormView } from "./form/view.js";
import { GridView } from "./lattice.js";
import { LengthView } from "./length.js";

export const VIEWS = { form: "Form", flat: "Flat", repeat: "Repeat", half: "Half shift" };
const KEYS = { form: "F", flat: "L", repeat: "R", half: "H" };

export class Pane {
  /** @type {any} */
  _length;
  /** @type {any} */
  _flat;
  /** @type {any} */
  _form;
  /** @type {any} */
  _corners;
  /** @type {any} */
  _grid;

  constructor(table, view, thread) {
    this.table = table;
    this.state = table.state;
    this.view = view;
    this.thread = thread;
    this.node = el("section", { class: "pane", "aria-label": "Picture" });
    this.foot = el("div", { class: "foot", role: "status" });
    this.bar = el("div", { class: "bar" });
    this.maps = el("select", {
      "aria-label": "Map",
      onchange: () => {
        this.thread = this.maps.value;
        this.refresh();
        this.table.remember();
      },
    });
    this.views = el(
      "span",
      { class: "segments", role: "radiogroup", "aria-label": "View" },
      ...Object.entries(VIEWS).map(([name, title]) =>
        el(
          "button",
          {
            class: "act",
            type: "button",
            role: "radio",
            "data-view": name,
            title: `${title} (${KEYS[name]})`,
            onclick: () => this.show(name),
          },
          el(
            "span",
            {},
            title.split(" ")[0],
            ...title
              .split(" ")
              .slice(1)
              .map(word => el("span", { class: "wide" }, ` ${word}`)),
          ),
        ),
      ),
    );
    this.copies = ["across", "down"].map((word, i) =>
      el("input", {
        type: "number",
        min: 1,
        max: 16,
        value: 2,
        "aria-label": `Copies ${word}`,
        class: "copies",
        onchange: e => {
          const n = Math.max(1, Math.min(16, Math.round(+e.target.value) || 1));
          const both = this.linked.getAttribute("aria-pressed") === "true";
          this.copies.forEach((c, k) => {
            if (k === i || both) {
              this.flat.copies[k] = n;
              c.value = n;
            }
          });
          if (String(n) !== String(e.target.value).trim() && +e.target.value !== n)
            this.say(`Copies go from 1 to 16: ${n} were taken.`);
          e.target.value = n;
          this.flat.whole();
          this.markPreset();
        },
      }),
    );
    this.near = el(
      "span",
      { class: "segments" },
      el(
        "button",
        { class: "act", type: "button", title: "One texel on one pixel", onclick: () => this.flat.trueTexels() },
        "1:1",
      ),
      el(
        "button",
        { class: "act", type: "button", title: "The whole sheet (double-click)", onclick: () => this.flat.whole() },
        "Fit",
      ),
    );
    this.linked = el(
      "button",
      {
        class: "act edge",
        type: "button",
        "aria-pressed": true,
        title: "The same number across and down",
        onclick: () => {
          const on = this.linked.getAttribute("aria-pressed") !== "true";
          this.linked.setAttribute("aria-pressed", on);
        },
      },
      "linked",
    );
    this.bond = el(
      "select",
      {
        "aria-label": "Bond",
        onchange: () => {
          this.flat.bond = this.bond.value;
          this.flat.draw();
        },
      },
      ...["straight", "half-drop", "brick"].map(b => el("option", {}, b)),
    );
    // The usual numbers of copies at one press
    this.presets = el(
      "span",
      { class: "segments preset", role: "group", "aria-label": "Copies" },
      ...[2, 3, 5].map(n =>
        el(
          "button",
          {
            class: "act",
            type: "button",
            "data-copies": n,
            title: `${n} × ${n} copies`,
            onclick: () => {
              this.copies.forEach((c, k) => {
                c.value = n;
                this.flat.copies[k] = n;
              });
              this.flat.whole();
              this.markPreset();
            },
          },
          String(n),
        ),
      ),
    );
    this.checks = el(
      "span",
      { class: "segments" },
      el(
        "button",
        {
          class: "act",
          type: "button",
          "data-check": "seams",
          title: "Where joins still show",
          "aria-pressed": false,
          onclick: () => this.table.check(this, "seams"),
        },
        "Seams",
      ),
      el(
        "button",
        {
          class: "act",
          type: "button",
          "data-check": "spots",
          title: "What the eye will find again in every repeat",
          "aria-pressed": false,
          onclick: () => this.table.check(this, "spots"),
        },
        "Spots",
      ),
      el(
        "button",
        {
          class: "act",
          type: "button",
          "data-check": "profile",
          title: "Draw a line over the flat picture: the height across it",
          "aria-pressed": false,
          onclick: e => this.profile(e.currentTarget),
        },
        "Profile",
      ),
      el(
        "button",
        {
          class: "act",
          type: "button",
          "data-check": "scale",
          title: "A figure of 1.75 m beside the sheet",
          "aria-pressed": this.table.sized,
          onclick: () => this.table.scale(),
        },
        "Figure",
      ),
    );
    this.row = null; // the map as it is right below this row; at the end without one
    this.at = el("select", {
      "aria-label": "At which row",
      title: "The map as it is right below a row",
      onchange: () => {
        this.row = this.at.value || null;
        this.looked();
      },
    });
    this.part = el(
      "select",
      { "aria-label": "Channel", title: "One channel alone, or the lightness", onchange: () => this.looked() },
      ...Object.entries({ "": "all channels", r: "red", g: "green", b: "blue", lightness: "lightness" }).map(
        ([value, words]) => el("option", { value }, words),
      ),
    );
    this.chart = el(
      "select",
      {
        "aria-label": "Test chart",
        title: "A test chart through the weave, in place of the photo",
        onchange: () => this.looked(),
      },
      ...Object.entries({
        "": "the surface",
        checker: "numbered checker",
        gradient: "gradients",
        orientation: "orientation",
      }).map(([value, words]) => el("option", { value }, words)),
    );
    this.chartBelow = el("select", {
      "aria-label": "Chart below",
      title: "The row below which the chart goes in",
      onchange: () => this.looked(),
    });
    this.clipping = el(
      "button",
      {
        class: "act edge",
        type: "button",
        "aria-pressed": false,
        title: "Mark what is cut off: blue at the low end, red at the high end",
        onclick: () => {
          this.clipping.setAttribute("aria-pressed", this.clipping.getAttribute("aria-pressed") !== "true");
          this.looked();
        },
      },
      "Clipping",
    );
    this.values = el(
      "button",
      {
        class: "act edge",
        type: "button",
        title: "How the values are spread (V)",
        onclick: () => {
          this.openRest(false);
          this.state.emit("reading");
        },
      },
      "Values",
    );
    this.looks = el(
      "span",
      { class: "looks" },
      this.part,
      this.at,
      this.chart,
      this.chartBelow,
      this.clipping,
      this.values,
    );
    // What is used less lies behind one button, unless there is room for all of it
    this.copying = el("span", { class: "looks" }, this.copies[0], this.linked, this.copies[1], this.bond);
    this.rest = el(
      "span",
      { class: "rest" },
      this.near,
      this.checks,
      el("span", { class: "rarer" }, this.copying, this.looks),
    );
    this.opener = el(
      "button",
      {
        class: "act edge open-rest",
        type: "button",
        "aria-expanded": false,
        title: "Copies, zoom, seams, spots, true size",
        onclick: () => this.openRest(!this.rest.classList.contains("open")),
      },
      "Tools",
    );
    this.bar.append(this.views, this.maps, this.presets, this.rest, this.opener);
    this.node.append(this.bar, this.foot, el("div", { class: "busy" }));
    // The photo as it came, until the first picture of the surface is there
    const photo = this.state.that("photo");
    if (photo) {
      this.first = el("img", {
        class: "first",
        alt: "",
        src: `${this.state.path}/photo.jpg?step_id=${photo.id}&size=480`,
      });
      this.node.prepend(this.first);
    }
    this.node.addEventListener("pointerdown", () => this.activate(), true);
    this.node.addEventListener("focusin", () => this.activate());
  }

  // What is laid over a question for a flat picture: one channel, marks, a chart
  reading() {
    return {
      ...(this.part.value ? { part: this.part.value } : {}),
      ...(this.clipping.getAttribute("aria-pressed") === "true" ? { clipped: true } : {}),
      ...this.charted(),
    };
  }
  charted() {
    return this.chart.value ? { chart: this.chart.value, chart_below: this.chartBelow.value } : {};
  }
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
    for (const b of this.presets.children)
      b.setAttribute(
        "aria-pressed",
        this.flat.copies.every(c => c === +b.dataset.copies),
      );
    if (this.table.panes.includes(this)) this.table.remember();
  }

  get length() {
    return (this._length ??= new LengthView(this));
  }
  get flat() {
    return (this._flat ??= new FlatView(this));
  }
  get form() {
    return (this._form ??= new FormView(this));
  }
  get corners() {
    return (this._corners ??= new CornersView(this));
  }
  get grid() {
    return (this._grid ??= new GridView(this));
  }
  get placing() {
    return ["photo", "grid", "length"].includes(this.view);
  }
  get current() {
    return this.view === "form"
      ? this.form
      : this.view === "photo"
        ? this.corners
        : this.view === "grid"
          ? this.grid
          : this.view === "length"
            ? this.length
            : this.flat;
  }

  // Two states on the form, in the same light
  compared() {
    if (this.view === "form") this.form.compared(this.state.compare); // elsewhere once the form is shown
  }

  activate() {
    this.table.activate(this);
  }

  show(view) {
    if (!this.placing) this.last = this.view;
    this.view = view;
    if (this.placing) this.first?.remove();
    if (!this.placing && this._flat) {
      this._flat.zoom = 1;
      this._flat.at = [0, 0];
    }
    this.mount();
    this.table.remember();
  }

  mount() {
    const current = this.current;
    this.node
      .querySelectorAll("canvas, .hand, .light, .tools, .corner, .foot-right, .spots-list, .length-form")
      .forEach(n => n.remove());
    this.node.prepend(current.canvas);
    if (current === this._flat) current.canvas.after(...current.extra);
    else if (current.extra) this.node.append(...current.extra);
    if (this.view === "form") this.form.compared(this.state.compare);
    this.refresh();
    current.resize();
  }

  refresh() {
    const repeats = !this.state.weave.on; // on a model nothing does
    for (const b of this.views.children) if (["repeat", "half"].includes(b.dataset.view)) b.hidden = !repeats;
    if (!repeats && ["repeat", "half"].includes(this.view)) {
      this.show("flat");
      return;
    }
    const made = this.state.threads.filter(t => t.made);
    if (!made.some(t => t.name === this.thread) && made.length) this.thread = made[0].name;
    this.maps.replaceChildren(
      ...made.map(t => el("option", { value: t.name, selected: t.name === this.thread }, t.title)),
    );
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
    const rows = this.state.rows.filter(r => !r.resting);
    if (this.row && !rows.some(r => r.id === this.row)) this.row = null;
    const below = this.chartBelow.value;
    this.at.replaceChildren(
      el("option", { value: "" }, "at the end"),
      ...rows.map(r => el("option", { value: r.id, selected: r.id === this.row }, `below ${r.title}`)),
    );
    this.chartBelow.replaceChildren(
      el("option", { value: "" }, "from the start"),
      ...rows.map(r => el("option", { value: r.id, selected: r.id === below }, `from below ${r.title}`)),
    );
    this.chartBelow.hidden = !this.chart.value;
  }

  // Said instead of asked for, where no step that is on makes anything
  nothing() {
    const none = !this.state.threads.some(t => t.made);
    if (none) {
      this.say("Nothing is made here: switch a step on that brings something in.");
      this.computing(false);
    }
    return none;
  }

  say(words) {
    this.foot.textContent = words;
  }
  // What is shown is of a state that can no longer be computed, and looks so
  old(words) {
    this.say(words);
    this.node.classList.toggle("old", !!words);
  }
  computing(on) {
    this.node.classList.toggle("computing", on);
    this.node.setAttribute("aria-busy", on);
  }
  // For whoever waits for a picture: which state, at which size. An answer to a view that was left meanwhile says
  // nothing
  painted(view, width) {
    if (view !== this.current) return;
    this.first?.remove();
    this.node.classList.remove("old");
    this.node.dataset.painted = `${this.view}:${this.thread}:${width}`;
    this.node.dataset.turn = String(+(this.node.dataset.turn || 0) + 1);
    if (this.foot.textContent && !this.foot.textContent.includes(" of ")) this.say("");
  }
}
