// The controls of the steps that are worked by hand: tools, layers, marked regions.
import { el, post } from "../../base/api.js";
import { brush, handOf } from "./hand.js";

const slider = (name, key, low, high, words, after) => {
  const input = el("input", { class: "slide", type: "range", min: 0, max: 1000, "aria-label": name });
  const number = el("span", { class: "quiet" });
  const show = () => { const t = (brush[key] - low) / (high - low); input.value = Math.round(1000 * t); input.style.setProperty("--at", `${100 * t}%`); number.textContent = words(brush[key]); };
  input.addEventListener("input", () => { brush[key] = low + ((high - low) * input.value) / 1000; show(); after?.(); });
  show();
  return el("div", { class: "control", "data-brush": key }, el("span", { class: "label" }, name), number, el("span"), input);
};
const percent = (v) => `${Math.round(100 * v)} %`;

function choices(name, key, options, after) {
  const group = el("span", { class: "segments tools-row", role: "radiogroup", "aria-label": name });
  for (const [value, title, says] of options) {
    group.append(el("button", { class: "act", type: "button", role: "radio", "data-tool": value, title: says, "aria-checked": brush[key] === value, onclick: () => { brush[key] = value; for (const b of group.children) b.setAttribute("aria-checked", b.dataset.tool === value); after?.(); } }, title));
  }
  return group;
}

// The threads that a layer's strokes act on: one, all, or several
function actsOn(state, layer, send) {
  const made = state.threads.filter((t) => t.made), several = Array.isArray(layer.threads) && layer.threads.length !== 1;
  const one = Array.isArray(layer.threads) ? layer.threads[0] : layer.threads;
  const select = el("select", { "aria-label": `${layer.name} works on`, onchange: () => send(select.value === "all" ? "all" : select.value === "*" ? made.slice(0, 2).map((t) => t.name) : select.value === "base" ? "base" : [select.value]) },
    el("option", { value: "all", selected: layer.threads === "all" }, "all maps"),
    ...made.map((t) => el("option", { value: t.name, selected: !several && one === t.name }, t.title.toLowerCase())),
    el("option", { value: "*", selected: several }, "several …"));
  if (!several) return select;
  return el("span", { class: "several" }, select, ...made.map((t) => el("label", {}, el("input", { type: "checkbox", class: "form-check-input m-0", checked: layer.threads.includes(t.name), onchange: (e) => send(e.target.checked ? [...layer.threads, t.name] : layer.threads.filter((n) => n !== t.name)) }), ` ${t.title}`)));
}

// What paint lays and by how much light or height changes, asked for as the maps of the layer need it
function amounts(state, layer) {
  const on = layer ? layer.threads : brush.threads, made = state.threads.filter((t) => t.made && (on === "all" || t.name === on || (Array.isArray(on) && on.includes(t.name))));
  const number = (id, title, unit, value, take, step = "any") => el("div", { class: "control" }, el("label", { for: id }, title), el("span", {}, el("input", { id, type: "number", class: "value", step, value, placeholder: "as it is", onchange: (e) => take(e.target.value === "" ? null : Number(e.target.value) || 0) }), el("span", { class: "unit" }, unit)));
  const data = made.filter((t) => t.kind === "data"), unit = data.length === 1 ? ` ${data[0].unit}` : "";
  if (brush.tool === "paint") return [
    data.length ? number("brush-value", data.length === 1 ? `${data[0].title} to` : "Other maps to", unit, brush.value, (v) => { brush.value = v; }) : null,
    made.some((t) => t.kind === "normal") ? number("brush-slope", "Slope to the right", "", brush.slope?.[0] ?? null, (v) => { brush.slope = v === null ? null : [v, brush.slope?.[1] || 0]; }) : null,
    made.some((t) => t.kind === "normal") ? number("brush-slope-up", "Slope upwards", "", brush.slope?.[1] ?? null, (v) => { brush.slope = v === null ? null : [brush.slope?.[0] || 0, v]; }) : null].filter(Boolean);
  if (["lighten", "darken"].includes(brush.tool)) return [number("brush-by", "By", made.length === 1 && data.length ? unit || " of 1" : data.length ? " stops, or units" : " stops", brush.by, (v) => { brush.by = Math.max(0, v || 0); })];
  return [];
}

