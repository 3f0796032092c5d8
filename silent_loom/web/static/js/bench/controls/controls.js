// The controls of the chosen step, made from its declared settings.
import { beside, el, icon, picture as pictured, post } from "../../base/api.js";
import { regionsControls, strokesControls } from "../hand/handtools.js";
import { curveEditor, histogramBars } from "./drawn.js";
import { dice, editsControls, overControls, presetRow } from "./laid.js";
import { reliefPanel } from "./relief.js";
import { sizesEditor } from "./sizes.js";
import { copyButtons } from "../weave/copying.js";
import { linkButton, withLinked } from "./linked.js";
import { shownOver } from "./shown.js";
import { rowNote } from "./note.js";
import { draftEditor, pathEditor } from "./patterns.js";
import { levelsEditor, rampEditor } from "./tones.js";
import { groupControls } from "../weave/groups.js";
import { mixing } from "../weave/masks.js";
import { numberControl } from "./number.js";
import { threadControl } from "../weave/threadpick.js";
import { length } from "../../base/units.js";

const REST = 450; // ms without a change after which a value that was typed or nudged by keys is stored

export class Controls {
  constructor(root, state) {
    this.root = root;
    this.state = state;
    this.fields = new Map();
    state.addEventListener("chosen", () => this.build());
    state.addEventListener("material", () => this.refresh());
    state.addEventListener("figures", () => this.notes());
    addEventListener("loom-unit", () => this.build());
  }

  get row() { return this.state.row(this.state.chosen); }
  get settings() {
    const draft = this.state.draft;
    return { ...this.row.settings, ...(draft && draft.step_id === this.row.id ? draft.settings : {}) };
  }

  refresh() {
    // The same step with other values: keep the controls (and the focus), set the values
    if (!this.row || this.built !== this.row.id + this.row.step) this.build();
    else { this.update(); this.notes(); }
  }

  try(values) {
    clearTimeout(this.resting);
    this.state.try(this.row.id, withLinked(this.state.steps[this.row.step], this.row, this.settings, values));
    this.update();
  }
  settle() { clearTimeout(this.resting); return this.state.settle(); }
  settleSoon() { clearTimeout(this.resting); this.resting = setTimeout(() => this.settle(), REST); }

  build() {
    if (this.state.draft) this.settle();
    const row = this.row;
    this.fields.clear();
    this.shapes = [];
    this.root.replaceChildren();
    if (!row) { this.built = null; return; }
    this.built = row.id + row.step;
    if (row.group) {
      this.shapes.push(groupControls(this, this.root));
      this.update();
      this.notes();
      return;
    }
    const step = this.state.steps[row.step];
    if (!step) { this.unknown(row); return; }
    const dye = this.state.threads.find((t) => ["writes", "both"].includes(row.knots[t.name]))?.dye;
    if (dye) this.root.dataset.dye = dye; else delete this.root.dataset.dye;
    this.root.append(el("h2", { tabindex: -1 }, step.title), el("p", { class: "lead" }, step.says));
    this.noteBox = el("div", { "aria-live": "polite" });
    this.root.append(this.noteBox);
    ({ join: () => this.suggest(), cells: () => this.cells(), light: () => this.light() })[step.panel]?.();
    if (step.presets.length) this.shape(presetRow(step, this));
    if (step.panel === "relief") this.shape(reliefPanel(this));
    const levels = step.fields.some((f) => f.shape === "levels");
    if (levels) this.shape(levelsEditor(this));
    for (const field of step.fields) {
      if (field.kind === "curve") this.shape(curveEditor(field, this));
      else if (field.kind === "corners") this.corners(field);
      else if (field.kind === "source") this.source();
      else if (field.kind === "strokes") this.shape(strokesControls(this));
      else if (field.kind === "regions") this.shape(regionsControls(this));
      else if (field.kind === "grid") this.grid();
      else if (field.kind === "grey") this.grey();
      else if (field.kind === "kept") this.kept();
      else if (field.kind === "maps") this.maps();
      else if (field.kind === "sizes") this.shape(sizesEditor(field, this));
      else if (field.kind === "ramp") this.shape(rampEditor(field, this));
      else if (field.kind === "draft") this.shape(draftEditor(field, this));
      else if (field.kind === "path") this.shape(pathEditor(field, this));
      else if (field.kind === "edits") this.shape(editsControls(this));
      else if (field.kind === "over") this.shape(overControls(this));
      else this.root.append(this.control(field));
      this.root.append(linkButton(step, field, this));
      if (field.name === "seed") this.root.append(dice(field, this));
      if (step.panel === "join" && field.name === "overlap_y") this.fitOverlap();
    }
    if (!levels && !step.fields.some((f) => f.kind === "curve") && Object.values(row.knots).some((k) => k !== "writes") && !step.geometric) {
      this.shape(histogramBars(this));
    }
    if (this.state.can(row, "shown")) this.shape(shownOver(this.state));
    this.shape(rowNote(this));
    if (!step.geometric) { const mix = mixing(this); this.shapes.push(mix); this.root.append(mix.node); }
    this.root.append(el("div", { class: "d-flex mt-2" },
      el("button", { class: "act", type: "button", id: "switch-step", onclick: () => this.state.change({ kind: "switch", step_id: row.id, on: !this.row.on }) }),
      ...copyButtons(this.state, row.id),
      el("button", { class: "act push", type: "button", onclick: () => this.state.change({ kind: "remove", step_id: row.id }) }, icon("trash"), "Take out")));
    this.update();
    this.notes();
    this.askHistogram();
  }

