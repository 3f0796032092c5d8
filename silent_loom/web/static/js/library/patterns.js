// Begin from a pattern: a sheet of pictures, one a pattern, large enough to choose by.
import { get, post } from "../base/api.js";
import { fieldUnit, length, parse } from "../base/units.js";
import { Shelf } from "./shelf.js";

const $ = id => document.getElementById(id);
let patterns = [],
  shelf = null;

function chosen(p) {
  $("pattern-name").value = p.title;
  $("pattern-width").value = length(p.size_mm[0]);
  high();
}

function high() {
  const { chosen: p } = shelf;
  try {
    const mm = parse($("pattern-width").value, fieldUnit("mm", 1));
    $("pattern-high").textContent =
      `and ${length(+((mm * p.size_mm[1]) / p.size_mm[0]).toPrecision(4))} high; what lies on it keeps its size.`;
  } catch {
    $("pattern-high").textContent = "Type for example 1.2 m or 40 cm.";
  }
}

async function begin() {
  const { chosen: p } = shelf;
  if (!p) return;
  try {
    const width = parse($("pattern-width").value, fieldUnit("mm", 1));
    const made = await post("/api/materials/pattern", {
      pattern: p.name,
      name: $("pattern-name").value,
      seed: +$("pattern-seed").value || 1,
      width_mm: Math.abs(width / p.size_mm[0] - 1) < 0.005 ? null : width,
    });
    location.href = `/bench/${made.id}`;
  } catch (error) {
    shelf.fail(error.message);
  }
}

export async function openPatterns() {
  if (!patterns.length) patterns = (await get("/api/patterns")).patterns;
  shelf.open(patterns);
}

addEventListener("DOMContentLoaded", () => {
  shelf = new Shelf("pattern", {
    text: p => `${p.title} ${p.says} ${p.family} ${p.words.join(" ")} ${p.name}`,
    onChoose: chosen,
    onBegin: begin,
  });
  $("pattern-width").addEventListener("input", high);
  $("pattern-begin").addEventListener("click", begin);
  $("pattern-dice").addEventListener("click", () => {
    $("pattern-seed").value = 1 + Math.floor(Math.random() * 9999);
  });
});
