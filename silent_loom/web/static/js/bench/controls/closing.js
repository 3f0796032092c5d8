// How edges meet: suggested, by a motif that is found or marked, with overlaps that fit.
import { el, post } from "../../base/api.js";

// Lets the row be set by the application; what it says stands in the note
function asker({ state }) {
  const why = el("div", { class: "note", role: "status", hidden: true });
  const ask = async method => {
    why.hidden = false;
    why.textContent = "Trying …";
    await state.after(
      async () => {
        try {
          const made = await post(`${state.path}/suggest?method=${method}`);
          why.textContent = made.why;
          return made;
        } catch (e) {
          why.textContent = e.message;
          throw e;
        }
      },
      { asks: true },
    );
  };
  return [ask, why];
}

// The motif by hand, straight from here: a first cell to drag, whatever method was chosen before
const FIRST = {
  grid: [
    [0.25, 0.25],
    [0.75, 0.25],
    [0.75, 0.75],
    [0.25, 0.75],
  ],
  grid_x: 1,
  grid_y: 1,
};
function markCell(controls) {
  controls.try({ method: "motif", ...(controls.settings.grid ? {} : FIRST) });
  controls.settle().then(() => controls.state.emit("grid"));
}

export function suggestControls(controls) {
  const [ask, why] = asker(controls);
  const marks = "Drag the corners of one repeat, or of several whole ones, on the sheet";
  const act = (id, words, onclick, more = {}) =>
    el("button", { class: "act", type: "button", id, onclick, ...more }, words);
  const presses = el(
    "div",
    { class: "d-flex gap-1 my-2 flex-wrap" },
    act("suggest", "Suggest a method", () => ask("suggested"), { class: "act edge" }),
    act("find-motif", "Find a motif", () => ask("motif")),
    act("mark-cell", "Mark it by hand", () => markCell(controls), { title: marks }),
  );
  return { node: el("div", {}, presses, why) };
}

export function overlapControls(controls) {
  const [ask, why] = asker(controls);
  const fit = el(
    "button",
    {
      class: "act edge my-1",
      type: "button",
      id: "fit-overlap",
      onclick: () => ask("overlap"),
      title: "Fits the overlaps so that whatever runs along the edges meets itself",
    },
    "Fit the overlap",
  );
  return {
    node: el("div", {}, fit, why),
    update(v) {
      fit.hidden = ["motif", "mirror"].includes(v.method);
      why.hidden ||= fit.hidden;
    },
  };
}

export function gridControls(controls) {
  const node = el(
    "button",
    { class: "act edge my-1", type: "button", id: "place-grid", onclick: () => markCell(controls) },
    "Correct the grid by hand",
  );
  return {
    node,
    update(v) {
      node.hidden = v.method !== "motif";
    },
  };
}
