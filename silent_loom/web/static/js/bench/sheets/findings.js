// The photo report and the origin of a material, each on its sheet; and the cures of repetition.
import { beside, cm, el, get, post } from "../../base/api.js";
import { closeSheet, openSheet } from "./dock.js";

export function findings(state, say) {
  const size = document.getElementById("real-size");
  const sheet = document.getElementById("report-sheet"),
    list = document.getElementById("report-list");
  const light = document.getElementById("report-light");
  const button = document.getElementById("report"),
    count = el("span", { class: "to-mend", hidden: true });
  button.append(count);

  const cure = f =>
    el(
      "button",
      {
        class: "act edge",
        type: "button",
        onclick: async e => {
          e.target.disabled = true;
          await state.after(async () => {
            const made = await post(`${state.path}/cure`, { code: f.code });
            queueMicrotask(() => state.choose(made.step_id));
            return made;
          });
          await look();
          if (["tilt", "turn"].includes(f.code)) await meet();
        },
      },
      f.cure.words,
    );
  const line = f =>
    el(
      "li",
      { class: `found-${f.mended_by ? "good" : f.level}`, "data-code": f.code },
      el(
        "span",
        { class: "level" },
        f.mended_by ? "mended" : { good: "good", note: "note", bad: f.cure ? "mend" : "beware" }[f.level],
      ),
      el(
        "span",
        {},
        el("b", {}, f.title),
        el("span", { class: "quiet" }, f.mended_by ? ` ${f.mended_by} sees to it.` : ` ${f.says}`),
      ),
      f.cure && !f.mended_by ? cure(f) : null,
    );

  // What can still be mended is said on the button, so that nobody has to ask first
  const mark = found => {
    const bad = found.filter(f => f.level === "bad" && f.cure && !f.mended_by).length;
    count.textContent = bad;
    count.hidden = !bad;
    button.title = bad ? `${bad} to mend` : "";
    button.dataset.mend = bad;
  };
  async function look() {
    try {
      const { findings: found } = await beside(() => get(`${state.path}/report?aside=true`));
      light.src = `${state.path}/light.png?at=${state.material.head}`;
      light.hidden = false;
      list.replaceChildren(...found.map(line));
      mark(found);
    } catch (e) {
      list.replaceChildren(el("li", { class: "found-bad" }, e.message));
    }
  }
  button.addEventListener("click", () => {
    list.replaceChildren(el("li", { class: "quiet" }, "Looking at the photo …"));
    light.hidden = true;
    openSheet(sheet);
    look();
  });
  // A new photo of courses, or of a motif, begins with what Suggest would choose: a plain cut would chop them. An
  // artist who has set how edges meet, or goes on working meanwhile, is left alone.
  let begun = null;
  const closing = () => state.that("close"),
    untouched = () => begun && JSON.stringify(closing()?.settings) === begun;
  async function meet() {
    const { head } = state.material,
      here = () => state.material.head === head && !state.draft && untouched();
    const skew = [...list.children].some(
      l => ["tilt", "turn"].includes(l.dataset.code) && l.classList.contains("found-bad"),
    );
    if (skew || !untouched()) return; // lines that run askew meet nowhere: after they are straightened
    try {
      const better = await beside(() => get(`${state.path}/meeting`), here);
      if (!better?.settings || !here()) return;
      begun = null;
      await state.change({ kind: "settings", step_id: better.step_id, settings: better.settings });
      say(`${better.why} Undo brings the plain cut back.`);
      await look();
    } catch {
      /* the plain cut stays; Suggest says why when it is asked */
    }
  }
  // How large the photo is decides everything in millimetres: asked first, by something that is known
  const asked = () => {
    const row = state.that("photo");
    if (!row) return;
    const assumed =
      row.settings.width_mm === 1000 && !state.rows.some(r => state.can(r, "straighten") && r.settings.width_mm);
    size.replaceChildren(
      el(
        "b",
        {},
        assumed
          ? `The photo is taken to be ${cm(row.settings.width_mm)} wide. `
          : `The photo is ${cm(row.settings.width_mm)} wide. `,
      ),
      assumed ? "Depth, slopes and repeats all rest on that. " : "",
      el(
        "button",
        { class: "act edge", type: "button", id: "known-length", onclick: () => state.emit("length") },
        "Drag a known length",
      ),
    );
  };
  state.on("material", asked);
  addEventListener("loom-unit", asked);
  state.on("fresh", () => {
    openSheet(sheet);
    list.replaceChildren(el("li", { class: "quiet" }, "Looking at the photo …"));
    begun = JSON.stringify(closing()?.settings);
    look().then(meet);
  });
  let rest = null;
  state.on("material", () => {
    clearTimeout(rest);
    if (button.hidden) return;
    rest = setTimeout(async () => {
      const { head } = state.material,
        here = () => state.material.head === head && !state.draft;
      try {
        const answer = await beside(() => get(`${state.path}/report?aside=true`), here);
        if (answer && here()) mark(answer.findings);
      } catch {
        /* the sheet says what is wrong when it is opened */
      }
    }, 800);
  });

  const origin = document.getElementById("origin-sheet"),
    fields = ["author", "origin", "licence", "sale", "note"];
  document.getElementById("origin").addEventListener("click", () => {
    for (const f of fields) document.getElementById(`origin-${f}`).value = state.material.origin[f];
    openSheet(origin);
  });
  document.getElementById("origin-save").addEventListener("click", async () => {
    const body = Object.fromEntries(fields.map(f => [f, document.getElementById(`origin-${f}`).value]));
    await state.after(() => post(`${state.path}/origin`, body));
    closeSheet(origin);
  });

  state.on("cure", async ({ detail: { what, spot } }) => {
    const rows = state.rows,
      seamless = rows.findIndex(r => ["close", "maps", "sheet"].some(what => state.can(r, what)));
    const place = at => (rows[at] ? state.below(rows[at]) : { to: 0, into: "" });
    try {
      if (what === "even") {
        const row = state.that("light");
        if (row) {
          await state.change({ kind: "settings", step_id: row.id, settings: { patches: 1, reach: 0.15 } });
          state.choose(row.id);
        } else await state.add(state.stepThat("light"), { patches: 1, reach: 0.15 }, state.aboveOf(rows[seamless]));
      } else if (what === "fill") {
        const region = { kind: "brush", points: [[spot.u, spot.v]], radius: Math.min(0.2, spot.radius) };
        // The spot was seen on the finished sheet: a mark for it belongs below whatever made that sheet larger
        const larger = rows.findLastIndex(r => !r.resting && (state.can(r, "break") || state.can(r, "grow"))),
          below = Math.max(seamless, larger);
        const row = state.that("fill", rows.slice(below + 1));
        if (row) {
          await state.change({
            kind: "settings",
            step_id: row.id,
            settings: { regions: [...row.settings.regions, region] },
          });
          state.choose(row.id);
        } else await state.add(state.stepThat("fill"), { regions: [region] }, place(below));
      } else if (what === "quilt") {
        // From the whole photo: what it makes closes by itself, so Seamless is not needed any more
        const row = rows[seamless];
        if (state.can(row, "close") && row.on) await state.change({ kind: "switch", step_id: row.id, on: false });
        // Above what was marked on the small repeat nothing may change its size: marks are parts of their sheet
        await state.add(state.stepThat("grow"), {}, place(lastMarks(state, seamless)));
        // Below every map: it carries the finished height along
      } else await state.add(state.stepThat("break"), {}, { to: 1e6, into: "" });
    } catch (e) {
      say(e.message);
    }
  });
}

// The last row, from the one that closes the sheet on, that holds marks or strokes laid on the sheet as it is there
function lastMarks(state, from) {
  const at = state.rows.findLastIndex(r => state.can(r, "fill") || state.can(r, "strokes"));
  return Math.max(from, at);
}
