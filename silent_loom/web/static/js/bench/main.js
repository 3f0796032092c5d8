import Alpine from "/static/vendor/alpine/alpine.csp.min.js";
import { cm, el, get, picture } from "../base/api.js";
import { drawnInSoftware } from "../base/soft.js";
import { chosen, choose } from "../base/units.js";
import { Chart } from "./weave/chart.js";
import { Controls } from "./controls/controls.js";
import { startDeliver } from "./giving/deliver.js";
import { openSheet, startBorders, startDock } from "./sheets/dock.js";
import { findings } from "./sheets/findings.js";
import { startCompare } from "./sheets/compare.js";
import { startOdd } from "./sheets/odd.js";
import { startReading } from "./sheets/reading.js";
import { startTrying } from "./sheets/trying.js";
import { startVariations } from "./sheets/variations.js";
import { Table } from "./table/panes.js";
import { State } from "./state.js";
import { Strip } from "./strip.js";

const $ = id => document.getElementById(id);
const state = new State($("bench").dataset.id);
state.tab = Math.random().toString(36).slice(2, 8);
const table = new Table($("table"), state);
const chart = new Chart($("weave"), state, $("knot-view"));
new Controls($("controls"), state);
new Strip($("strip"), state, table);

Alpine.start();
startDock();
startDeliver(state);
startBorders();

// --- head -------------------------------------------------------------------------------------------------
const clock = () => new Date().toLocaleTimeString([], { hour: "2-digit", minute: "2-digit", second: "2-digit" });
state.on("material", facts);
addEventListener("loom-unit", facts);
function facts() {
  const { material, weave } = state;
  if (!$("name").hidden) $("name").textContent = material.name;
  $("name").title = `${material.name} (press to rename)`;
  document.title = `${material.name} · Silent Loom`;
  const texels = 2048 / (Math.max(...weave.size_mm) / 10);
  const wide = `${cm(weave.size_mm[0])} × ${cm(weave.size_mm[1])}`;
  $("facts").textContent = weave.on ? `on ${weave.on.name}, UVs ${wide}` : `${wide} a repeat`;
  $("facts").title = `${texels >= 100 ? Math.round(texels) : texels.toPrecision(3)} texels a centimetre at 2048`;
  $("report").hidden = !state.rows.some(r => state.can(r, "photo") && !r.resting && !r.error);
  $("undo").disabled = !material.can_undo;
  $("redo").disabled = !material.can_redo;
  $("before").disabled = !material.parent;
  $("saved").textContent = $("saved").textContent || "Saved";
  document.body.dataset.head = material.head;
}
// When is told on hover and to who cannot see: the head has no room to spare
let savedAt = "";
function showSaved() {
  $("saved").replaceChildren("Saved ", el("span", { class: "visually-hidden" }, savedAt));
  $("saved").title = savedAt && `Saved at ${savedAt}`;
}
state.on("said", e => {
  $("saved").textContent = e.detail;
});
state.on("draft", () => {
  $("saved").textContent = "Trying …";
});
state.on("saving", () => {
  $("saved").textContent = "Saving …";
});
state.on("saved", () => {
  savedAt = clock();
  showSaved();
});
state.on("fault", e => {
  $("saved").textContent = "Not saved";
  say(e.detail);
});
state.on("refused", e => {
  showSaved();
  say(e.detail);
});

// Words that pass: they leave by themselves, unless somebody reads them
function say(words) {
  document.querySelector(".toast-line")?.remove();
  let gone = 0;
  const line = el(
    "div",
    { class: "toast-line", role: "alert" },
    el("span", {}, words),
    el("button", { class: "act", type: "button", onclick: () => line.remove() }, "Close"),
  );
  const leave = () => {
    clearTimeout(gone);
    gone = setTimeout(() => line.remove(), 4000 + 60 * words.length);
  };
  line.addEventListener("pointerenter", () => clearTimeout(gone));
  line.addEventListener("pointerleave", leave);
  leave();
  document.body.append(line);
}

findings(state, say);
startOdd(state);
const comparing = startCompare(state, say);
startReading(state, table, say);
startTrying(state, table, say);
startVariations(state, say);
$("undo").addEventListener("click", () => state.undo());
$("redo").addEventListener("click", () => state.redo());
$("theme").addEventListener("click", () => {
  window.switchTheme();
  table.panes.forEach(p => p.current.draw?.());
});
$("lengths").value = chosen();
$("lengths").addEventListener("change", () => choose($("lengths").value));
document.querySelectorAll("[data-panes]").forEach(b => b.addEventListener("click", () => table.lay(+b.dataset.panes)));

// Renamed where it stands
$("name").addEventListener("click", () => {
  const field = el("input", {
    class: "name-field",
    type: "text",
    value: state.material.name,
    "aria-label": "Name of the material",
    maxlength: 200,
  });
  let done = false;
  const end = keep => {
    if (done) return;
    done = true;
    const name = field.value.trim();
    field.remove();
    $("name").hidden = false;
    if (keep && name && name !== state.material.name) state.rename(name);
    $("name").focus();
  };
  field.addEventListener("keydown", e => {
    if (e.key === "Enter") end(true);
    if (e.key === "Escape") {
      e.stopPropagation();
      end(false);
    }
  });
  field.addEventListener("blur", () => end(true));
  $("name").hidden = true;
  $("name").after(field);
  field.select();
});

