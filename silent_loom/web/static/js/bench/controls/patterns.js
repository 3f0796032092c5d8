// A weaving draft drawn in a small grid, and the path of a drawing.
import { el } from "../../base/api.js";

// A row for each weft thread, a column for each warp thread; dark where the warp lies over the weft.
export function draftEditor(field, controls) {
  const grid = el("div", {
    class: "draft",
    role: "grid",
    "aria-label": "The draft: dark where the warp lies over the weft",
  });
  const size = (title, id) =>
    el("input", { id, type: "number", class: "value", min: 1, max: 32, step: 1, "aria-label": title });
  const wide = size("Warp threads of the draft", "draft-wide"),
    high = size("Weft threads of the draft", "draft-high");
  let now = [],
    held = null;
  const send = rows => {
    now = rows;
    controls.try({ [field.name]: rows });
  };
  const set = (x, y, letter) =>
    send(now.map((row, j) => (j === y ? row.slice(0, x) + letter + row.slice(x + 1) : row)));
  const resize = () => {
    const w = Math.max(1, Math.min(32, Math.round(+wide.value) || 1)),
      h = Math.max(1, Math.min(32, Math.round(+high.value) || 1));
    send(
      Array.from({ length: h }, (_, j) =>
        Array.from({ length: w }, (_, i) => now[j % now.length][i % now[0].length]).join(""),
      ),
    );
    build();
    controls.settle();
  };
  wide.addEventListener("change", resize);
  high.addEventListener("change", resize);
  const turn = cell => {
    cell.setAttribute("aria-checked", String(held === "1"));
    set(+cell.dataset.x, +cell.dataset.y, held);
  };
  function build() {
    grid.style.gridTemplateColumns = `repeat(${now[0].length}, minmax(0, 1fr))`;
    grid.style.maxWidth = `${Math.min(284, 26 * now[0].length)}px`;
    grid.replaceChildren(
      ...now.flatMap((row, y) =>
        [...row].map((letter, x) =>
          el("button", {
            type: "button",
            role: "checkbox",
            "aria-checked": String(letter === "1"),
            "aria-label": `Weft ${y + 1}, warp ${x + 1}`,
            "data-x": x,
            "data-y": y,
          }),
        ),
      ),
    );
    [wide.value, high.value] = [now[0].length, now.length];
  }
  grid.addEventListener("pointerdown", e => {
    const cell = e.target.closest("button");
    if (!cell) return;
    held = cell.getAttribute("aria-checked") === "true" ? "0" : "1";
    turn(cell);
    const over = m => {
      const other = document.elementFromPoint(m.clientX, m.clientY)?.closest?.(".draft button");
      if (other && other.getAttribute("aria-checked") !== String(held === "1")) turn(other);
    };
    addEventListener("pointermove", over);
    addEventListener(
      "pointerup",
      () => {
        removeEventListener("pointermove", over);
        controls.settle();
      },
      { once: true },
    );
  });
  grid.addEventListener("keydown", e => {
    const cell = e.target.closest("button");
    if (!cell || (e.key !== " " && e.key !== "Enter")) return;
    e.preventDefault();
    held = cell.getAttribute("aria-checked") === "true" ? "0" : "1";
    turn(cell);
    controls.settle();
  });
  const node = el(
    "div",
    { "data-field": field.name, class: "my-2" },
    el(
      "div",
      { class: "control" },
      el("span", { class: "label" }, field.title),
      el("span", { class: "line" }, wide, "×", high),
    ),
    grid,
  );
  return {
    node,
    update(v) {
      const next = v[field.name] || field.default;
      node.hidden = Boolean(field.when) && !Object.entries(field.when).every(([k, values]) => values.includes(v[k]));
      if (JSON.stringify(next) === JSON.stringify(now)) return;
      now = [...next];
      build();
    },
  };
}

// What stands in d="…" of a path, typed, pasted, or read from an SVG file.
export function pathEditor(field, controls) {
  const text = el("textarea", { rows: 3, spellcheck: "false", "aria-label": field.title, title: field.says });
  const said = el("div", { class: "note warn", hidden: true });
  const send = value => {
    controls.try({ [field.name]: value });
    controls.settle();
  };
  text.addEventListener("change", () => send(text.value.trim()));
  const file = el("input", {
    type: "file",
    class: "d-none",
    accept: ".svg,image/svg+xml",
    "aria-label": "SVG drawing",
  });
  file.addEventListener("change", async () => {
    const drawing = new DOMParser().parseFromString(await file.files[0].text(), "image/svg+xml");
    const found = [...drawing.querySelectorAll("path[d]")].map(p => p.getAttribute("d")).join(" ");
    file.value = "";
    said.hidden = Boolean(found);
    said.textContent = "There is no path in this drawing: turn its shapes and letters into paths first.";
    if (found) {
      text.value = found;
      send(found);
    }
  });
  const node = el(
    "div",
    { "data-field": field.name, class: "my-2" },
    el(
      "div",
      { class: "control" },
      el("span", { class: "label" }, field.title),
      el("button", { class: "act edge", type: "button", onclick: () => file.click() }, "From an SVG file"),
    ),
    text,
    file,
    said,
  );
  return {
    node,
    update(v) {
      node.hidden = Boolean(field.when) && !Object.entries(field.when).every(([k, values]) => values.includes(v[k]));
      if (document.activeElement !== text) text.value = v[field.name] ?? field.default;
    },
  };
}
