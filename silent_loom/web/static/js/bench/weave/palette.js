// Steps to add: found by typing plain words, in families, the last used first. It inserts below the chosen row.
import { el, icon } from "../../base/api.js";

// What is looked for: lower case, without endings and without what is said of every map
const stem = word => word.replace(/(ies)$/, "y").replace(/(ing|es|s)$/, "");
export const wordsOf = text => {
  const all = text
      .toLowerCase()
      .split(/[^a-z0-9]+/)
      .filter(Boolean),
    telling = all.filter(w => !["map", "maps", "texture", "the", "a", "of"].includes(w));
  return (telling.length ? telling : all).map(w => (w.length > 3 ? stem(w) : w));
};
// How well a step fits: what is called so comes before what is known by that word, and that before what only speaks
// of it
export const scoreOf = (s, words) => {
  const title = wordsOf(s.title),
    known = s.words.map(wordsOf),
    says = s.says.toLowerCase();
  let sum = 0;
  for (const w of words) {
    const best =
      title.length === 1 && title[0] === w
        ? 16
        : title.includes(w)
          ? 12
          : known.some(k => k.length === 1 && k[0] === w)
            ? 8
            : title.some(t => t.startsWith(w))
              ? 6
              : known.some(k => k.some(t => t.startsWith(w)))
                ? 5
                : w.length > 2 && says.includes(w)
                  ? 1
                  : 0;
    if (!best) return 0;
    sum += best;
  }
  return sum + (known.some(k => k.join(" ") === words.join(" ")) || title.join(" ") === words.join(" ") ? 4 : 0);
};

const RECENT = "loom-recent-steps";

export class Palette {
  constructor(state, add) {
    this.state = state;
    this.add = add;
  }

  get recent() {
    try {
      return JSON.parse(localStorage.getItem(RECENT) || "[]");
    } catch {
      return [];
    }
  }

  open(from) {
    this.close();
    this.from = from;
    const row = this.state.row(this.state.chosen);
    this.search = el("input", {
      type: "search",
      "aria-label": "Find a step",
      placeholder: "Find a step: dirt, seams, depth, shine …",
      autocomplete: "off",
      spellcheck: "false",
      "aria-controls": "palette-list",
      oninput: () => this.list(),
    });
    this.items = el("div", { id: "palette-list", class: "palette-list", role: "listbox", "aria-label": "Steps" });
    this.node = el(
      "div",
      { class: "palette", role: "dialog", "aria-label": "Add a step" },
      el(
        "div",
        { class: "palette-head" },
        icon("zoom-in"),
        this.search,
        el(
          "button",
          { class: "act", type: "button", "aria-label": "Close", onclick: () => this.close(true) },
          icon("x"),
        ),
      ),
      el("div", { class: "quiet palette-where" }, row ? `Goes in below ${row.title}` : "Goes in at the end"),
      this.items,
    );
    this.node.addEventListener("keydown", e => this.key(e));
    this.from.closest("aside, main").append(this.node);
    const place = from.getBoundingClientRect();
    this.node.style.left = `${Math.max(8, Math.min(place.left, innerWidth - 448))}px`;
    this.node.style.top = `${Math.max(8, Math.min(place.bottom + 4, innerHeight - this.node.offsetHeight - 8))}px`;
    this.away = e => {
      if (!this.node.contains(e.target) && !from.contains(e.target)) this.close();
    };
    setTimeout(() => {
      if (this.node) addEventListener("pointerdown", this.away);
    }); // it may be closed again by then
    this.list();
    this.search.focus();
  }

  close(back = false) {
    if (!this.node) return;
    removeEventListener("pointerdown", this.away);
    this.node.remove();
    this.node = null;
    if (back) this.from.focus();
  }

  list() {
    const words = wordsOf(this.search.value);
    const all = Object.values(this.state.steps),
      ready = this.state.ready.map(r => ({ ...r, ready: true }));
    const scores = new Map([...all, ...ready].map(s => [s, scoreOf(s, words)]));
    const parts = [];
    const recent = words.length
      ? []
      : this.recent
          .map(n => this.state.steps[n])
          .filter(Boolean)
          .slice(0, 4);
    if (recent.length) parts.push(["Used last", recent]);
    if (words.length)
      parts.push(["", [...scores.keys()].filter(s => scores.get(s) > 0).sort((a, b) => scores.get(b) - scores.get(a))]);
    else parts.push(["Ready-made", ready]);
    if (!words.length)
      for (const title of new Set(all.map(s => s.family))) parts.push([title, all.filter(s => s.family === title)]);
    this.items.replaceChildren(
      ...parts.flatMap(([title, steps]) =>
        steps.length
          ? [
              title ? el("div", { class: "palette-family", role: "presentation" }, title) : null,
              ...steps.map(s => this.item(s)),
            ].filter(Boolean)
          : [],
      ),
    );
    if (!this.items.querySelector("[role=option]"))
      this.items.append(el("div", { class: "quiet p-2" }, "No step does that yet. Try a plainer word."));
    this.mark(0);
  }

  item(step) {
    const picture = el("img", {
      src: `/static/steps/${step.picture || step.name}.png`,
      alt: "",
      width: 72,
      height: 54,
      loading: "lazy",
    });
    return el(
      "button",
      {
        class: "palette-item",
        type: "button",
        role: "option",
        "data-step-name": step.name,
        "aria-label": step.title,
        tabindex: -1,
        ...(step.ready ? { "data-ready": "" } : {}),
        onclick: () => this.take(step),
      },
      el("span", { class: "swatch" }, picture),
      el("span", {}, el("b", {}, step.title), el("span", { class: "quiet" }, step.says)),
    );
  }

  mark(i) {
    const all = [...this.items.querySelectorAll("[role=option]")];
    this.at = all.length ? (i + all.length) % all.length : -1;
    all.forEach((node, k) => node.setAttribute("aria-selected", k === this.at));
    all[this.at]?.scrollIntoView({ block: "nearest" });
  }

  key(e) {
    const all = [...this.items.querySelectorAll("[role=option]")];
    if (e.key === "Escape") this.close(true);
    else if (e.key === "ArrowDown") this.mark(this.at + 1);
    else if (e.key === "ArrowUp") this.mark(this.at - 1);
    else if (e.key === "Enter" && all[this.at] && e.target === this.search) all[this.at].click();
    else {
      e.stopPropagation();
      return;
    }
    e.preventDefault();
    e.stopPropagation();
  }

  take(step) {
    if (!step.ready)
      localStorage.setItem(
        RECENT,
        JSON.stringify([step.name, ...this.recent.filter(n => n !== step.name)].slice(0, 8)),
      );
    this.close(true);
    this.add(step.name, step.ready);
  }
}
