// In words: a phrase, what is understood of it, what is there already, and surfaces made for it.
import { el, picture, post } from "../base/api.js";

const $ = id => document.getElementById(id);
const EXAMPLES = [
  "wet black slate with pale lichen",
  "faded red sailcloth, coarse",
  "grass between wet cobbles",
  "hammered brass with verdigris",
  "pale pink marble with gold veins",
];
const COUNT = 4;
let turn = 0,
  told = null,
  which = 0;

const chip = (words, means, kind) =>
  el(
    "span",
    { class: `chip ${kind}`, title: means },
    /^#/.test(means) ? svgDot(means) : null,
    el("b", {}, words),
    kind === "unknown" ? "not understood" : /^#/.test(means) ? "" : ` ${means}`,
  );
function svgDot(colour) {
  const dot = document.createElementNS("http://www.w3.org/2000/svg", "svg"),
    circle = document.createElementNS("http://www.w3.org/2000/svg", "circle");
  dot.setAttribute("viewBox", "0 0 10 10");
  for (const [k, v] of Object.entries({ cx: 5, cy: 5, r: 4.5, fill: colour })) circle.setAttribute(k, v);
  dot.append(circle);
  return dot;
}

const named = made => {
  const words = made.replace(/^.*:/, "").replaceAll("-", " ");
  return words[0].toUpperCase() + words.slice(1);
};

async function ask() {
  const phrase = $("words-phrase").value.trim(),
    mine = ++turn;
  $("words-error").hidden = true;
  $("words-begin").disabled = true;
  if (!phrase) return;
  try {
    told = await post("/api/words", { phrase, count: COUNT });
  } catch (error) {
    if (mine !== turn) return;
    $("words-error").textContent = error.message;
    $("words-error").hidden = false;
    for (const id of ["words-chips", "words-there", "words-results"]) $(id).replaceChildren();
    $("words-there-head").hidden = true;
    return;
  }
  if (mine !== turn) return;
  $("words-chips").replaceChildren(
    ...told.understood.map(u =>
      chip(
        u.words,
        u.means === u.words ? { quality: "how it looks", "lies on": "lies on it" }[u.part] || u.part : u.means,
        u.part.replace(" ", "-"),
      ),
    ),
    ...told.not_understood.map(w => chip(w, "", "unknown")),
  );
  const there = [
    ...told.in_the_library.map(m => ({
      href: `/bench/${m.id}`,
      src: `/api/materials/${m.id}/card.png?entry=${m.head}`,
      title: m.name,
      kind: "in your library",
    })),
    ...told.there_already
      .slice(0, 6)
      .map(h => ({ src: `/static/${h.kind}s/${h.name}.webp`, title: h.title, kind: h.kind, ...h })),
  ];
  $("words-there-head").hidden = !there.length;
  $("words-there").replaceChildren(
    ...there.slice(0, 7).map(t =>
      el(
        "a",
        {
          class: "there",
          href: t.href || "#",
          onclick: e => {
            if (!t.href) {
              e.preventDefault();
              beginFrom(t);
            }
          },
        },
        el("img", { src: t.src, alt: "", width: 120, height: 90 }),
        el("span", {}, t.title),
        el("small", { class: "quiet" }, t.kind),
      ),
    ),
  );
  $("words-results").replaceChildren(
    ...told.results.map((r, i) =>
      el(
        "button",
        {
          class: "pattern",
          type: "button",
          role: "radio",
          "data-result": i,
          "aria-checked": "false",
          onclick: () => choose(i),
          ondblclick: begin,
        },
        el("span", { class: "waiting" }),
        el("span", {}, named(r.made_of)),
        el("small", { class: "quiet" }, r.differs),
      ),
    ),
  );
  if (told.results.length) choose(0);
  let done = 0;
  const state = () => {
    $("words-state").textContent = done < told.results.length ? `${done} of ${told.results.length} drawn …` : "";
    $("words-results").dataset.done = String(done);
  };
  state();
  for (let i = 0; i < told.results.length; i++) {
    picture(
      `/api/words/picture.png?phrase=${encodeURIComponent(phrase)}&which=${i}`,
      () => mine === turn && $("words-sheet").open,
    )
      .then(made => {
        if (!made || mine !== turn) return;
        done++;
        $("words-results").children[i]?.firstChild.replaceWith(made);
        state();
      })
      .catch(error => {
        $("words-state").textContent = error.message;
      });
  }
}

function choose(i) {
  which = i;
  for (const b of $("words-results").children) b.setAttribute("aria-checked", String(+b.dataset.result === i));
  $("words-begin").disabled = false;
}

async function begin() {
  try {
    const made = await post("/api/materials/words", { phrase: told.phrase, which });
    location.href = `/bench/${made.id}`;
  } catch (error) {
    $("words-error").textContent = error.message;
    $("words-error").hidden = false;
  }
}

// What is there already begins as it is
async function beginFrom(t) {
  try {
    if (t.kind === "pattern") {
      location.href = `/bench/${(await post("/api/materials/pattern", { pattern: t.name })).id}`;
      return;
    }
    const form = new FormData();
    const response = await fetch(`/api/recipes/${t.name}/material`, { method: "POST", body: form });
    location.href = `/bench/${(await response.json()).id}`;
  } catch (error) {
    $("words-error").textContent = error.message;
    $("words-error").hidden = false;
  }
}

export function openWords() {
  $("words-sheet").showModal();
  $("words-phrase").focus();
}

addEventListener("DOMContentLoaded", () => {
  $("words-close").addEventListener("click", () => $("words-sheet").close());
  $("words-ask").addEventListener("submit", e => {
    e.preventDefault();
    ask();
  });
  $("words-begin").addEventListener("click", begin);
  $("words-examples").replaceChildren(
    ...EXAMPLES.map(words =>
      el(
        "button",
        {
          class: "act edge",
          type: "button",
          onclick: () => {
            $("words-phrase").value = words;
            ask();
          },
        },
        words,
      ),
    ),
  );
});
