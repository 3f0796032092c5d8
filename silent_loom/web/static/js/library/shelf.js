// A sheet of pictures to choose from: families at the left, pictures in the middle, found by words, walked by arrows.
import { el } from "../base/api.js";

export class Shelf {
  /** @type {string} Of the ids in the page */
  prefix;
  /** @type {any} What words are looked for in */
  text;
  /** @type {any} */
  onChoose;
  /** @type {any} */
  onBegin;

  // prefix: of the ids in the page; text: what words are looked for in; onChoose, onBegin: what a press and a second
  // one do
  constructor(prefix, { text, onChoose, onBegin }) {
    Object.assign(this, { prefix, text, onChoose, onBegin, all: [], chosen: null, family: "" });
    this.part("words").addEventListener("input", () => this.fill());
    this.part("grid").addEventListener("keydown", e => this.walk(e));
    this.part("close").addEventListener("click", () => this.part("sheet").close());
  }
  part(name) {
    return document.getElementById(`${this.prefix}-${name}`);
  }
  get asked() {
    return this.part("words").value.toLowerCase().split(/\s+/).filter(Boolean);
  }
  fits(one) {
    const own = this.text(one).toLowerCase();
    return this.asked.every(w => own.includes(w));
  }
  families() {
    const some = name => this.all.filter(p => (!name || p.family === name) && this.fits(p)).length;
    this.part("families").replaceChildren(
      ...["", ...new Set(this.all.map(p => p.family))].map(name =>
        el(
          "button",
          {
            class: "choice",
            type: "button",
            "aria-pressed": String(name === this.family),
            onclick: () => {
              this.family = name;
              this.fill();
            },
          },
          el("span", {}, name || "All of them"),
          el("span", { class: "quiet push" }, String(some(name))),
        ),
      ),
    );
  }
  fill() {
    this.families();
    const found = this.all.filter(p => (!this.family || p.family === this.family) && this.fits(p));
    this.part("none").hidden = found.length > 0;
    this.part("grid").replaceChildren(
      ...found.map(p =>
        el(
          "button",
          {
            class: "pattern",
            type: "button",
            role: "radio",
            "aria-checked": String(p === this.chosen),
            [`data-${this.prefix}`]: p.name,
            title: p.says,
            tabindex: p === this.chosen || (!found.includes(this.chosen) && p === found[0]) ? 0 : -1,
            onclick: () => this.choose(p),
            ondblclick: () => this.onBegin(),
          },
          el("img", { src: p.picture, alt: "", loading: "lazy", width: 400, height: 300 }),
          el("span", {}, p.title),
        ),
      ),
    );
  }
  choose(p) {
    this.chosen = p;
    for (const b of this.part("grid").children) {
      const on = b.dataset[this.prefix] === p.name;
      b.setAttribute("aria-checked", String(on));
      b.tabIndex = on ? 0 : -1;
    }
    this.part("about").hidden = false;
    this.part("picture").src = p.picture;
    this.part("picture").alt = p.title;
    this.part("title").textContent = p.title;
    this.part("says").textContent = p.says;
    this.part("error").hidden = true;
    this.part("begin").disabled = false;
    this.onChoose(p);
  }
  walk(e) {
    const all = [...this.part("grid").children],
      at = all.indexOf(document.activeElement),
      across = Math.max(1, Math.round(this.part("grid").clientWidth / (all[0]?.offsetWidth || 1)));
    const to = { ArrowRight: at + 1, ArrowLeft: at - 1, ArrowDown: at + across, ArrowUp: at - across }[e.key];
    if (e.key === "Enter" && at >= 0) {
      e.preventDefault();
      all[at].click();
      this.onBegin();
      return;
    }
    if (to === undefined || !all[to]) return;
    e.preventDefault();
    all[to].click();
    all[to].focus();
  }
  open(all) {
    this.all = all;
    this.part("error").hidden = true;
    this.fill();
    const still = all.find(p => p.name === this.chosen?.name);
    if (still || all.length) this.choose(still || all[0]);
    this.part("sheet").showModal();
    this.part("words").focus();
  }
  fail(words) {
    this.part("error").textContent = words;
    this.part("error").hidden = false;
  }
}
