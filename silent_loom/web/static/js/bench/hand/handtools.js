// The controls of strokes: tools, and the layers they lie in.
import { el, post } from "../../base/api.js";
import { choices, percent, slider } from "./brush_controls.js";
import { brush, handOf } from "./hand.js";

// The threads that a layer's strokes act on: one, all, or several
function actsOn(state, layer, send) {
  const made = state.threads.filter(t => t.made),
    several = Array.isArray(layer.threads) && layer.threads.length !== 1;
  const one = Array.isArray(layer.threads) ? layer.threads[0] : layer.threads;
  const select = el(
    "select",
    {
      "aria-label": `${layer.name} works on`,
      onchange: () =>
        send(
          select.value === "all"
            ? "all"
            : select.value === "*"
              ? made.slice(0, 2).map(t => t.name)
              : select.value === "base"
                ? "base"
                : [select.value],
        ),
    },
    el("option", { value: "all", selected: layer.threads === "all" }, "all maps"),
    ...made.map(t => el("option", { value: t.name, selected: !several && one === t.name }, t.title.toLowerCase())),
    el("option", { value: "*", selected: several }, "several …"),
  );
  if (!several) return select;
  return el(
    "span",
    { class: "several" },
    select,
    ...made.map(t =>
      el(
        "label",
        {},
        el("input", {
          type: "checkbox",
          class: "form-check-input m-0",
          checked: layer.threads.includes(t.name),
          onchange: e => send(e.target.checked ? [...layer.threads, t.name] : layer.threads.filter(n => n !== t.name)),
        }),
        ` ${t.title}`,
      ),
    ),
  );
}

// What paint lays and by how much light or height changes, asked for as the maps of the layer need it
function amounts(state, layer) {
  const on = layer ? layer.threads : brush.threads,
    made = state.threads.filter(
      t => t.made && (on === "all" || t.name === on || (Array.isArray(on) && on.includes(t.name))),
    );
  const number = (id, title, unit, value, take, step = "any") =>
    el(
      "div",
      { class: "control" },
      el("label", { for: id }, title),
      el(
        "span",
        {},
        el("input", {
          id,
          type: "number",
          class: "value",
          step,
          value,
          placeholder: "as it is",
          onchange: e => take(e.target.value === "" ? null : Number(e.target.value) || 0),
        }),
        el("span", { class: "unit" }, unit),
      ),
    );
  const data = made.filter(t => t.kind === "data"),
    unit = data.length === 1 ? ` ${data[0].unit}` : "";
  if (brush.tool === "paint")
    return [
      data.length
        ? number("brush-value", data.length === 1 ? `${data[0].title} to` : "Other maps to", unit, brush.value, v => {
            brush.value = v;
          })
        : null,
      made.some(t => t.kind === "normal")
        ? number("brush-slope", "Slope to the right", "", brush.slope?.[0] ?? null, v => {
            brush.slope = v === null ? null : [v, brush.slope?.[1] || 0];
          })
        : null,
      made.some(t => t.kind === "normal")
        ? number("brush-slope-up", "Slope upwards", "", brush.slope?.[1] ?? null, v => {
            brush.slope = v === null ? null : [brush.slope?.[0] || 0, v];
          })
        : null,
    ].filter(Boolean);
  if (["lighten", "darken"].includes(brush.tool))
    return [
      number(
        "brush-by",
        "By",
        made.length === 1 && data.length ? unit || " of 1" : data.length ? " stops, or units" : " stops",
        brush.by,
        v => {
          brush.by = Math.max(0, v || 0);
        },
      ),
    ];
  return [];
}

