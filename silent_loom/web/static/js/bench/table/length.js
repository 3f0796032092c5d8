// A known length, dragged over the photo: says how large everything is.
import { el } from "../../base/api.js";
import { chosen, fieldUnit, length, parse } from "../../base/units.js";
import { CornersView } from "./corners.js";

export class LengthView extends CornersView {
  constructor(pane) {
    super(pane);
    this.ends = [
      [0.3, 0.5],
      [0.7, 0.5],
    ];
    for (const i of [2, 3]) this.handles[i].remove();
    this.handles.length = 2;
    this.handles.forEach((h, i) => {
      h.classList.add("end");
      h.setAttribute("aria-label", `${["First", "Second"][i]} end of the known length; arrow keys move it`);
    });
    this.shownUnit = () => fieldUnit("mm", 1);
    this.field2 = el("input", {
      type: "text",
      "aria-label": "How long that is",
      inputmode: "decimal",
      autocomplete: "off",
    });
    this.said = el("span", { class: "quiet" });
    this.form = el(
      "form",
      {
        class: "length-form",
        onsubmit: e => {
          e.preventDefault();
          this.take();
        },
      },
      el("span", {}, "Drag both ends over something whose length you know. It is"),
      this.field2,
      el("span", { class: "quiet" }, this.shownUnit().unit),
      el("button", { class: "act main", type: "submit", id: "take-length" }, "That is it"),
      el("button", { class: "act", type: "button", onclick: () => pane.show(pane.last || "flat") }, "Leave it"),
    );
    this.extra = [...this.handles, this.loupe, this.form];
  }

  get photoRow() {
    return this.state.that("photo");
  }
  get corners() {
    return this.ends;
  }
  // Width of the whole photo when the line is this long, in mm
  widthFor(mm) {
    const [a, b] = this.ends,
      w = this.photo.naturalWidth,
      h = this.photo.naturalHeight;
    return (mm * w) / Math.max(1, Math.hypot((a[0] - b[0]) * w, (a[1] - b[1]) * h));
  }

  ask() {
    super.ask();
    if (!this.field2.value) this.suggest();
  }

  // What it would be by the width that is assumed now
  suggest() {
    const row = this.photoRow;
    if (!row || !this.photo.naturalWidth) return;
    const per = this.widthFor(1);
    this.field2.placeholder = `now ${length(row.settings.width_mm / per)}`;
  }

  shown() {
    super.shown();
    this.suggest();
  }
  move(i, u, v) {
    this.ends = this.ends.map((p, k) => (k === i ? [Math.max(0, Math.min(1, u)), Math.max(0, Math.min(1, v))] : p));
    this.draw();
    this.suggest();
  }

  async take() {
    const mm = parse(this.field2.value, { factor: 1, unit: "mm", ...(chosen() === "auto" ? {} : this.shownUnit()) });
    if (!Number.isFinite(mm) || mm <= 0) {
      this.pane.say("Type how long it is, for example 12 cm or 5 in.");
      this.field2.focus();
      return;
    }
    const width = +this.widthFor(mm).toPrecision(6),
      row = this.photoRow;
    if (width < 0.01 || width > 1e6) {
      this.pane.say("That would make the photo unreasonably small or large.");
      return;
    }
    await this.state.change({ kind: "settings", step_id: row.id, settings: { width_mm: width } });
    this.pane.show(this.pane.last || "flat");
  }
}
