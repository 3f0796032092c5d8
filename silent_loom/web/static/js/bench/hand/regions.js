// The controls of regions that are marked on the flat picture: each is listed, hidden, moved in order and taken out.
import { el } from "../../base/api.js";
import { choices, slider } from "./brush_controls.js";
import { brush, handOf } from "./hand.js";

const REGIONS = { outline: "Outline", brush: "Painted", tone: "By tone", element: "Element" };

export function regionsControls(controls) {
  const { state } = controls,
    node = el("div", { class: "hand-tools" });
  const build = () => {
    const row = controls.row;
    if (!row || handOf(state, row) !== "regions") return;
    const regions = row.settings.regions;
    const send = next => state.change({ kind: "settings", step_id: row.id, settings: { regions: next } });
    const list = el("ol", { class: "layers", "aria-label": "Marked regions" });
    regions.forEach((region, i) =>
      list.append(
        el(
          "li",
          {},
          el("span", {}, `${REGIONS[region.kind]} ${i + 1}${region.erase ? ", taken away" : ""}`),
          el(
            "button",
            {
              class: "act push",
              type: "button",
              "aria-label": `Take region ${i + 1} out`,
              onclick: () => send(regions.filter((_, k) => k !== i)),
            },
            "×",
          ),
        ),
      ),
    );
    node.replaceChildren(
      choices(
        "Mark by",
        "mark",
        [
          ["outline", "Outline", "Draw round it"],
          ["brush", "Brush", "Paint over it"],
          ["tone", "Similar tone", "Press on it"],
          ...(row.settings.ids && row.settings.ids !== "none" ? [["element", "Element", "Press on one"]] : []),
        ],
        build,
      ),
      brush.mark === "brush"
        ? slider("Brush", "radius", 0.003, 0.2, v => `${(v * 100).toFixed(1)} % of the sheet`)
        : el("span"),
      brush.mark === "tone" ? slider("Tolerance", "tolerance", 1, 40, v => v.toFixed(0)) : el("span"),
      brush.mark === "tone"
        ? el(
            "label",
            {},
            el("input", {
              type: "checkbox",
              class: "form-check-input m-0",
              checked: brush.everywhere,
              onchange: e => {
                brush.everywhere = e.target.checked;
              },
            }),
            " everywhere, not only where it hangs together",
          )
        : el("span"),
      state.can(row, "fill")
        ? ""
        : el(
            "label",
            {},
            el("input", {
              type: "checkbox",
              class: "form-check-input m-0",
              id: "mark-away",
              checked: brush.away,
              onchange: e => {
                brush.away = e.target.checked;
              },
            }),
            " take away from what is marked",
          ),
      el(
        "p",
        { class: "note" },
        state.can(row, "fill")
          ? "Mark on the flat picture, half shifted or repeated, what is to go: it is filled from the " +
              "rest of the surface, in every map alike."
          : "Mark places on the flat picture, half shifted or repeated: paint, draw round, or press.",
      ),
      list,
      el(
        "label",
        {},
        el("input", {
          type: "checkbox",
          class: "form-check-input m-0",
          checked: !!state.showMarks,
          onchange: e => {
            state.showMarks = e.target.checked;
          },
        }),
        " show the marks",
      ),
    );
  };
  build();
  return { node, update: build };
}