// --- before -----------------------------------------------------------------------------------------------
function before(on) {
  if (state.before === on || (on && !state.material.parent)) return;
  state.before = on;
  $("before").setAttribute("aria-pressed", on);
  document.querySelectorAll(".pane .before").forEach(n => n.remove());
  if (on) table.panes.forEach(p => p.node.append(el("div", { class: "before" }, "Before")));
  state.emit("before");
}
$("before").addEventListener("pointerdown", e => {
  e.target.setPointerCapture(e.pointerId);
  before(true);
});
for (const end of ["pointerup", "pointercancel", "blur"]) $("before").addEventListener(end, () => before(false));

// --- sheets -----------------------------------------------------------------------------------------------
$("keys").addEventListener("click", () => openSheet($("keys-sheet")));
$("history").addEventListener("click", () => {
  openSheet($("history-sheet"));
  listHistory();
});
state.on("material", () => {
  if ($("history-sheet").open) listHistory();
});
async function listHistory() {
  try {
    const { entries } = await get(`${state.path}/history`);
    $("history-list").replaceChildren(
      ...entries.map(h => {
        const look = el("span", { class: "swatch" });
        // What each state looks like, fetched as far as somebody scrolls
        seen.observe(look);
        look.dataset.entry = h.id;
        return el(
          "li",
          { class: `${h.head ? "now" : ""} ${h.on_line ? "" : "branch"}` },
          el(
            "button",
            { type: "button", "data-entry": h.id, "aria-current": h.head, onclick: () => state.goTo(h.id) },
            look,
            el("span", {}, new Date(h.at).toLocaleTimeString([], { hour: "2-digit", minute: "2-digit" })),
            el("span", {}, h.aside ? `${h.label} (from another window)` : h.label),
          ),
        );
      }),
    );
  } catch (e) {
    say(e.message);
  }
}
const seen = new IntersectionObserver(shown => {
  for (const { target, isIntersecting } of shown) {
    if (!isIntersecting) continue;
    seen.unobserve(target);
    picture(
      `${state.path}/map/${state.threads[0].name}.png?size=64&entry=${target.dataset.entry}`,
      () => target.isConnected,
    )
      .then(made => {
        if (made) target.replaceChildren(made);
      })
      .catch(() => {
        /* nothing is made there */
      });
  }
});
state.on("clash", e => {
  const kept = e.detail;
  $("saved").textContent = "Changed in another window";
  $("clash-theirs").onclick = async () => {
    $("clash-sheet").close();
    state.take(await get(state.path));
  };
  $("clash-mine").onclick = async () => {
    $("clash-sheet").close();
    await state.goTo(kept);
  };
  $("clash-sheet").showModal();
});

// --- keys -------------------------------------------------------------------------------------------------
addEventListener("keydown", e => {
  const typing = e.target.closest?.("input:not([type=range]):not([type=checkbox]), select, textarea");
  if ((e.ctrlKey || e.metaKey) && e.key.toLowerCase() === "z") {
    if (typing) return;
    e.preventDefault();
    e.shiftKey ? state.redo() : state.undo();
    return;
  }
  if (typing || e.ctrlKey || e.metaKey || e.altKey || document.querySelector("dialog:modal, .palette")) return;
  const view = { f: "form", l: "flat", r: "repeat", h: "half" }[e.key.toLowerCase()];
  if (view) table.active.show(view);
  else if (e.key.toLowerCase() === "b") before(true);
  else if (e.key.toLowerCase() === "a") chart.palette.open(chart.adding);
  else if (e.key.toLowerCase() === "g") chart.group();
  else if (e.key.toLowerCase() === "c") comparing.open();
  else if (e.key.toLowerCase() === "s") comparing.keep();
  else if (e.key.toLowerCase() === "v") state.emit("reading");
  else if (state.compare && (e.key === "," || e.key === ";"))
    state.wipe(Math.max(0.02, Math.min(0.98, state.compare.at + (e.key === "," ? -0.04 : 0.04))));
  else if (state.compare && e.key === ".") state.blink();
  else if (e.key === "?") openSheet($("keys-sheet"));
  else if (e.key === "[" || e.key === "]") {
    const made = state.threads.filter(t => t.made).map(t => t.name),
      pane = table.active;
    pane.thread = made[(made.indexOf(pane.thread) + (e.key === "]" ? 1 : -1) + made.length) % made.length];
    if (["form", "photo"].includes(pane.view)) pane.show("flat");
    else pane.refresh();
    state.emit("active");
  } else return;
  e.preventDefault();
});
addEventListener("keyup", e => {
  if (e.key.toLowerCase() === "b") before(false);
});
addEventListener("pagehide", () => state.leave());

// A photo dropped on the table goes through the same weave
addEventListener("dragover", e => e.preventDefault());
addEventListener("drop", e => {
  e.preventDefault();
  const file = e.dataTransfer.files[0],
    row = state.that("photo");
  if (file && row) state.otherPhoto(row.id, file);
});

const soft = is => document.documentElement.classList.toggle("soft", is);
soft(localStorage.getItem("loom-soft") === "1");
try {
  const fresh = await state.load();
  table.start();
  state.emit("chosen");
  document.body.dataset.ready = "1";
  // Nothing moves by itself where the processor draws; asked once the first pictures have been, as it takes a moment
  setTimeout(() => {
    const is = drawnInSoftware();
    soft(is);
    localStorage.setItem("loom-soft", is ? "1" : "");
  }, 2000);
  if (fresh) {
    history.replaceState(null, "", location.pathname); // only the first time
    state.emit("fresh");
  }
} catch (error) {
  say(error.message);
}
