// What a brush is set by: a slider, and a choice among a few.
import { el } from "../../base/api.js";
import { brush } from "./hand.js";

export const slider = (name, key, low, high, words, after) => {
  const input = el("input", { class: "slide", type: "range", min: 0, max: 1000, "aria-label": name });
  const number = el("span", { class: "quiet" });
  const show = () => {
    const t = (brush[key] - low) / (high - low);
    input.value = Math.round(1000 * t);
    input.style.setProperty("--at", `${100 * t}%`);
    number.textContent = words(brush[key]);
  };
  input.addEventListener("input", () => {
    brush[key] = low + ((high - low) * input.value) / 1000;
    show();
    after?.();
  });
  show();
  return el(
    "div",
    { class: "control", "data-brush": key },
    el("span", { class: "label" }, name),
    number,
    el("span"),
    input,
  );
};
export const percent = v => `${Math.round(100 * v)} %`;

export function choices(name, key, options, after) {
  const group = el("span", { class: "segments tools-row", role: "radiogroup", "aria-label": name });
  for (const [value, title, says] of options) {
    group.append(
      el(
        "button",
        {
          class: "act",
          type: "button",
          role: "radio",
          "data-tool": value,
          title: says,
          "aria-checked": brush[key] === value,
          onclick: () => {
            brush[key] = value;
            for (const b of group.children) b.setAttribute("aria-checked", b.dataset.tool === value);
            after?.();
          },
        },
        title,
      ),
    );
  }
  return group;
}
