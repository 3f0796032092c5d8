// Elements joined and cut by hand; a second material laid over this one.
import { el, get, send } from "../../base/api.js";
import { post } from "../../base/api.js";

export function editsControls(controls) {
  const { state } = controls, list = el("ol", { class: "layers", "aria-label": "Joined and cut by hand" });
  const two = (kind, first, second) => {
    const row = controls.row;
    let from = null;
    const take = async (u, v) => {
      if (!from) { from = [u, v]; state.pick({ below: row.id, words: second, take }); return; }
      // The shorter way round, so that a cut across the edge of the sheet is the one that was meant
      const near = (a, b) => b - Math.round(b - a);
      const points = [from, [near(from[0], u), near(from[1], v)]];
      await state.change({ kind: "settings", step_id: row.id, settings: { edits: [...row.settings.edits, { kind, points }] } });
    };
    state.pick({ below: row.id, words: first, take });
  };
  const node = el("div", { class: "my-2" }, el("div", { class: "d-flex gap-1" },
    el("button", { class: "act edge", type: "button", id: "join-elements", onclick: () => two("join", "Press on an element.", "And on the one that belongs to it.") }, "Join two"),
    el("button", { class: "act edge", type: "button", id: "cut-element", onclick: () => two("cut", "Press where the cut begins.", "And where it ends.") }, "Cut one")), list);
  return {
    node,
    update(v) {
      list.replaceChildren(...v.edits.map((e, i) => el("li", {}, el("span", {}, `${e.kind === "join" ? "Joined" : "Cut"} ${i + 1}`),
        el("button", { class: "act push", type: "button", "aria-label": `Take ${e.kind} ${i + 1} back`, onclick: () => state.change({ kind: "settings", step_id: controls.row.id, settings: { edits: v.edits.filter((_, k) => k !== i) } }) }, "×"))));
    },
  };
}

export function overControls(controls) {
  const { state } = controls, says = el("div", { class: "note" }), list = el("select", { id: "second-material", "aria-label": "Second material" });
  const file = el("input", { type: "file", class: "d-none", "aria-label": "Second photo", onchange: () => file.files[0] && photo(file.files[0]) });
  const work = (make) => { says.textContent = "Bringing it in …"; state.emit("saving"); return state.after(make); };
  const photo = (picked) => { const form = new FormData(); form.append("photo", picked, picked.name || "pasted.png"); form.append("step_id", controls.row.id); return work(() => send(`${state.path}/lay-over-photo`, form)); };
  const bring = el("button", { class: "act edge", type: "button", id: "lay-over", onclick: () => list.value && work(() => post(`${state.path}/lay-over`, { step_id: controls.row.id, material: list.value })) }, "Lay it over");
  get("/api/materials").then((found) => {
    list.replaceChildren(...found.materials.filter((m) => m.id !== state.ident).map((m) => el("option", { value: m.id }, m.name)));
  }).catch(() => { says.textContent = "The library cannot be read just now."; });
  const node = el("div", { class: "my-2" }, says, el("div", { class: "control" }, el("label", { for: "second-material" }, "Material"), list), el("div", { class: "d-flex gap-1" }, bring, el("button", { class: "act edge", type: "button", onclick: () => file.click() }, "A photo …")), file);
  return {
    node,
    update(v) {
      const names = v.maps.map((m) => state.weave.sources?.[m.source] || m.thread);
      says.textContent = names.length ? `Second: ${names.slice(0, 2).join(", ")}${names.length > 2 ? ` and ${names.length - 2} more` : ""}` : "Choose what is laid over this material.";
    },
  };
}

// Starting points of a step, one press each
export function presetRow(step, controls) {
  const fits = (p, v) => Object.entries(p.settings).every(([k, x]) => JSON.stringify(v[k]) === JSON.stringify(x));
  const buttons = step.presets.map((p) => el("button", { class: "act edge", type: "button", "data-preset": p.title, onclick: () => { controls.try(p.settings); controls.settle(); } }, p.title));
  const node = el("div", { class: "presets", role: "group", "aria-label": step.presets[0].kind || "Starting points" }, step.presets[0].kind ? el("span", { class: "quiet" }, step.presets[0].kind) : null, ...buttons);
  return { node, update(v) { step.presets.forEach((p, i) => buttons[i].setAttribute("aria-pressed", fits(p, v))); } };
}

// Another seed: another wall out of the same photo
export const dice = (field, controls) => el("button", { class: "act edge", type: "button", id: `another-${field.name}`, onclick: () => { controls.try({ [field.name]: (controls.settings[field.name] + 1) % 2147483647 }); controls.settle(); } }, "Another");
