// A group's own controls: its name, its dials, and how much of it takes effect.
import { el, icon } from "../../base/api.js";
import { rowNote } from "../controls/note.js";
import { copyButtons } from "./copying.js";
import { mixing } from "./masks.js";

const CURVES = {
  even: [],
  "slow at first": [
    [0, 0],
    [0.5, 0.2],
    [1, 1],
  ],
  "fast at first": [
    [0, 0],
    [0.5, 0.8],
    [1, 1],
  ],
  "slow at both ends": [
    [0, 0],
    [0.25, 0.1],
    [0.75, 0.9],
    [1, 1],
  ],
};
const curveName = curve =>
  Object.entries(CURVES).find(([, c]) => JSON.stringify(c) === JSON.stringify(curve))?.[0] || "its own";
// As many decimals as a five-hundredth of the way from one end to the other needs
const decimals = (low, high) => Math.max(0, Math.min(6, 2 - Math.floor(Math.log10(Math.max(1e-9, high - low)))));
const short = (v, low, high) => String(+v.toFixed(decimals(low, high)));

export function groupControls(controls, root) {
  const { state } = controls,
    row = controls.row;
  const name = el("input", {
    type: "text",
    class: "group-name",
    id: "group-name",
    value: row.name,
    maxlength: 60,
    "aria-label": "Name of the group",
    onchange: () => {
      if (name.value.trim() && name.value.trim() !== controls.row.name)
        state.change({ kind: "rename", step_id: row.id, name: name.value.trim() });
      else name.value = controls.row.name;
    },
  });
  root.append(
    el("h2", { class: "visually-hidden" }, `Group ${row.name}`),
    name,
    el("p", { class: "lead" }, "Rows that belong together. A dial moves several of their settings at once."),
  );
  controls.noteBox = el("div", { "aria-live": "polite" });
  root.append(controls.noteBox);
  const dials = el("div", { id: "dials" });
  root.append(dials, newDial(controls));
  const note = rowNote(controls);
  root.append(note.node);
  const mix = mixing(controls);
  root.append(mix.node);
  root.append(
    el(
      "div",
      { class: "d-flex mt-2 flex-wrap gap-1" },
      el("button", {
        class: "act",
        type: "button",
        id: "switch-step",
        onclick: () => state.change({ kind: "switch", step_id: row.id, on: !controls.row.on }),
      }),
      el("button", {
        class: "act",
        type: "button",
        id: "fold-group",
        onclick: () => state.change({ kind: "fold", step_id: row.id, on: !controls.row.folded }),
      }),
      ...copyButtons(state, row.id),
      el(
        "button",
        {
          class: "act push",
          type: "button",
          id: "dissolve-group",
          title: "Its rows stay, as the dials leave them",
          onclick: () => dissolve(controls),
        },
        "Dissolve",
      ),
      el(
        "button",
        { class: "act", type: "button", onclick: () => state.change({ kind: "remove", step_id: row.id }) },
        icon("trash"),
        "Take out",
      ),
    ),
  );

  const built = new Map();
  const update = () => {
    const now = controls.row;
    if (!now?.group) return;
    if (document.activeElement !== name) name.value = now.name;
    root.querySelector("#fold-group").textContent = now.folded ? "Open" : "Fold";
    const draft = state.draft?.step_id === now.id ? state.draft.settings : {};
    const shape = JSON.stringify(
      now.dials.map(({ value, drives, ...rest }) => [rest, drives.map(({ now: n, ...d }) => d)]),
    );
    if (dials.dataset.shape !== shape) {
      dials.dataset.shape = shape;
      built.clear();
      dials.replaceChildren(
        ...now.dials.map(d => {
          const made = dialControl(controls, d);
          built.set(d.id, made);
          return made.node;
        }),
      );
    }
    for (const d of now.dials) built.get(d.id)?.show(draft[d.id] ?? d.value);
    mix.update();
    note.update();
  };
  return { node: dials, update };
}

async function dissolve(controls) {
  const { state } = controls,
    row = controls.row,
    inside = state.rows.filter(r => r.parents.at(-1) === row.id).map(r => r.id);
  await state.change({ kind: "dissolve", step_id: row.id });
  if (inside.length && state.row(inside[0])) state.choose(inside[0]);
}

