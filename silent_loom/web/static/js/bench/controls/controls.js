// The controls of the chosen step, made from its declared settings.
import { beside, el, icon, post } from "../../base/api.js";
import { AFTER, BY_PANEL, BY_SHAPE } from "./by_shape.js";
import { dice, presetRow } from "./starting_points.js";
import { histogramBars } from "./drawn.js";
import { copyButtons } from "../weave/copying.js";
import { linkButton, withLinked } from "./linked.js";
import { shownOver } from "./shown.js";
import { rowNote } from "./note.js";
import { levelsEditor } from "./tones.js";
import { groupControls } from "../weave/groups.js";
import { mixing } from "../weave/masks.js";
import { numberControl } from "./number.js";
import { threadControl } from "../weave/threadpick.js";

const REST = 450; // ms without a change after which a value that was typed or nudged by keys is stored

export class Controls {
  constructor(root, state) {
    this.root = root;
    this.state = state;
    this.fields = new Map();
    state.on("chosen", () => this.build());
    state.on("material", () => this.refresh());
    state.on("figures", () => this.notes());
    addEventListener("loom-unit", () => this.build());
  }

  get row() {
    return this.state.row(this.state.chosen);
  }
  get settings() {
    const draft = this.state.draft;
    return { ...this.row.settings, ...(draft && draft.step_id === this.row.id ? draft.settings : {}) };
  }

  refresh() {
    // The same step with other values: keep the controls (and the focus), set the values
    if (!this.row || this.built !== this.row.id + this.row.step) this.build();
    else {
      this.update();
      this.notes();
    }
  }

  try(values) {
    clearTimeout(this.resting);
    this.state.try(this.row.id, withLinked(this.state.steps[this.row.step], this.row, this.settings, values));
    this.update();
  }
  settle() {
    clearTimeout(this.resting);
    return this.state.settle();
  }
  settleSoon() {
    clearTimeout(this.resting);
    this.resting = setTimeout(() => this.settle(), REST);
  }

  build() {
    if (this.state.draft) this.settle();
    const row = this.row;
    this.fields.clear();
    this.shapes = [];
    this.root.replaceChildren();
    if (!row) {
      this.built = null;
      return;
    }
    this.built = row.id + row.step;
    if (row.group) {
      this.shapes.push(groupControls(this, this.root));
      this.update();
      this.notes();
      return;
    }
    const step = this.state.steps[row.step];
    if (!step) {
      this.unknown(row);
      return;
    }
    const dye = this.state.threads.find(t => ["writes", "both"].includes(row.knots[t.name]))?.dye;
    if (dye) this.root.dataset.dye = dye;
    else delete this.root.dataset.dye;
    this.root.append(el("h2", { tabindex: -1 }, step.title), el("p", { class: "lead" }, step.says));
    this.noteBox = el("div", { "aria-live": "polite" });
    this.root.append(this.noteBox);
    const panel = BY_PANEL[step.panel];
    if (panel && step.panel !== "relief") this.shape(panel(this));
    if (step.presets.length) this.shape(presetRow(this, step));
    if (step.panel === "relief") this.shape(panel(this)); // its starting points stand above it
    const levels = step.fields.some(f => f.shape === "levels");
    if (levels) this.shape(levelsEditor(this));
    for (const field of step.fields) {
      if (BY_SHAPE[field.kind]) this.shape(BY_SHAPE[field.kind](this, field));
      else this.root.append(this.control(field));
      this.root.append(linkButton(step, field, this));
      if (field.name === "seed") this.shape(dice(this, field));
      const after = AFTER[step.panel]?.[field.name];
      if (after) this.shape(after(this));
    }
    if (
      !levels &&
      !step.fields.some(f => f.kind === "curve") &&
      Object.values(row.knots).some(k => k !== "writes") &&
      !step.geometric
    ) {
      this.shape(histogramBars());
    }
    if (this.state.can(row, "shown")) this.shape(shownOver(this.state));
    this.shape(rowNote(this));
    if (!step.geometric) {
      const mix = mixing(this);
      this.shapes.push(mix);
      this.root.append(mix.node);
    }
    this.root.append(
      el(
        "div",
        { class: "d-flex mt-2" },
        el("button", {
          class: "act",
          type: "button",
          id: "switch-step",
          onclick: () => this.state.change({ kind: "switch", step_id: row.id, on: !this.row.on }),
        }),
        ...copyButtons(this.state, row.id),
        el(
          "button",
          { class: "act push", type: "button", onclick: () => this.state.change({ kind: "remove", step_id: row.id }) },
          icon("trash"),
          "Take out",
        ),
      ),
    );
    this.update();
    this.notes();
    this.askHistogram();
  }

