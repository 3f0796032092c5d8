// The cells that a sheet is broken up into: what they are, and what other sizes would do.
import { beside, el, picture as pictured, post } from "../../base/api.js";
import { length } from "../../base/units.js";

const PICTURES = [
  ["cells", "The cells"],
  ["before", "Chart before"],
  ["chart", "and after"],
];

export function cellsControls(controls) {
  const { state } = controls,
    box = el("div", { class: "cell-pictures three" });
  const figure = (row, what, title) => {
    const picture = el("img", { alt: title }),
      of = `step_id=${row.id}&what=${what}&size=640&at=${state.material.head}`;
    pictured(`${state.path}/cells.png?${of}`, () => picture.isConnected)
      .then(made => {
        if (made) picture.src = made.src;
      })
      .catch(() => {
        /* the row says what is wrong */
      });
    const enlarge = e => e.currentTarget.setAttribute("aria-expanded", whole.classList.toggle("large"));
    const whole = el(
      "figure",
      {},
      el(
        "button",
        {
          class: "bare",
          type: "button",
          "aria-expanded": false,
          onclick: enlarge,
          "aria-label": `${title}, larger or smaller`,
        },
        picture,
      ),
      el("figcaption", {}, title),
    );
    return whole;
  };
  const load = () => {
    const { row } = controls;
    if (!row || state.steps[row.step]?.panel !== "cells") return;
    box.replaceChildren(...PICTURES.map(([what, title]) => figure(row, what, title)));
  };

  const sizes = el("div", { class: "cell-pictures three", id: "cell-sizes" });
  const tried = s =>
    el(
      "figure",
      {},
      el(
        "button",
        {
          class: "bare",
          type: "button",
          title: "Take this size",
          onclick: () => {
            controls.try({ cell_mm: s.cell_mm });
            controls.settle();
          },
        },
        el("img", { alt: `Cells of ${length(s.cell_mm)}`, src: `data:image/png;base64,${s.picture}` }),
      ),
      el(
        "figcaption",
        {},
        `${length(s.cell_mm)}: repetition ${s.repetition.toFixed(2)}, seen twice ${Math.round(100 * s.copied)} %`,
      ),
    );
  const compare = el(
    "button",
    {
      class: "act edge my-1",
      type: "button",
      id: "compare-cells",
      onclick: async () => {
        compare.disabled = true;
        try {
          const answer = await beside(() => post(`${state.path}/cell-sizes`, { step_id: controls.row.id }));
          sizes.replaceChildren(...(answer?.sizes || []).map(tried));
        } catch (e) {
          sizes.replaceChildren(el("div", { class: "note warn" }, e.message));
        }
        compare.disabled = false;
      },
    },
    "Compare three cell sizes",
  );
  return {
    node: el("div", {}, box, compare, sizes),
    update() {
      const head = String(state.material.head);
      if (box.dataset.head !== head) {
        box.dataset.head = head;
        load();
      }
    },
  };
}