// One dial: a slider as every other, and behind it what it moves
function dialControl(controls, dial) {
  const { state } = controls,
    group = controls.row.id;
  const t = v => (v - dial.low) / (dial.high - dial.low);
  const slide = el("input", {
    class: "slide",
    type: "range",
    min: 0,
    max: 1000,
    "aria-label": dial.title,
    "data-dial": dial.id,
  });
  const unit = unitOf(state, dial);
  const value = el("input", {
    class: "value",
    type: "number",
    step: "any",
    "aria-label": `${dial.title}, value${unit ? `, ${unit}` : ""}`,
  });
  slide.addEventListener("input", () =>
    controls.try({ [dial.id]: dial.low + ((dial.high - dial.low) * slide.value) / 1000 }),
  );
  slide.addEventListener("change", () => controls.settle());
  value.addEventListener("change", () => {
    const v = Math.max(dial.low, Math.min(dial.high, Number(value.value) || 0));
    controls.try({ [dial.id]: v });
    controls.settle();
  });
  const send = next => state.change({ kind: "dial", step_id: group, dial: { ...bare(dial), ...next } });
  const lines = dial.drives.map((d, i) => {
    const change = values =>
      send({ drives: dial.drives.map((o, k) => ({ ...bareDrive(o), ...(k === i ? values : {}) })) });
    const end = key =>
      el("input", {
        type: "number",
        step: "any",
        class: "value",
        value: +d[key].toPrecision(6),
        "aria-label": `${settingTitle(state, d)} at the ${key === "low" ? "lower" : "upper"} end`,
        onchange: e => change({ [key]: Number(e.target.value) || 0 }),
      });
    return el(
      "li",
      {},
      el("span", { class: "drive-name" }, settingTitle(state, d)),
      end("low"),
      el("span", { class: "quiet" }, "to"),
      end("high"),
      el(
        "select",
        {
          "aria-label": `How ${settingTitle(state, d)} follows`,
          onchange: e => change({ curve: CURVES[e.target.value] || d.curve }),
        },
        ...[...Object.keys(CURVES), ...(curveName(d.curve) === "its own" ? ["its own"] : [])].map(n =>
          el("option", { value: n, selected: n === curveName(d.curve) }, n),
        ),
      ),
      el("input", {
        type: "text",
        class: "formula",
        value: d.formula || "",
        maxlength: 200,
        spellcheck: "false",
        placeholder: "or a formula: low + high * x^2",
        title:
          "x is where the dial stands, 0 to 1; value, low, high; + - * / ^, min, max, abs, sqrt, sin, " +
          "cos, round, floor, mix(a, b, t), step(edge, a)",
        "aria-label": `Formula of ${settingTitle(state, d)}`,
        onchange: e => change({ formula: e.target.value.trim() }),
      }),
      el(
        "button",
        {
          class: "act",
          type: "button",
          "aria-label": `${settingTitle(state, d)} no longer follows`,
          onclick: () => send({ drives: dial.drives.filter((_, k) => k !== i).map(bareDrive) }),
        },
        "×",
      ),
    );
  });
  const title = el("input", {
    type: "text",
    value: dial.title,
    maxlength: 60,
    "aria-label": "Name of the dial",
    onchange: () => title.value.trim() && send({ title: title.value.trim() }),
  });
  const behind = el(
    "details",
    { class: "dial-behind" },
    el(
      "summary",
      {},
      dial.drives.length
        ? `moves ${dial.drives.length === 1 ? settingTitle(state, dial.drives[0]) : `${dial.drives.length} settings`}`
        : "moves nothing yet",
    ),
    el("div", { class: "control" }, el("span", { class: "label" }, "Name"), title),
    el("ul", { class: "drives" }, ...lines),
    also(controls, dial),
    el(
      "button",
      {
        class: "act",
        type: "button",
        onclick: () => state.change({ kind: "undial", step_id: group, dial_id: dial.id }),
      },
      "Take the dial out",
    ),
  );
  const node = el(
    "div",
    { class: "control dial", "data-dial-title": dial.title },
    el("span", { class: "label" }, dial.title),
    el("span", {}, value, unit ? el("span", { class: "unit" }, ` ${unit}`) : ""),
    el("span"),
    slide,
    behind,
  );
  return {
    node,
    show: v => {
      slide.value = Math.round(1000 * t(v));
      slide.style.setProperty("--at", `${100 * t(v)}%`);
      if (document.activeElement !== value) value.value = short(v, dial.low, dial.high);
    },
  };
}

const bareDrive = ({ row, setting, low, high, curve, formula }) => ({ row, setting, low, high, curve, formula });
const bare = ({ id, title, value, low, high, drives }) => ({
  id,
  title,
  value,
  low,
  high,
  drives: drives.map(bareDrive),
});