  // A row whose step there is not here: kept, and said so
  unknown(row) {
    this.root.append(el("h2", {}, row.title), el("div", { class: "note warn", role: "alert" }, row.error),
      el("button", { class: "act", type: "button", onclick: () => this.state.change({ kind: "remove", step_id: row.id }) }, icon("trash"), "Take out"));
  }

  shape(shape) { this.shapes.push(shape); this.root.append(shape.node); }

  async askHistogram() {
    const row = this.row;
    if (!row || !this.shapes.some((s) => s.histogram)) return;
    const reads = Object.entries(row.knots).filter(([, k]) => k === "reads" || k === "both").map(([t]) => t);
    if (!reads.length) return;
    try {
      const still = () => this.row?.id === row.id;
      const found = await beside(() => post(`${this.state.path}/histogram`, { thread: reads[0], size: 256, below: row.id }), still);
      if (found && still()) for (const s of this.shapes) s.histogram?.(found.channels, reads[0]);
    } catch { /* the chart shows what is wrong with the row */ }
  }

  control(field) {
    const id = `set-${field.name}`;
    const box = el("div", { class: "control", "data-field": field.name });
    const label = el("label", { for: id, title: field.says }, field.title);
    const reset = el("button", { class: "act reset", type: "button", title: "Back to what it was on a fresh step", "aria-label": `Reset ${field.title}`, onclick: () => { this.try({ [field.name]: field.default }); this.settle(); } }, "↺");
    const says = el("span", { class: "says" }, field.says);
    let set;
    if (field.kind === "choice") {
      const select = el("select", { id, onchange: () => { this.try({ [field.name]: field.choices[select.selectedIndex] }); this.settle(); } },
        ...field.choices.map((c) => el("option", { value: String(c) }, field.names[String(c)] || String(c))));
      set = (v) => { select.selectedIndex = field.choices.indexOf(v); };
      box.append(label, select, reset, says);
    } else if (field.kind === "switch") {
      const check = el("input", { id, type: "checkbox", class: "form-check-input m-0", onchange: () => { this.try({ [field.name]: check.checked }); this.settle(); } });
      set = (v) => { check.checked = v; };
      box.append(label, check, reset, says);
    } else if (field.kind === "thread") {
      set = threadControl(this, field, box, { id, label, reset, says });
    } else if (field.kind === "colour") {
      const text = typeof field.default === "string";
      const hex = (c) => text ? c : `#${c.map((v) => Math.round(v * 255).toString(16).padStart(2, "0")).join("")}`;
      const pick = el("input", { id, type: "color", oninput: () => this.try({ [field.name]: text ? pick.value : [1, 3, 5].map((i) => parseInt(pick.value.slice(i, i + 2), 16) / 255) }), onchange: () => this.settle() });
      set = (v) => { pick.value = hex(v); };
      box.append(label, pick, reset, says);
    } else {
      set = numberControl(this, field, box, { id, label, reset, says });
    }
    this.fields.set(field.name, { field, box, set });
    return box;
  }

