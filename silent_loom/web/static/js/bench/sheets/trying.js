// Trying on: a thread or one channel of it in another role, or the starting points of a step, up to four beside each
// other on the form; one press keeps one.
import { el, post } from "../../base/api.js";
import { openSheet } from "./dock.js";

const PARTS = { "": "lightness", r: "red", g: "green", b: "blue" };
const ROLES = { roughness: "roughness", metallic: "metallic", specular: "specular weight", height: "height" };
const MOST = 4,
  LETTERS = "ABCD";

export function startTrying(state, table, say) {
  const $ = id => document.getElementById(id),
    sheet = $("trying-sheet"),
    list = $("candidates");
  let role = "roughness",
    tried = [],
    presets = null;

  state.on("trying", () => open());
  async function open() {
    openSheet(sheet);
    const pane = form();
    if (pane.view !== "form") pane.show("form");
    if (!tried.length)
      tried = [
        { thread: "", part: "", inverted: false },
        { thread: "base", part: "", inverted: true },
      ];
    presets = null;
    draw();
    await lay();
  }
  const form = () => table.panes.find(p => p.view === "form") || table.active || table.panes[0];
  sheet.addEventListener("close", () => {
    if (!state.compare) form().form.lay([]);
    presets = null;
  });

  $("role").replaceChildren(...Object.entries(ROLES).map(([name, title]) => el("option", { value: name }, title)));
  $("role").addEventListener("change", () => {
    role = $("role").value;
    presets = null;
    draw();
    lay();
  });
  $("candidate-add").addEventListener("click", () => {
    if (tried.length < MOST) {
      tried.push({ thread: "base", part: ["", "r", "g", "b"][tried.length % 4], inverted: tried.length % 2 === 1 });
      draw();
      lay();
    }
  });
  $("candidate-presets").addEventListener("click", () => {
    const row = state.row(state.chosen),
      step = state.steps[row?.step];
    if (!step?.presets?.length) {
      say("The chosen step has no starting points to compare.");
      return;
    }
    presets = step.presets.slice(0, MOST).map(p => ({ row: row.id, title: p.title, settings: p.settings }));
    draw();
    lay();
  });

  function draw() {
    $("role").value = role;
    $("candidate-add").disabled = !!presets || tried.length >= MOST;
    const threads = state.threads.filter(t => t.made);
    list.replaceChildren(
      ...(presets || tried).map((t, i) => {
        const keep = el(
          "button",
          { class: "act main", type: "button", "data-candidate": i, onclick: () => kept(i) },
          "Keep",
        );
        if (presets) return el("li", {}, el("b", {}, LETTERS[i]), el("span", { class: "push-on" }, t.title), keep);
        const thread = el(
          "select",
          {
            "aria-label": `What ${LETTERS[i]} is made of`,
            onchange: () => {
              t.thread = thread.value;
              draw();
              lay();
            },
          },
          el("option", { value: "" }, "as it is"),
          ...threads.map(s => el("option", { value: s.name, selected: s.name === t.thread }, s.title)),
        );
        const part = el(
          "select",
          {
            "aria-label": `Channel of ${LETTERS[i]}`,
            disabled: !t.thread,
            onchange: () => {
              t.part = part.value;
              lay();
            },
          },
          ...Object.entries(PARTS).map(([value, words]) => el("option", { value, selected: value === t.part }, words)),
        );
        const turned = el(
          "button",
          {
            class: "act edge",
            type: "button",
            "aria-pressed": t.inverted,
            disabled: !t.thread,
            onclick: () => {
              t.inverted = !t.inverted;
              draw();
              lay();
            },
          },
          "inverted",
        );
        const out = el(
          "button",
          {
            class: "act",
            type: "button",
            "aria-label": `Take ${LETTERS[i]} away`,
            disabled: tried.length < 2,
            onclick: () => {
              tried.splice(i, 1);
              draw();
              lay();
            },
          },
          "×",
        );
        keep.disabled = !t.thread;
        return el("li", {}, el("b", {}, LETTERS[i]), thread, part, turned, keep, out);
      }),
    );
  }

  const words = (t, i) => {
    const read = t.thread ? [t.thread, PARTS[t.part], t.inverted && "inverted"].filter(Boolean).join(", ") : "as it is";
    return `${LETTERS[i]}: ${t.title || read}`;
  };
  const trial = t => ({ role, thread: t.thread, part: t.part, inverted: t.inverted });

  async function lay() {
    const pane = form();
    if (state.compare) state.hold(null);
    pane.form.lay(
      (presets || tried).map((t, i) => ({
        title: words(t, i),
        of: () => ({
          path: state.path,
          lay: presets
            ? { step_id: t.row, settings: t.settings }
            : t.thread
              ? { ...state.question(), trial: trial(t) }
              : state.question(),
        }),
      })),
      "beside",
    );
  }

  async function kept(i) {
    try {
      if (presets) await state.change({ kind: "settings", step_id: presets[i].row, settings: presets[i].settings });
      else await state.change(await post(`${state.path}/trial`, trial(tried[i])));
      say(`Kept: ${words((presets || tried)[i], i)}. Undo takes it back.`);
      sheet.close();
    } catch (error) {
      say(error.message);
    }
  }
}