export function strokesControls(controls) {
  const { state } = controls, row = controls.row, node = el("div", { class: "hand-tools" });
  const of = (v) => `${(v * 100).toFixed(1)} % of the sheet`;
  const build = () => {
    const row = controls.row;
    if (!row || handOf(state, row) !== "strokes") return;
    const layers = row.settings.layers;
    brush.layer = Math.max(0, Math.min(brush.layer, Math.max(0, layers.length - 1)));
    const send = (next) => state.change({ kind: "settings", step_id: row.id, settings: { layers: next } });
    const clones = ["clone", "heal"].includes(brush.tool);
    const list = el("ol", { class: "layers", "aria-label": "Layers, the top one first" });
    [...layers].map((layer, i) => [layer, i]).reverse().forEach(([layer, i]) => {
      const copy = () => structuredClone(layers);
      list.append(el("li", { class: i === brush.layer ? "chosen" : "", "data-layer": i },
        el("button", { class: "act", type: "button", "aria-pressed": i === brush.layer, onclick: () => { brush.layer = i; build(); } }, layer.name, el("span", { class: "quiet" }, ` ${layer.strokes.length}`)),
        actsOn(state, layer, (threads) => { const next = copy(); next[i].threads = threads; send(next); }),
        el("button", { class: "act", type: "button", onclick: () => { const next = copy(); next[i].on = !next[i].on; send(next); } }, layer.on ? "Hide" : "Show"),
        el("button", { class: "act", type: "button", "aria-label": `${layer.name} up`, disabled: i === layers.length - 1, onclick: () => { const next = copy(); [next[i], next[i + 1]] = [next[i + 1], next[i]]; brush.layer = i + 1; send(next); } }, "↑"),
        el("button", { class: "act", type: "button", "aria-label": `Last stroke of ${layer.name} back`, disabled: !layer.strokes.length, onclick: () => { const next = copy(); next[i].strokes.pop(); send(next); } }, "−1"),
        el("button", { class: "act", type: "button", "aria-label": `Delete ${layer.name}`, onclick: () => { const next = copy(); next.splice(i, 1); send(next); } }, "×")));
    });
    node.replaceChildren(
      choices("Tool", "tool", [["clone", "Clone", "Copies from another place"], ["heal", "Heal", "Copies detail, keeps the tone"], ["paint", "Paint", "One colour"], ["soften", "Soften", "Blurs a little"], ["lighten", "Lighten", "Colour by stops of light, other maps by their own unit"], ["darken", "Darken", "Colour by stops of light, other maps by their own unit"], ["erase", "Erase", "Back to what comes in"]], build),
      slider("Size", "radius", 0.003, 0.2, of), slider("Softness", "softness", 0, 1, percent), slider("Strength", "strength", 0.02, 1, percent),
      ...amounts(state, layers[brush.layer]),
      brush.tool === "paint" ? el("div", { class: "control" }, el("label", { for: "brush-colour" }, "Colour"), el("input", { type: "color", id: "brush-colour", value: brush.colour, oninput: (e) => { brush.colour = e.target.value; } }),
        el("button", { class: "act", type: "button", id: "brush-pick", onclick: () => pickColour(controls, build) }, "Pick")) : el("span"),
      clones ? el("div", { class: "d-flex gap-2 align-items-center my-1" },
        el("label", {}, el("input", { type: "checkbox", class: "form-check-input m-0", checked: brush.fixed, onchange: (e) => { brush.fixed = e.target.checked; brush.aligned = null; } }), " every stroke from the same source"),
        el("button", { class: "act edge push", type: "button", id: "brush-source", onclick: () => { brush.source = null; brush.aligned = null; build(); } }, "New source")) : el("span"),
      el("p", { class: "note" }, clones ? (brush.source ? "Paint on the flat picture, half shifted or repeated. Alt and press sets another source." : "Press once on the flat picture, half shifted or repeated, to set the source.") : "Paint on the flat picture, half shifted or repeated; strokes go on round the edges."),
      el("div", { class: "d-flex align-items-center" }, el("b", {}, "Layers"), el("button", { class: "act push", type: "button", id: "add-layer", onclick: () => { const next = structuredClone(layers); next.push({ name: `Layer ${next.length + 1}`, on: true, threads: brush.threads, strokes: [] }); brush.layer = next.length - 1; send(next); } }, "Add a layer")),
      list);
  };
  state.addEventListener("brush", build);
  build();
  return { node, update: build };
}

