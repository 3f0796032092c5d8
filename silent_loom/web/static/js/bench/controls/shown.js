// Whether the mask that a row makes lies over the picture while the row is chosen, in the dye of its thread.
import { el } from "../../base/api.js";

export function shownOver(state) {
  const seen = el("input", {
    type: "checkbox",
    class: "form-check-input m-0",
    id: "show-own",
    checked: state.showMask !== false,
    onchange: () => {
      state.showMask = seen.checked ? undefined : false;
      state.emit("overlay");
    },
  });
  const node = el(
    "div",
    { class: "control" },
    el("label", { for: "show-own" }, "Show it over the picture"),
    el("span", {}, seen),
  );
  return {
    node,
    update() {
      seen.checked = state.showMask !== false;
    },
  };
}
