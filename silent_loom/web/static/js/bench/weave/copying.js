// Rows copied from one material and put into another: kept by the browser, so that any bench of this library finds
// them.
import { el, get } from "../../base/api.js";

const KEY = "silent-loom-rows";

export async function copyRows(state, ids) {
  if (!ids.length) return;
  const { entries } = await get(`${state.path}/rows?ids=${ids.join(",")}`);
  const text = JSON.stringify({ from: state.material.name, entries });
  localStorage.setItem(KEY, text);
  try {
    await navigator.clipboard.writeText(text);
  } catch {
    /* the browser's own store is enough */
  }
  state.emit("said", `${entries.length} row${entries.length === 1 ? "" : "s"} copied`);
}

export async function pasteRows(state) {
  const kept = localStorage.getItem(KEY);
  if (!kept) {
    state.emit("said", "Nothing has been copied yet");
    return;
  }
  const { entries } = JSON.parse(kept),
    known = new Set(state.rows.map(r => r.id));
  await state.change({ kind: "paste", entries, ...state.below(state.row(state.chosen)) });
  const made = state.rows.find(r => !known.has(r.id));
  if (made) state.choose(made.id);
}

// Both as buttons below the controls of a row
export function copyButtons(state, id) {
  return [
    el(
      "button",
      {
        class: "act",
        type: "button",
        id: "copy-rows",
        title: "To put it into this material or another (Ctrl+C in the weave)",
        onclick: () => copyRows(state, [id]),
      },
      "Copy",
    ),
    el(
      "button",
      {
        class: "act",
        type: "button",
        id: "paste-rows",
        title: "Put what was copied below this row (Ctrl+V in the weave)",
        onclick: () => pasteRows(state),
      },
      "Paste",
    ),
  ];
}