  // A row whose step there is not here: kept, and said so
  unknown(row) {
    this.root.append(
      el("h2", {}, row.title),
      el("div", { class: "note warn", role: "alert" }, row.error),
      el(
        "button",
        { class: "act", type: "button", onclick: () => this.state.change({ kind: "remove", step_id: row.id }) },
        icon("trash"),
        "Take out",
      ),
    );
  }

  shape(shape) {
    this.shapes.push(shape);
    this.root.append(shape.node);
  }

  async askHistogram() {
    const row = this.row;
    if (!row || !this.shapes.some(s => s.histogram)) return;
    const reads = Object.entries(row.knots)
      .filter(([, k]) => k === "reads" || k === "both")
      .map(([t]) => t);
    if (!reads.length) return;
    try {
      const still = () => this.row?.id === row.id;
      const found = await beside(
        () => post(`${this.state.path}/histogram`, { thread: reads[0], size: 256, below: row.id }),
        still,
      );
      if (found && still()) for (const s of this.shapes) s.histogram?.(found.channels, reads[0]);
    } catch {
      /* the chart shows what is wrong with the row */
    }
  }

  control(field) {
    const id = `set-${field.name}`;
    const box = el("div", { class: "control", "data-field": field.name });
    const label = el("label", { for: id, title: field.says }, field.title);
    const reset = el(
      "button",
      {
        class: "act reset",
        type: "button",
        title: "Back to what it was on a fresh step",
        "aria-label": `Reset ${field.title}`,
        onclick: () => {
          this.try({ [field.name]: field.default });
          this.settle();
        },
      },
      "↺",
    );
    const says = el("span", { class: "says" }, field.says);
    let set;
    if (field.kind === "choice") {
      const select = el(
        "select",
        {
          id,
          onchange: () => {
            this.try({ [field.name]: field.choices[select.selectedIndex] });
            this.settle();
          },
        },
        ...field.choices.map(c => el("option", { value: String(c) }, field.names[String(c)] || String(c))),
      );
      set = v => {
        select.selectedIndex = field.choices.indexOf(v);
      };
      box.append(label, select, reset, says);
    } else if (field.kind === "switch") {
      const check = el("input", {
        id,
        type: "checkbox",
        class: "form-check-input m-0",
        onchange: () => {
          this.try({ [field.name]: check.checked });
          this.settle();
        },
      });
      set = v => {
        check.checked = v;
      };
      box.append(label, check, reset, says);
    } else if (field.kind === "text") {
      const words = el("input", {
        id,
        type: "text",
        class: "words",
        autocomplete: "off",
        spellcheck: "false",
        oninput: () => {
          this.try({ [field.name]: words.value });
          this.settleSoon();
        },
        onchange: () => this.settle(),
      });
      set = v => {
        if (document.activeElement !== words) words.value = v;
      };
      box.append(label, words, reset, says);
    } else if (field.kind === "thread") {
      set = threadControl(this, field, box, { id, label, reset, says });
    } else if (field.kind === "colour") {
      const text = typeof field.default === "string";
      const hex = c =>
        text
          ? c
          : `#${c
              .map(v =>
                Math.round(v * 255)
                  .toString(16)
                  .padStart(2, "0"),
              )
              .join("")}`;
      const pick = el("input", {
        id,
        type: "color",
        oninput: () =>
          this.try({
            [field.name]: text ? pick.value : [1, 3, 5].map(i => parseInt(pick.value.slice(i, i + 2), 16) / 255),
          }),
        onchange: () => this.settle(),
      });
      set = v => {
        pick.value = hex(v);
      };
      box.append(label, pick, reset, says);
    } else {
      set = numberControl(this, field, box, { id, label, reset, says });
    }
    this.fields.set(field.name, { field, box, set });
    return box;
  }