  source() {
    const file = el("input", { type: "file", class: "d-none", "aria-label": "Other photo", onchange: () => file.files[0] && this.state.otherPhoto(this.row.id, file.files[0]) });
    const source = el("div", { class: "note" }, this.row.words || "No photo chosen");
    this.root.append(source, file, el("button", { class: "act edge mb-2", type: "button", onclick: () => file.click() }, "Put another photo through"));
  }

  corners(field) {
    const place = el("button", { class: "act edge", type: "button", id: "place-corners", onclick: () => this.state.emit("corners", field) }, "Place corners");
    const whole = el("button", { class: "act", type: "button", onclick: () => { this.try({ corners: null }); this.settle(); } }, "Whole photo");
    const why = el("div", { class: "note", hidden: true });
    const repeats = el("button", { class: "act", type: "button", id: "whole-repeats", title: "Moves the corners to as many whole repeats of the motif as fit", onclick: async () => {
      repeats.disabled = true;
      this.state.emit("saving");
      await this.state.after(async () => {
        try { const made = await post(`${this.state.path}/whole-repeats`); this.cropped = made.why; return made; }
        catch (error) { this.cropped = ""; throw error; }
        finally { repeats.disabled = false; }
      }, { asks: true });
    } }, "Crop to whole repeats");
    this.root.append(el("div", { class: "d-flex gap-1 my-2 flex-wrap" }, place, whole, repeats), why);
    this.shapes.push({ node: why, update: () => { why.hidden = !this.cropped; why.textContent = this.cropped || ""; } });
  }

  suggest() {
    const [ask, why] = this.asker();
    this.root.append(el("div", { class: "d-flex gap-1 my-2 flex-wrap" }, el("button", { class: "act edge", type: "button", id: "suggest", onclick: () => ask("suggested") }, "Suggest a method"),
      el("button", { class: "act", type: "button", id: "find-motif", onclick: () => ask("motif") }, "Find a motif"),
      el("button", { class: "act", type: "button", id: "mark-cell", title: "Drag the corners of one repeat, or of several whole ones, on the sheet", onclick: () => this.markCell() }, "Mark it by hand")), why);
  }

  fitOverlap() {
    const [ask, why] = this.asker();
    const fit = el("button", { class: "act edge my-1", type: "button", id: "fit-overlap", title: "Fits the overlaps so that whatever runs along the edges meets itself", onclick: () => ask("overlap") }, "Fit the overlap");
    this.root.append(fit, why);
    this.shapes.push({ node: fit, update: (v) => { fit.hidden = ["motif", "mirror"].includes(v.method); why.hidden ||= fit.hidden; } });
  }

  // Lets the seamless step be set by the application; what it says stands in the note
  asker() {
    const why = el("div", { class: "note", role: "status", hidden: true });
    const ask = async (method) => {
      why.hidden = false;
      why.textContent = "Trying …";
      await this.state.after(async () => {
        try { const made = await post(`${this.state.path}/suggest?method=${method}`); why.textContent = made.why; return made; }
        catch (e) { why.textContent = e.message; throw e; }
      }, { asks: true });
    };
    return [ask, why];
  }

  // The motif by hand, straight from here: a first cell to drag, whatever method was chosen before
  markCell() {
    const now = this.settings;
    const values = now.grid ? { method: "motif" } : { method: "motif", grid: [[0.25, 0.25], [0.75, 0.25], [0.75, 0.75], [0.25, 0.75]], grid_x: 1, grid_y: 1 };
    this.try(values);
    this.settle().then(() => this.state.emit("grid"));
  }

  grid() {
    const button = el("button", { class: "act edge my-1", type: "button", id: "place-grid", onclick: () => this.markCell() }, "Correct the grid by hand");
    this.root.append(button);
    this.shapes.push({ node: button, update: (v) => { button.hidden = v.method !== "motif"; } });
  }

  grey() {
    const none = el("button", { class: "act", type: "button", onclick: () => { this.try({ grey: null }); this.settle(); } }, "As it was");
    const pick = el("button", { class: "act edge", type: "button", id: "pick-grey", onclick: () => {
      const row = this.row, above = this.above(row);
      this.state.pick({ below: above, words: "Press on something that is neutral grey.", take: async (u, v) => {
        const { light } = await post(`${this.state.path}/pick`, { below: row.id, u, v });
        await this.state.change({ kind: "settings", step_id: row.id, settings: { grey: light } });
      } });
    } }, "Pick a neutral grey");
    this.root.append(el("div", { class: "d-flex gap-1 my-2" }, pick, none));
    this.shapes.push({ node: none, update: (v) => { none.hidden = !v.grey; } });
  }

