// A number: a slider, and a value that can be typed in any unit of length.
import { el } from "../../base/api.js";
import { fieldUnit, parse } from "../../base/units.js";

// Builds the control into its box; gives what sets it to a value
export function numberControl(controls, field, box, { id, label, reset, says }) {
  const { state } = controls,
    shown = fieldUnit(field.unit, Math.max(...state.weave.size_mm));
  const [low, high] = field.soft || [field.low ?? 0, field.high ?? 1];
  const grain = field.step || (field.log ? 0 : (high - low) / 500);
  const to = t => (field.log ? low * (high / low) ** t : low + (high - low) * t);
  const from = v =>
    Math.max(
      0,
      Math.min(1, field.log ? Math.log(Math.max(v, 1e-9) / low) / Math.log(high / low) : (v - low) / (high - low)),
    );
  const round = v => (grain ? +(Math.round(v / grain) * grain).toFixed(6) : +v.toPrecision(3));
  const held = v => Math.max(field.low ?? -Infinity, Math.min(field.high ?? Infinity, v));
  // A 0 that leaves the choice to the application is shown as that
  const words = v =>
    v == null || (v === 0 && field.empty && !field.optional)
      ? ""
      : String(+(v / shown.factor).toPrecision(shown.factor === 1 ? 5 : 4));
  const number = el("input", {
    id,
    class: `value${(field.empty || "").length > 10 ? " wordy" : ""}`,
    type: "text",
    inputmode: "decimal",
    autocomplete: "off",
    placeholder: field.empty || "",
  });
  const slide = el("input", {
    class: "slide",
    type: "range",
    min: 0,
    max: 1000,
    step: 1,
    "aria-label": `${field.title}, slider`,
  });
  const wrong = el("span", { class: "wrong", hidden: true });
  let gone;
  const refuse = why => {
    wrong.textContent = why;
    wrong.hidden = false;
    wrong.setAttribute("role", "alert");
    number.setAttribute("aria-invalid", "true");
    number.value = words(controls.settings[field.name]);
    clearTimeout(gone);
    gone = setTimeout(accept, 6000);
  };
  const accept = () => {
    wrong.hidden = true;
    wrong.removeAttribute("role");
    number.removeAttribute("aria-invalid");
  };
  const limits = () => {
    const unit = shown.unit ? ` ${shown.unit}` : "",
      n = v => +(v / shown.factor).toPrecision(4);
    return field.low != null && field.high != null
      ? `from ${n(field.low)} to ${n(field.high)}${unit}`
      : field.low != null
        ? `at least ${n(field.low)}${unit}`
        : field.high != null
          ? `at most ${n(field.high)}${unit}`
          : `a number${unit}`;
  };
  const typed = () => {
    const text = number.value.trim();
    if (text === words(controls.settings[field.name])) return accept();
    if (text === "" && field.empty) {
      accept();
      controls.try({ [field.name]: field.optional ? null : 0 });
      return controls.settle();
    }
    let v = parse(text, shown);
    if (!Number.isFinite(v)) return refuse(`“${text.slice(0, 20)}” is no number here: ${limits()}`);
    v = +v.toPrecision(9);
    if ((field.low != null && v < field.low) || (field.high != null && v > field.high))
      return refuse(`${text.slice(0, 20)} is outside: ${limits()}`);
    accept();
    if (v === controls.settings[field.name]) {
      number.value = words(v);
      return undefined;
    }
    controls.try({ [field.name]: v });
    return controls.settle();
  };
  number.addEventListener("change", typed);
  number.addEventListener("keydown", e => {
    // Nothing typed yet: undo means the material, not the field, or both would differ
    if (
      (e.ctrlKey || e.metaKey) &&
      e.key.toLowerCase() === "z" &&
      number.value === words(controls.settings[field.name])
    ) {
      e.preventDefault();
      e.stopPropagation();
      e.shiftKey ? state.redo() : state.undo();
      return;
    }
    const by = { ArrowUp: 1, ArrowDown: -1 }[e.key];
    if (!by) return;
    e.preventDefault();
    const now = controls.settings[field.name] ?? low;
    const v = field.log
      ? +(now * 1.05 ** (by * (e.shiftKey ? 5 : 1))).toPrecision(4)
      : round(now + by * (grain || 0.01) * (e.shiftKey ? 10 : 1));
    controls.try({ [field.name]: held(v) });
    controls.settleSoon();
  });
  let dragging = false;
  slide.addEventListener("pointerdown", () => {
    dragging = true;
  });
  slide.addEventListener("pointerup", () => {
    dragging = false;
    if (state.draft) controls.settle();
  });
  slide.addEventListener("input", () => {
    controls.try({ [field.name]: round(to(slide.value / 1000)) });
    if (!dragging) controls.settleSoon();
  });
  slide.addEventListener("change", () => {
    if (dragging || !controls.resting) controls.settle();
    dragging = false;
  });
  box.append(
    label,
    el("span", {}, number, shown.unit ? el("span", { class: "unit" }, ` ${shown.unit}`) : ""),
    reset,
    slide,
    field.ends
      ? el(
          "span",
          { class: "ends", "aria-hidden": "true" },
          el("span", {}, field.ends[0]),
          el("span", {}, field.ends[1]),
        )
      : "",
    wrong,
    says,
  );
  return v => {
    if (document.activeElement !== number || number.value === "" || number.dataset.kept !== String(v))
      number.value = words(v);
    number.dataset.kept = String(v);
    const t = v == null ? 0.5 : from(v);
    slide.value = Math.round(t * 1000);
    slide.style.setProperty("--at", `${t * 100}%`);
  };
}
