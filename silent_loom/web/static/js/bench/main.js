import Alpine from "/static/vendor/alpine/alpine.csp.min.js";
import { cm, el, get } from "../api.js";
import { Chart } from "./chart.js";
import { Controls } from "./controls.js";
import { delivery } from "./deliver.js";
import { findings } from "./findings.js";
import { Table } from "./panes.js";
import { State } from "./state.js";
import { Strip } from "./strip.js";

const $ = (id) => document.getElementById(id);
const state = new State($("bench").dataset.id);
state.tab = Math.random().toString(36).slice(2, 8);
const table = new Table($("table"), state);
new Chart($("weave"), state, $("knot-view"));
new Controls($("controls"), state);
new Strip($("strip"), state, table);

Alpine.data("delivery", delivery(state));
Alpine.start();

// --- head -------------------------------------------------------------------------------------------------
const clock = () => new Date().toLocaleTimeString([], { hour: "2-digit", minute: "2-digit", second: "2-digit" });
state.addEventListener("material", () => {
  const { material, weave } = state;
  $("name").textContent = material.name;
  document.title = `${material.name} · Silent Loom`;
  const texels = 2048 / (Math.max(...weave.size_mm) / 10);
  $("facts").textContent = `${cm(weave.size_mm[0])} × ${cm(weave.size_mm[1])} a repeat`;
  $("facts").title = `${texels >= 100 ? Math.round(texels) : texels.toPrecision(3)} texels a centimetre at 2048`;
  $("report").hidden = !state.rows.some((r) => r.step === "photo");
  $("undo").disabled = !material.can_undo;
  $("redo").disabled = !material.can_redo;
  $("before").disabled = !material.parent;
  $("saved").textContent = $("saved").textContent || "Saved";
  document.body.dataset.head = material.head;
});
state.addEventListener("draft", () => { $("saved").textContent = "Trying …"; });
state.addEventListener("saving", () => { $("saved").textContent = "Saving …"; });
state.addEventListener("saved", () => { $("saved").textContent = `Saved ${clock()}`; });
state.addEventListener("fault", (e) => { $("saved").textContent = "Not saved"; say(e.detail); });

function say(words) {
  document.querySelector(".toast-line")?.remove();
  const line = el("div", { class: "toast-line", role: "alert" }, el("span", {}, words), el("button", { class: "act", type: "button", onclick: () => line.remove() }, "Close"));
  document.body.append(line);
}

findings(state, say);
$("undo").addEventListener("click", () => state.undo());
$("redo").addEventListener("click", () => state.redo());
$("theme").addEventListener("click", () => { window.switchTheme(); table.panes.forEach((p) => p.current.draw?.()); });
document.querySelectorAll("[data-panes]").forEach((b) => b.addEventListener("click", () => table.lay(+b.dataset.panes)));

function rename() {
  const name = prompt("Name of the material", state.material.name);
  if (name !== null && name.trim() && name !== state.material.name) state.rename(name);
}
$("name").addEventListener("click", rename);
$("name").addEventListener("keydown", (e) => { if (e.key === "Enter" || e.key === " ") { e.preventDefault(); rename(); } });

// --- before -----------------------------------------------------------------------------------------------
function before(on) {
  if (state.before === on || (on && !state.material.parent)) return;
  state.before = on;
  $("before").setAttribute("aria-pressed", on);
  document.querySelectorAll(".pane .before").forEach((n) => n.remove());
  if (on) table.panes.forEach((p) => p.node.append(el("div", { class: "before" }, "Before")));
  state.emit("before");
}
$("before").addEventListener("pointerdown", (e) => { e.target.setPointerCapture(e.pointerId); before(true); });
for (const end of ["pointerup", "pointercancel", "blur"]) $("before").addEventListener(end, () => before(false));

// --- sheets -----------------------------------------------------------------------------------------------
document.querySelectorAll("[data-close]").forEach((b) => b.addEventListener("click", () => b.closest("dialog").close()));
$("keys").addEventListener("click", () => $("keys-sheet").showModal());
$("history").addEventListener("click", async () => {
  try {
    const { entries } = await get(`${state.path}/history`);
    $("history-list").replaceChildren(...entries.map((h) => el("li", { class: `${h.head ? "head" : ""} ${h.on_line ? "" : "branch"}` },
      el("button", { type: "button", "data-entry": h.id, "aria-current": h.head, onclick: async () => { await state.goTo(h.id); $("history-sheet").close(); } },
        el("span", {}, new Date(h.at).toLocaleTimeString([], { hour: "2-digit", minute: "2-digit" })), el("span", {}, h.aside ? `${h.label} (from another window)` : h.label)))));
    $("history-sheet").showModal();
  } catch (e) { say(e.message); }
});
state.addEventListener("clash", (e) => {
  const kept = e.detail;
  $("saved").textContent = "Changed in another window";
  $("clash-theirs").onclick = async () => { $("clash-sheet").close(); state.take(await get(state.path)); };
  $("clash-mine").onclick = async () => { $("clash-sheet").close(); await state.goTo(kept); };
  $("clash-sheet").showModal();
});

// --- keys -------------------------------------------------------------------------------------------------
addEventListener("keydown", (e) => {
  const typing = e.target.closest?.("input:not([type=range]):not([type=checkbox]), select, textarea");
  if ((e.ctrlKey || e.metaKey) && e.key.toLowerCase() === "z") {
    if (typing) return;
    e.preventDefault();
    e.shiftKey ? state.redo() : state.undo();
    return;
  }
  if (typing || e.ctrlKey || e.metaKey || e.altKey || document.querySelector("dialog[open]")) return;
  const view = { o: "form", l: "flat", n: "repeat", j: "half" }[e.key.toLowerCase()];
  if (view) table.active.show(view);
  else if (e.key.toLowerCase() === "b") before(true);
  else if (e.key === "?") $("keys-sheet").showModal();
  else if (e.key === "[" || e.key === "]") {
    const made = state.threads.filter((t) => t.made).map((t) => t.name), pane = table.active;
    pane.thread = made[(made.indexOf(pane.thread) + (e.key === "]" ? 1 : -1) + made.length) % made.length];
    if (["form", "photo"].includes(pane.view)) pane.show("flat"); else pane.refresh();
    state.emit("active");
  } else return;
  e.preventDefault();
});
addEventListener("keyup", (e) => { if (e.key.toLowerCase() === "b") before(false); });
addEventListener("beforeunload", () => { if (state.draft) state.settle(); });

// A photo dropped on the table goes through the same weave
addEventListener("dragover", (e) => e.preventDefault());
addEventListener("drop", (e) => {
  e.preventDefault();
  const file = e.dataTransfer.files[0], row = state.rows.find((r) => r.step === "photo");
  if (file && row) state.otherPhoto(row.id, file);
});

try {
  await state.load();
  table.start();
  state.emit("chosen");
  document.body.dataset.ready = "1";
} catch (error) { say(error.message); }