  // The row that works right above another one
  above(row) {
    const rows = this.state.rows.filter(r => (!r.resting && !r.idle && !r.group) || r.id === row.id);
    return rows[Math.max(0, rows.findIndex(r => r.id === row.id) - 1)]?.id;
  }

  update() {
    const row = this.row;
    if (!row) return;
    const values = this.settings;
    for (const { field, box, set } of this.fields.values()) {
      set(values[field.name]);
      box.classList.toggle("changed", JSON.stringify(values[field.name]) !== JSON.stringify(field.default));
      box.hidden = !!field.when && !Object.entries(field.when).every(([k, allowed]) => allowed.includes(values[k]));
      box.style.display = box.hidden ? "none" : "";
      const by = row.steered?.[field.name];
      if (box.dataset.by !== (by || "")) {
        box.dataset.by = by || "";
        box.querySelectorAll("input, select, button").forEach(n => {
          n.disabled = !!by;
        });
        box.querySelector(".moved-by")?.remove();
        if (by) box.append(el("span", { class: "moved-by quiet" }, `moved by the dial ${by}`));
      }
    }
    for (const shape of this.shapes) shape.update?.(values);
    const power = this.root.querySelector("#switch-step");
    const says = row.on ? "Switch off" : "Switch on";
    if (power && power.textContent !== says) power.replaceChildren(icon("power"), says);
  }

  notes() {
    const row = this.row;
    if (!row || !this.noteBox) return;
    const found = this.state.figures.rows[row.id] || {};
    const lines = [];
    if (row.error || found.error)
      lines.push(el("div", { class: "note warn", role: "alert" }, row.error || found.error));
    if (row.order) lines.push(el("div", { class: "note warn" }, row.order));
    for (const cure of row.cures || [])
      lines.push(
        el(
          "button",
          { class: "act edge cure", type: "button", onclick: () => this.state.change(cure.change) },
          cure.words,
        ),
      );
    for (const w of found.warnings || []) lines.push(el("div", { class: "note warn" }, w));
    const said = row.group ? "" : saying(found.figures || {}, this.state.figures.sheet, this.state.steps[row.step]);
    if (said) lines.push(el("div", { class: "note" }, said));
    this.noteBox.replaceChildren(...lines);
  }
}

// What a row decided, in words; told by the figures that it gives, whatever its name
function saying(f, sheet, step) {
  const does = what => step?.can.includes(what);
  if (f.told_by) {
    const by = {
      exif: "the perspective and the focal length the camera noted",
      perspective: "the perspective alone",
      size: "the size given",
      guess: "a guess",
    }[f.told_by];
    return (
      `Width to height ${f.aspect.toFixed(3)}` +
      `${f.told_by === "size" ? "" : ` ± ${f.aspect_error_percent.toFixed(1)} %`}, from ${by}.`
    );
  }
  if (f.evenness_before != null)
    return (
      `Unevenness ${f.evenness_before.toFixed(1)} before, ${f.evenness_after.toFixed(1)} after: ` +
      `smaller is better (spread of L*; 0 is even).`
    );
  if (does("close") && sheet.seam_x_after != null) {
    const n = v => v.toFixed(1);
    const p = v => `${Math.floor(100 * v + 0.5)} %`;
    const kept =
      sheet.contrast_x_after == null
        ? ""
        : ` Local contrast kept along it: ${p(sheet.contrast_x_after)} across, ${p(sheet.contrast_y_after)} down.`;
    return (
      `Seam across ${n(sheet.seam_x_before)} before, ${n(sheet.seam_x_after)} after; down ` +
      `${n(sheet.seam_y_before)} before, ${n(sheet.seam_y_after)} after: visible above 1.${kept}`
    );
  }
  if (does("photo") && f.read?.length) return `The file says: ${f.read[0]}.`;
  if (f.cells && f.keeps_to === "")
    return `${f.cells} pieces; no grid and no courses were found that they could keep to.`;
  if (f.cells) return `${f.cells} pieces${f.keeps_to ? `, kept to ${f.keeps_to}` : ""}.`;
  if (f.spread != null) return `Varies by ${f.spread.toFixed(2)} over nine tenths of the surface.`;
  return "";
}