async function pickColour(controls, done) {
  const { state } = controls, rows = state.rows, at = rows.findIndex((r) => r.id === controls.row.id);
  state.pick({ below: controls.row.id, words: "Press on the colour that you want.", take: async (u, v) => {
    const { light } = await post(`${state.path}/pick`, { below: rows[at + 1]?.id || controls.row.id, u, v });
    const code = (x) => Math.round(255 * (x <= 0.0031308 ? 12.92 * x : 1.055 * x ** (1 / 2.4) - 0.055));
    brush.colour = `#${light.map((x) => Math.max(0, Math.min(255, code(x))).toString(16).padStart(2, "0")).join("")}`;
    done();
  } });
}

export function regionsControls(controls) {
  const { state } = controls, node = el("div", { class: "hand-tools" });
  const build = () => {
    const row = controls.row;
    if (!row || handOf(state, row) !== "regions") return;
    const regions = row.settings.regions;
    const send = (next) => state.change({ kind: "settings", step_id: row.id, settings: { regions: next } });
    const list = el("ol", { class: "layers", "aria-label": "Marked regions" });
    regions.forEach((region, i) => list.append(el("li", {}, el("span", {}, `${{ outline: "Outline", brush: "Painted", tone: "By tone", element: "Element" }[region.kind]} ${i + 1}${region.erase ? ", taken away" : ""}`),
      el("button", { class: "act push", type: "button", "aria-label": `Take region ${i + 1} out`, onclick: () => send(regions.filter((_, k) => k !== i)) }, "×"))));
    node.replaceChildren(
      choices("Mark by", "mark", [["outline", "Outline", "Draw round it"], ["brush", "Brush", "Paint over it"], ["tone", "Similar tone", "Press on it"], ...(row.settings.ids && row.settings.ids !== "none" ? [["element", "Element", "Press on one"]] : [])], build),
      brush.mark === "brush" ? slider("Brush", "radius", 0.003, 0.2, (v) => `${(v * 100).toFixed(1)} % of the sheet`) : el("span"),
      brush.mark === "tone" ? slider("Tolerance", "tolerance", 1, 40, (v) => v.toFixed(0)) : el("span"),
      brush.mark === "tone" ? el("label", {}, el("input", { type: "checkbox", class: "form-check-input m-0", checked: brush.everywhere, onchange: (e) => { brush.everywhere = e.target.checked; } }), " everywhere, not only where it hangs together") : el("span"),
      state.can(row, "fill") ? "" : el("label", {}, el("input", { type: "checkbox", class: "form-check-input m-0", id: "mark-away", checked: brush.away, onchange: (e) => { brush.away = e.target.checked; } }), " take away from what is marked"),
      el("p", { class: "note" }, state.can(row, "fill") ? "Mark on the flat picture, half shifted or repeated, what is to go: it is filled from the rest of the surface, in every map alike." : "Mark places on the flat picture, half shifted or repeated: paint, draw round, or press."), list,
      el("label", {}, el("input", { type: "checkbox", class: "form-check-input m-0", checked: !!state.showMarks, onchange: (e) => { state.showMarks = e.target.checked; } }), " show the marks"));
  };
  build();
  return { node, update: build };
}
