// A profile tried on the present material before it is kept: packed pictures, sizes, graphics memory, and whether it
// fits.
import { el, post } from "../../base/api.js";
import { bytes } from "./forecast.js";

export class Tried {
  /** @type {any} */
  state;
  /** @type {(words: string) => void} */
  say;
  /** @type {any} */
  take;

  constructor(state, say, take) {
    Object.assign(this, { state, say, take });
    this.view = Math.random().toString(36).slice(2, 8);
    this.sequence = 0;
    this.node = el("div", { class: "tried", "aria-live": "polite" });
  }

  ask(profile, size) {
    clearTimeout(this.timer);
    this.timer = setTimeout(() => this.now(profile, size), 200);
  }

  async now(profile, size) {
    const turn = ++this.sequence;
    try {
      const told = await post(`${this.state.path}/tried`, {
        profile,
        size,
        view: `tried-${this.view}`,
        sequence: turn,
      });
      if (turn !== this.sequence) return;
      this.say("");
      this.show(told, size);
    } catch (error) {
      if (turn === this.sequence) this.say(error.message);
    }
  }

  show(told, size) {
    const less = [];
    if (told.saved.files > 0) less.push(`${told.saved.files} ${told.saved.files === 1 ? "picture" : "pictures"}`);
    if (told.saved.memory > 0) less.push(`${bytes(told.saved.memory)} of graphics memory`);
    const saved = less.length ? `Packing saves ${less.join(" and ")}.` : "";
    this.node.replaceChildren(
      el("h3", {}, `On this material, ${size}`),
      el(
        "p",
        { class: "facts" },
        `${told.files.length} pictures, about ${bytes(told.bytes)}; graphics memory ${bytes(told.memory)}` +
          `, in blocks ${bytes(told.blocks)}, with mips. ${saved}`,
      ),
      ...told.fit.map(w => el("div", { class: "note" }, `${w[0].toUpperCase()}${w.slice(1)}.`)),
      ...told.lines.map(l =>
        el(
          "div",
          { class: `note${l.fits ? "" : " warn"}` },
          `${l.fits ? "Fits" : "Does not fit"}: ${l.limit} (${l.has}).`,
        ),
      ),
      ...told.proposals.map(p =>
        el(
          "div",
          { class: "note line" },
          el("span", {}, el("b", {}, p.title), el("br"), el("small", {}, `Costs: ${p.costs}.`)),
          el(
            "button",
            { class: "act edge push", type: "button", onclick: () => this.take(p.profile) },
            p.consent ? "Agree" : "Take it",
          ),
        ),
      ),
      el(
        "div",
        { class: "packed" },
        ...told.files.map(f =>
          el(
            "figure",
            { "data-packed": f.suffix },
            el("img", { src: f.picture, alt: f.file }),
            f.alpha ? el("img", { src: f.alpha, alt: `${f.file}, alpha` }) : null,
            el(
              "figcaption",
              { title: f.file },
              el("b", {}, f.suffix),
              el("br"),
              `${f.width} × ${f.height}, ${bytes(f.bytes)}`,
            ),
          ),
        ),
      ),
    );
    this.node.dataset.told = String(this.sequence);
  }
}
