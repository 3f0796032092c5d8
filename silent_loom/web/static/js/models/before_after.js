// What a laid material changes on the model: before, a wipe between both, after, and what changed in the texture.
import { el, get } from "../base/api.js";

const VIEWS = { before: "Before", wipe: "Wipe", after: "After", changed: "What changed" };

/** Buttons that show a laid material against what the model came with.
 * @param {any} form the model on screen
 * @param {string} path address of what the job made
 * @param {Record<string, string>} after maps that the model wears
 */
export function beforeAfter(form, path, after) {
  const says = el("span", { class: "quiet", role: "status" });
  const place = el("input", {
    type: "range",
    min: 0,
    max: 1,
    step: 0.01,
    value: 0.5,
    "aria-label": "Where the wipe stands",
    hidden: true,
    oninput: () => {
      form.wipe = +place.value;
      form.draw();
    },
  });
  const before = `${path}/change/before.png`;
  const show = async view => {
    for (const b of buttons) b.setAttribute("aria-checked", String(b.dataset.view === view));
    place.hidden = view !== "wipe";
    says.textContent = view === "after" ? "" : "Comparing …";
    try {
      if (view !== "after" && !says.dataset.words) says.dataset.words = (await get(`${path}/change`)).words;
      await form.wear(
        view === "before" ? { base: before } : view === "changed" ? { base: `${path}/change/changed.png` } : after,
      );
      await form.hold(view === "wipe" ? before : null);
      says.textContent = says.dataset.words || "";
    } catch (error) {
      says.textContent = error.message;
    }
  };
  const buttons = Object.entries(VIEWS).map(([view, words]) =>
    el(
      "button",
      {
        class: "act",
        type: "button",
        role: "radio",
        "data-view": view,
        "aria-checked": false,
        onclick: () => show(view),
      },
      words,
    ),
  );
  return el(
    "div",
    { class: "before-after" },
    el("span", { class: "segments", role: "radiogroup", "aria-label": "Before and after" }, ...buttons),
    place,
    says,
  );
}
