// Begin from a pattern: a sheet of pictures, one a pattern, large enough to choose by.
import { el, get, post } from "../base/api.js";
import { fieldUnit, length, parse } from "../base/units.js";

const $ = (id) => document.getElementById(id);
let patterns = [], chosen = null, family = "";

const fits = (p, words) => words.every((w) => `${p.title} ${p.says} ${p.family} ${p.words.join(" ")} ${p.name}`.toLowerCase().includes(w));
const wanted = () => {
  const words = $("pattern-words").value.toLowerCase().split(/\s+/).filter(Boolean);
  return patterns.filter((p) => (!family || p.family === family) && fits(p, words));
};

function families() {
  const words = $("pattern-words").value.toLowerCase().split(/\s+/).filter(Boolean);
  const some = (name) => patterns.filter((p) => (!name || p.family === name) && fits(p, words)).length;
  $("pattern-families").replaceChildren(...["", ...new Set(patterns.map((p) => p.family))].map((name) => el("button", {
    class: "choice", type: "button", "aria-pressed": String(name === family), onclick: () => { family = name; fill(); },
  }, el("span", {}, name || "All of them"), el("span", { class: "quiet push" }, String(some(name))))));
}

function fill() {
  families();
  const found = wanted();
  $("pattern-none").hidden = found.length > 0;
  $("pattern-grid").replaceChildren(...found.map((p) => el("button", {
    class: "pattern", type: "button", role: "radio", "aria-checked": String(p === chosen), "data-pattern": p.name, title: p.says, tabindex: p === chosen || (!found.includes(chosen) && p === found[0]) ? 0 : -1,
    onclick: () => choose(p), ondblclick: begin,
  }, el("img", { src: p.picture, alt: "", loading: "lazy", width: 400, height: 300 }), el("span", {}, p.title))));
}

function choose(p) {
  chosen = p;
  for (const b of $("pattern-grid").children) { const on = b.dataset.pattern === p.name; b.setAttribute("aria-checked", String(on)); b.tabIndex = on ? 0 : -1; }
  $("pattern-about").hidden = false;
  $("pattern-picture").src = p.picture;
  $("pattern-picture").alt = p.title;
  $("pattern-title").textContent = p.title;
  $("pattern-says").textContent = p.says;
  $("pattern-name").value = p.title;
  $("pattern-width").value = length(p.size_mm[0]);
  high();
  $("pattern-begin").disabled = false;
}

function high() {
  try {
    const mm = parse($("pattern-width").value, fieldUnit("mm", 1));
    $("pattern-high").textContent = `and ${length(+(mm * chosen.size_mm[1] / chosen.size_mm[0]).toPrecision(4))} high; what lies on it keeps its size.`;
  } catch { $("pattern-high").textContent = "Type for example 1.2 m or 40 cm."; }
}

async function begin() {
  if (!chosen) return;
  try {
    const width = parse($("pattern-width").value, fieldUnit("mm", 1));
    const made = await post("/api/materials/pattern", { pattern: chosen.name, name: $("pattern-name").value, seed: +$("pattern-seed").value || 1, width_mm: Math.abs(width / chosen.size_mm[0] - 1) < 0.005 ? null : width });
    location.href = `/bench/${made.id}`;
  } catch (error) { $("pattern-error").textContent = error.message; $("pattern-error").hidden = false; }
}

export async function openPatterns() {
  if (!patterns.length) patterns = (await get("/api/patterns")).patterns;
  $("pattern-error").hidden = true;
  fill();
  if (!chosen) choose(patterns[0]);
  $("pattern-sheet").showModal();
  $("pattern-words").focus();
}

addEventListener("DOMContentLoaded", () => {
  $("pattern-words").addEventListener("input", fill);
  $("pattern-width").addEventListener("input", high);
  $("pattern-begin").addEventListener("click", begin);
  $("pattern-dice").addEventListener("click", () => { $("pattern-seed").value = 1 + Math.floor(Math.random() * 9999); });
  $("pattern-close").addEventListener("click", () => $("pattern-sheet").close());
  $("pattern-grid").addEventListener("keydown", (e) => {
    const all = [...$("pattern-grid").children], at = all.indexOf(document.activeElement), across = Math.max(1, Math.round($("pattern-grid").clientWidth / (all[0]?.offsetWidth || 1)));
    const to = { ArrowRight: at + 1, ArrowLeft: at - 1, ArrowDown: at + across, ArrowUp: at - across }[e.key];
    if (e.key === "Enter" && at >= 0) { e.preventDefault(); all[at].click(); begin(); return; }
    if (to === undefined || !all[to]) return;
    e.preventDefault();
    all[to].click();
    all[to].focus();
  });
});