export function strokesControls(controls) {
  const { state } = controls,
    row = controls.row,
    node = el("div", { class: "hand-tools" });
  const of = v => `${(v * 100).toFixed(1)} % of the sheet`;
  const build = () => {
    const row = controls.row;
    if (!row || handOf(state, row) !== "strokes") return;
    const layers = row.settings.layers;
    brush.layer = Math.max(0, Math.min(brush.layer, Math.max(0, layers.length - 1)));
    const send = next => state.change({ kind: "settings", step_id: row.id, settings: { layers: next } });
    const clones = ["clone", "heal"].includes(brush.tool);
    const list = el("ol", { class: "layers", "aria-label": "Layers, the top one first" });
    [...layers]
      .map((layer, i) => [layer, i])
      .reverse()
      .forEach(([layer, i]) => {
        const copy = () => structuredClone(layers);
        list.append(
          el(
            "li",
            { class: i === brush.layer ? "chosen" : "", "data-layer": i },
            el(
              "button",
              {
                class: "act",
                type: "button",
                "aria-pressed": i === brush.layer,
                onclick: () => {
                  brush.layer = i;
                  build();
                },
              },
              layer.name,
              el("span", { class: "quiet" }, ` ${layer.strokes.length}`),
            ),
            actsOn(state, layer, threads => {
              const next = copy();
              next[i].threads = threads;
              send(next);
            }),
            el(
              "button",
              {
                class: "act",
                type: "button",
                onclick: () => {
                  const next = copy();
                  next[i].on = !next[i].on;
                  send(next);
                },
              },
              layer.on ? "Hide" : "Show",
            ),
            el(
              "button",
              {
                class: "act",
                type: "button",
                "aria-label": `${layer.name} up`,
                disabled: i === layers.length - 1,
                onclick: () => {
                  const next = copy();
                  [next[i], next[i + 1]] = [next[i + 1], next[i]];
                  brush.layer = i + 1;
                  send(next);
                },
              },
              "↑",
            ),
            el(
              "button",
              {
                class: "act",
                type: "button",
                "aria-label": `Last stroke of ${layer.name} back`,
                disabled: !layer.strokes.length,
                onclick: () => {
                  const next = copy();
                  next[i].strokes.pop();
                  send(next);
                },
              },
              "−1",
            ),
            el(
              "button",
              {
                class: "act",
                type: "button",
                "aria-label": `Delete ${layer.name}`,
                onclick: () => {
                  const next = copy();
                  next.splice(i, 1);
                  send(next);
                },
              },
              "×",
            ),
          ),
        );
      });
    node.replaceChildren(
      choices(
        "Tool",
        "tool",
        [
          ["clone", "Clone", "Copies from another place"],
          ["heal", "Heal", "Copies detail, keeps the tone"],
          ["paint", "Paint", "One colour"],
          ["soften", "Soften", "Blurs a little"],
          ["lighten", "Lighten", "Colour by stops of light, other maps by their own unit"],
          ["darken", "Darken", "Colour by stops of light, other maps by their own unit"],
          ["erase", "Erase", "Back to what comes in"],
        ],
        build,
      ),
      slider("Size", "radius", 0.003, 0.2, of),
      slider("Softness", "softness", 0, 1, percent),
      slider("Strength", "strength", 0.02, 1, percent),
      ...amounts(state, layers[brush.layer]),
      brush.tool === "paint"
        ? el(
            "div",
            { class: "control" },
            el("label", { for: "brush-colour" }, "Colour"),
            el("input", {
              type: "color",
              id: "brush-colour",
              value: brush.colour,
              oninput: e => {
                brush.colour = e.target.value;
              },
            }),
            el(
              "button",
              { class: "act", type: "button", id: "brush-pick", onclick: () => pickColour(controls, build) },
              "Pick",
            ),
          )
        : el("span"),
      clones
        ? el(
            "div",
            { class: "d-flex gap-2 align-items-center my-1" },
            el(
              "label",
              {},
              el("input", {
                type: "checkbox",
                class: "form-check-input m-0",
                checked: brush.fixed,
                onchange: e => {
                  brush.fixed = e.target.checked;
                  brush.aligned = null;
                },
              }),
              " every stroke from the same source",
            ),
            el(
              "button",
              {
                class: "act edge push",
                type: "button",
                id: "brush-source",
                onclick: () => {
                  brush.source = null;
                  brush.aligned = null;
                  build();
                },
              },
              "New source",
            ),
          )
        : el("span"),
      el(
        "p",
        { class: "note" },
        clones
          ? brush.source
            ? "Paint on the flat picture, half shifted or repeated. Alt and press sets another source."
            : "Press once on the flat picture, half shifted or repeated, to set the source."
          : "Paint on the flat picture, half shifted or repeated; strokes go on round the edges.",
      ),
      el(
        "div",
        { class: "d-flex align-items-center" },
        el("b", {}, "Layers"),
        el(
          "button",
          {
            class: "act push",
            type: "button",
            id: "add-layer",
            onclick: () => {
              const next = structuredClone(layers);
              next.push({ name: `Layer ${next.length + 1}`, on: true, threads: brush.threads, strokes: [] });
              brush.layer = next.length - 1;
              send(next);
            },
          },
          "Add a layer",
        ),
      ),
      list,
    );
  };
  state.on("brush", build);
  build();
  return { node, update: build };
}

async function pickColour(controls, done) {
  const { state } = controls,
    rows = state.rows,
    at = rows.findIndex(r => r.id === controls.row.id);
  state.pick({
    below: controls.row.id,
    words: "Press on the colour that you want.",
    take: async (u, v) => {
      const { light } = await post(`${state.path}/pick`, { below: rows[at + 1]?.id || controls.row.id, u, v });
      const code = x => Math.round(255 * (x <= 0.0031308 ? 12.92 * x : 1.055 * x ** (1 / 2.4) - 0.055));
      brush.colour = `#${light
        .map(x =>
          Math.max(0, Math.min(255, code(x)))
            .toString(16)
            .padStart(2, "0"),
        )
        .join("")}`;
      done();
    },
  });
}
