// Two settings that are one thing across and down: linked, one keeps its ratio to the other.
import { el } from "../../base/api.js";

const PAIRS = [
  ["across_mm", "down_mm"],
  ["width_mm", "height_mm"],
  ["warp_mm", "weft_mm"],
  ["warp_thick", "weft_thick"],
  ["times_x", "times_y"],
  ["repeat_x", "repeat_y"],
  ["wide_mm", "high_mm"],
];
const linked = new Set(); // pairs of rows that are linked, as long as the page is open

const named = step => PAIRS.find(pair => pair.every(n => step.fields.some(f => f.name === n && f.kind === "number")));

// The button that links them, put where the second one stands
export function linkButton(step, field, controls) {
  const pair = named(step);
  if (!pair || field.name !== pair[1]) return "";
  const key = `${controls.row.id} ${pair[0]}`;
  const button = el("button", {
    class: "act edge link-pair",
    type: "button",
    "aria-pressed": String(linked.has(key)),
    title: "When one changes the other keeps its ratio to it",
    onclick: () => {
      linked.has(key) ? linked.delete(key) : linked.add(key);
      button.setAttribute("aria-pressed", String(linked.has(key)));
      button.textContent = words();
    },
  });
  const words = () => (linked.has(key) ? "Linked" : "Link both");
  button.textContent = words();
  return button;
}

// Values that change, and what a linked one becomes with them
export function withLinked(step, row, now, values) {
  const pair = step && named(step);
  if (!pair || !linked.has(`${row.id} ${pair[0]}`)) return values;
  const at = pair.findIndex(n => n in values),
    other = pair[1 - at];
  if (at < 0 || other in values || !(now[pair[at]] > 0)) return values;
  const field = step.fields.find(f => f.name === other),
    value = now[other] * (values[pair[at]] / now[pair[at]]);
  const held = Math.max(field.low ?? -Infinity, Math.min(field.high ?? Infinity, value));
  return { ...values, [other]: field.step === 1 ? Math.round(held) : +held.toPrecision(5) };
}
