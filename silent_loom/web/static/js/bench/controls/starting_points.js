// Starting points of a step, one press each, and another seed.
import { el } from "../../base/api.js";

export function presetRow(controls, step) {
  const fits = (p, v) => Object.entries(p.settings).every(([k, x]) => JSON.stringify(v[k]) === JSON.stringify(x));
  const take = p => {
    controls.try(p.settings);
    controls.settle();
  };
  const buttons = step.presets.map(p =>
    el("button", { class: "act edge", type: "button", "data-preset": p.title, onclick: () => take(p) }, p.title),
  );
  const { kind } = step.presets[0];
  const node = el(
    "div",
    { class: "presets", role: "group", "aria-label": kind || "Starting points" },
    kind ? el("span", { class: "quiet" }, kind) : null,
    ...buttons,
  );
  return {
    node,
    update(v) {
      step.presets.forEach((p, i) => buttons[i].setAttribute("aria-pressed", fits(p, v)));
    },
  };
}

// Another seed: another wall out of the same photo
export function dice(controls, field) {
  const next = () => {
    controls.try({ [field.name]: (controls.settings[field.name] + 1) % 2147483647 });
    controls.settle();
  };
  return {
    node: el("button", { class: "act edge", type: "button", id: `another-${field.name}`, onclick: next }, "Another"),
  };
}