const AMOUNT = "@amount"; // how much of a row takes effect, which is no setting of its step
// Whose setting it is: several rows of one kind are told apart by their note, or by what they do
const named = (state, row) => {
  const twins = state.rows.filter(r => r.title === row.title && r.parents.at(-1) === row.parents.at(-1)).length > 1;
  const more = row.note ? row.note.split("\n")[0] : twins ? (row.words || "").split(/[:,]/)[0].trim() : "";
  return more && more.length < 28 ? `${row.title} (${more})` : row.title;
};
const fieldOf = (state, drive) => state.steps[state.row(drive.row)?.step]?.fields.find(f => f.name === drive.setting);

// The unit of a dial that stands in the setting's own numbers: whatever it moves has the same unit and the same ends
function unitOf(state, dial) {
  const units = dial.drives.map(d =>
    !d.formula && d.low === dial.low && d.high === dial.high ? fieldOf(state, d)?.unit || "" : "",
  );
  return units.length && units.every(u => u === units[0]) ? units[0] : "";
}

function settingTitle(state, drive) {
  const row = state.row(drive.row);
  if (!row) return drive.setting;
  if (drive.setting === AMOUNT) return `${named(state, row)}: amount`;
  if (row.group) return `${row.name}: ${row.dials.find(d => d.id === drive.setting)?.title || drive.setting}`;
  const field = state.steps[row.step]?.fields.find(f => f.name === drive.setting);
  return `${named(state, row)}: ${field?.title || drive.setting}`;
}

// Every setting in a group that a dial can move: [row id, setting, words, lower end, upper end, present value]
function settings(state, group) {
  const found = [];
  for (const row of state.rows.filter(r => r.parents.includes(group))) {
    if (row.group) {
      for (const d of row.dials) found.push([row.id, d.id, `${row.name}: ${d.title}`, d.low, d.high, d.value]);
      continue;
    }
    if (!state.steps[row.step]?.geometric)
      found.push([row.id, AMOUNT, `${named(state, row)}: amount`, 0, 1, row.amount]);
    for (const f of state.steps[row.step]?.fields || []) {
      if (!f.dialled) continue;
      const now = Number(row.settings[f.name]);
      let [low, high] = f.kind === "switch" ? [0, 1] : f.soft || [f.low ?? 0, f.high ?? 1];
      // Decades on a straight dial say little
      if (f.log && now > 0) [low, high] = [Math.max(f.low ?? 0, now / 4), Math.min(f.high ?? Infinity, now * 4)];
      found.push([row.id, f.name, `${named(state, row)}: ${f.title}`, low, high, now]);
    }
  }
  return found;
}

function chooser(controls, label, take) {
  const { state } = controls,
    list = settings(state, controls.row.id);
  const select = el(
    "select",
    {
      "aria-label": label,
      onchange: () => {
        const found = list[select.selectedIndex - 1];
        select.selectedIndex = 0;
        if (found) take(found);
      },
    },
    el("option", {}, label),
    ...list.map(([, , words]) => el("option", {}, words)),
  );
  return select;
}

// A dial begins where the setting stands, so that making one changes nothing
function newDial(controls) {
  const { state } = controls,
    box = el("div", { class: "my-2" });
  const build = () =>
    box.replaceChildren(
      chooser(controls, "New dial for …", ([row, setting, words, low, high, now]) => {
        const reach = [Math.min(low, now), Math.max(high, now)];
        if (!(reach[1] > reach[0])) reach[1] = reach[0] + 1;
        const [whose, what] = words.split(/: (?=[^:]*$)/),
          plain = ["From", "To", "Share", "Amount", "amount", "Width", "Seed"].includes(what);
        // In the setting's own numbers, so that the dial shows what is set
        state.change({
          kind: "dial",
          step_id: controls.row.id,
          dial: {
            title: (plain ? `${whose}: ${what.toLowerCase()}` : what).slice(0, 60),
            value: now,
            low: reach[0],
            high: reach[1],
            drives: [{ row, setting, low: reach[0], high: reach[1], curve: [], formula: "" }],
          },
        });
      }),
    );
  build();
  box.firstChild.id = "new-dial";
  return box;
}

function also(controls, dial) {
  return chooser(controls, "Also moves …", ([row, setting, , low, high]) =>
    controls.state.change({
      kind: "dial",
      step_id: controls.row.id,
      dial: {
        ...bare(dial),
        drives: [...dial.drives.map(bareDrive), { row, setting, low, high, curve: [], formula: "" }],
      },
    }),
  );
}