  above(row) { const rows = this.state.rows.filter((r) => (!r.resting && !r.idle && !r.group) || r.id === row.id), at = rows.findIndex((r) => r.id === row.id); return rows[Math.max(0, at < 0 ? 0 : at - 1)]?.id; }

  kept() {
    const node = el("div", { class: "d-flex gap-1 my-1 flex-wrap" });
    const build = (v) => {
      if (!v.corners && !v.others.length) { node.replaceChildren(); return; }
      const swap = (i) => { const others = [...v.others]; const next = others.splice(i, 1)[0]; if (v.corners) others.push(v.corners); this.try({ corners: next, others }); this.settle(); };
      node.replaceChildren(...v.others.map((_, i) => el("button", { class: "act edge", type: "button", onclick: () => swap(i) }, `Rectangle ${i + 1}`)),
        v.corners ? el("button", { class: "act", type: "button", id: "keep-rectangle", title: "Keep this rectangle and mark another one on the same photo", onclick: () => { this.try({ others: [...v.others, v.corners] }); this.settle(); this.state.emit("corners"); } }, "Mark a second rectangle") : null);
    };
    this.root.append(node);
    this.shapes.push({ node, update: build });
  }

  maps() {
    const sources = this.state.weave.sources || {}, names = { tagged: "as the file says", srgb: "sRGB", linear: "linear" };
    const list = el("ul", { class: "layers sources" }), colour = (m) => this.state.threads.find((t) => t.name === m.thread)?.kind === "colour";
    const build = () => {
      const { maps } = this.settings, read = this.state.figures.rows[this.row.id]?.figures?.read || [];
      list.replaceChildren(...maps.map((m, i) => el("li", {}, el("span", {}, el("b", {}, m.thread), el("span", { class: "quiet" }, ` ${sources[m.source] || ""}${m.channel === "rgb" ? "" : `, ${m.channel}`}${m.invert ? ", inverted" : ""}${m.green_down ? ", green turned" : ""}${read[i] ? ` (${read[i]})` : ""}`)),
        el("select", { "aria-label": `${m.thread} is read as`, onchange: (e) => { this.try({ maps: maps.map((o, k) => (k === i ? { ...o, read_as: e.target.value } : o)) }); this.settle(); } },
          ...Object.entries(names).filter(([k]) => k !== "linear" || colour(m)).map(([k, title]) => el("option", { value: k, selected: m.read_as === k }, k === "tagged" && !colour(m) ? "data" : title))))));
    };
    this.root.append(list);
    this.shapes.push({ node: list, update: build });
    this.state.addEventListener("figures", () => { if (list.isConnected) build(); });
  }

  cells() {
    const box = el("div", { class: "cell-pictures three" });
    const load = () => {
      const row = this.row;
      if (!row || this.state.steps[row.step]?.panel !== "cells") return;
      box.replaceChildren(...[["cells", "The cells"], ["before", "Chart before"], ["chart", "and after"]].map(([what, title]) => {
        const figure = el("figure", {}), picture = el("img", { alt: title });
        pictured(`${this.state.path}/cells.png?step_id=${row.id}&what=${what}&size=640&at=${this.state.material.head}`, () => picture.isConnected)
          .then((made) => { if (made) picture.src = made.src; }).catch(() => { /* the row says what is wrong */ });
        figure.append(el("button", { class: "bare", type: "button", "aria-label": `${title}, larger or smaller`, "aria-expanded": false, onclick: (e) => { const large = figure.classList.toggle("large"); e.currentTarget.setAttribute("aria-expanded", large); } }, picture), el("figcaption", {}, title));
        return figure;
      }));
    };
    const sizes = el("div", { class: "cell-pictures three", id: "cell-sizes" });
    const compare = el("button", { class: "act edge my-1", type: "button", id: "compare-cells", onclick: async () => {
      compare.disabled = true;
      try {
        const found = await beside(() => post(`${this.state.path}/cell-sizes`, { step_id: this.row.id }));
        sizes.replaceChildren(...(found?.sizes || []).map((s) => el("figure", {},
          el("button", { class: "bare", type: "button", title: "Take this size", onclick: () => { this.try({ cell_mm: s.cell_mm }); this.settle(); } }, el("img", { alt: `Cells of ${length(s.cell_mm)}`, src: `data:image/png;base64,${s.picture}` })),
          el("figcaption", {}, `${length(s.cell_mm)}: repetition ${s.repetition.toFixed(2)}, seen twice ${Math.round(100 * s.copied)} %`))));
      } catch (e) { sizes.replaceChildren(el("div", { class: "note warn" }, e.message)); }
      compare.disabled = false;
    } }, "Compare three cell sizes");
    this.root.append(box, compare, sizes);
    this.shapes.push({ node: box, update: () => { if (box.dataset.head !== String(this.state.material.head)) { box.dataset.head = this.state.material.head; load(); } } });
  }

