// What the artist notes of a row; its first line stands in the chart.
import { el } from "../../base/api.js";

export function rowNote(controls) {
  const { state } = controls;
  const text = el("textarea", {
    rows: 2,
    maxlength: 1000,
    id: "row-note",
    "aria-label": "Note",
    placeholder: "What it is there for",
  });
  const keep = () => {
    if (text.value.trim() !== controls.row.note)
      state.change({ kind: "note", step_id: controls.row.id, note: text.value });
  };
  text.addEventListener("change", keep);
  text.addEventListener("keydown", e => {
    if (e.key === "Enter" && !e.shiftKey) {
      e.preventDefault();
      text.blur();
    }
  });
  const node = el("details", { class: "row-note", open: Boolean(controls.row.note) }, el("summary", {}, "Note"), text);
  return {
    node,
    update() {
      if (document.activeElement !== text) text.value = controls.row?.note || "";
    },
  };
}