  light() {
    const picture = el("img", { class: "light-picture", alt: "The uneven light that is taken out" });
    this.root.append(el("figure", { class: "cell-pictures one" }, picture, el("figcaption", {}, "The light that is taken out; middle grey is even")));
    this.shapes.push({ node: picture, update: () => {
      const head = String(this.state.material.head);
      if (picture.dataset.head === head || !this.row.on || this.row.idle) return;
      picture.dataset.head = head;
      pictured(`${this.state.path}/light.png?step_id=${this.row.id}&at=${head}`, () => picture.isConnected && picture.dataset.head === head)
        .then((made) => { if (made && picture.dataset.head === head) picture.src = made.src; }).catch(() => { /* the row says what is wrong */ });
    } });
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
        box.querySelectorAll("input, select, button").forEach((n) => { n.disabled = !!by; });
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
    if (row.error || found.error) lines.push(el("div", { class: "note warn", role: "alert" }, row.error || found.error));
    if (row.order) lines.push(el("div", { class: "note warn" }, row.order));
    for (const cure of row.cures || []) lines.push(el("button", { class: "act edge cure", type: "button", onclick: () => this.state.change(cure.change) }, cure.words));
    for (const w of found.warnings || []) lines.push(el("div", { class: "note warn" }, w));
    const said = row.group ? "" : saying(found.figures || {}, this.state.figures.sheet, this.state.steps[row.step]);
    if (said) lines.push(el("div", { class: "note" }, said));
    this.noteBox.replaceChildren(...lines);
  }
}

// What a row decided, in words; told by the figures that it gives, whatever its name
function saying(f, sheet, step) {
  const does = (what) => step?.can.includes(what);
  if (f.told_by) {
    const by = { exif: "the perspective and the focal length the camera noted", perspective: "the perspective alone", size: "the size given", guess: "a guess" }[f.told_by];
    return `Width to height ${f.aspect.toFixed(3)}${f.told_by === "size" ? "" : ` ± ${f.aspect_error_percent.toFixed(1)} %`}, from ${by}.`;
  }
  if (f.evenness_before != null) return `Unevenness ${f.evenness_before.toFixed(1)} before, ${f.evenness_after.toFixed(1)} after: smaller is better (spread of L*; 0 is even).`;
  if (does("close") && sheet.seam_x_after != null) {
    const n = (v) => v.toFixed(1);
    const p = (v) => `${Math.floor(100 * v + 0.5)} %`;
    const kept = sheet.contrast_x_after == null ? "" : ` Local contrast kept along it: ${p(sheet.contrast_x_after)} across, ${p(sheet.contrast_y_after)} down.`;
    return `Seam across ${n(sheet.seam_x_before)} before, ${n(sheet.seam_x_after)} after; down ${n(sheet.seam_y_before)} before, ${n(sheet.seam_y_after)} after: visible above 1.${kept}`;
  }
  if (does("photo") && f.read?.length) return `The file says: ${f.read[0]}.`;
  if (f.cells) return `${f.cells} pieces${f.keeps_to ? `, kept to ${f.keeps_to}` : f.keeps_to === "" ? "; no grid and no courses were found that they could keep to" : ""}.`;
  if (f.spread != null) return `Varies by ${f.spread.toFixed(2)} over nine tenths of the surface.`;
  return "";
}
