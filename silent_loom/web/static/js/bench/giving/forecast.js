// What a bake will make, told before it is begun; and what is lost at its size, with the worst place of each map.
import { el, post } from "../../base/api.js";

export const bytes = n =>
  n > 1e9 ? `${(n / 1e9).toFixed(1)} GB` : n > 1e6 ? `${(n / 1e6).toFixed(1)} MB` : `${Math.ceil(n / 1e3)} kB`;
const time = s => (s < 90 ? `${Math.max(1, Math.round(s))} s` : `${Math.round(s / 60)} min`);
const STATES = {
  carries: "",
  constant: "the same everywhere",
  unused: "changes nothing that is seen",
  left: "left out",
};

export class Forecast {
  /** @type {any} */
  state;
  /** @type {HTMLElement} */
  node;
  /** @type {HTMLElement} */
  losses;
  /** @type {HTMLElement} */
  said;
  /** @type {any} */
  leave;

  constructor(state, node, losses, said, leave) {
    Object.assign(this, { state, node, losses, said, leave });
    this.view = Math.random().toString(36).slice(2, 8);
    this.sequence = 0;
  }

  ask(order) {
    clearTimeout(this.timer);
    this.losses.replaceChildren();
    this.said.textContent = "…";
    this.timer = setTimeout(() => this.now(order), 250);
  }

  async now(order) {
    const turn = ++this.sequence,
      { source, ...asked } = order;
    try {
      const told = await post(`${this.state.path}/forecast`, {
        ...asked,
        view: `forecast-${this.view}`,
        sequence: turn,
      });
      if (turn === this.sequence) this.show(told, order, source);
    } catch (error) {
      if (turn !== this.sequence) return;
      this.said.textContent = "";
      this.node.replaceChildren(el("div", { class: "note warn" }, error.message));
    }
  }

  show(told, order, source) {
    this.said.textContent = "";
    const pictures = told.files.filter(f => !f.skipped && f.width);
    const facts = [
      `${told.size[0]} × ${told.size[1]}`,
      `${pictures.length} ${pictures.length === 1 ? "picture" : "pictures"}`,
      `about ${bytes(told.disk)}`,
      source ? "from the bake" : `about ${time(told.seconds)}`,
      `${bytes(told.memory)} of memory`,
    ];
    const rows = told.maps.map(m =>
      el(
        "tr",
        { "data-map": m.thread },
        el("th", { scope: "row" }, m.title),
        el(
          "td",
          {},
          m.state === "constant"
            ? `${STATES.constant}: ${m.value.map(v => +v.toPrecision(3)).join(", ")}`
            : STATES[m.state],
        ),
        el("td", { class: "lost" }),
        el(
          "td",
          {},
          el(
            "button",
            {
              class: "act",
              type: "button",
              "aria-pressed": String(m.state === "left"),
              title:
                m.state === "left"
                  ? `${m.title} gets its file again`
                  : `Make the files as if there were no ${m.title.toLowerCase()}`,
              onclick: () => this.leave(m.thread),
            },
            m.state === "left" ? "Take in" : "Leave out",
          ),
        ),
      ),
    );
    const over = told.limits.filter(l => !l.fits);
    this.node.replaceChildren(
      el("p", { class: "facts" }, facts.join(" · ")),
      ...told.words.map(w => el("div", { class: "note" }, w)),
      ...(told.fits_memory
        ? []
        : [
            el(
              "div",
              { class: "note warn" },
              `Needs about ${bytes(told.memory)} of memory, and ${bytes(told.memory_there)} can be had: ` +
                `bake smaller.`,
            ),
          ]),
      ...over.map(l =>
        el(
          "div",
          { class: "note warn", "data-limit": "" },
          `More than its receiver takes: ${l.limit}, and there would be ${l.has}. Draw a profile shows ` +
            `what would fit.`,
        ),
      ),
      ...(told.limits.length && !over.length
        ? [el("p", { class: "quiet" }, "Within the limits of its receiver.")]
        : []),
      el("table", { class: "numbers", "aria-label": "Maps" }, el("tbody", {}, ...rows)),
      el(
        "details",
        {},
        el("summary", {}, "Files"),
        el(
          "table",
          { class: "numbers", "aria-label": "Files" },
          el(
            "tbody",
            {},
            ...told.files.map(f =>
              el(
                "tr",
                {},
                el("th", { scope: "row", title: f.file }, f.file),
                el("td", {}, f.skipped ? "as a value" : f.width ? `${f.width} × ${f.height}` : ""),
                el("td", {}, f.skipped || !f.bits ? "" : `${f.bits} bit`),
                el("td", {}, f.skipped ? "" : bytes(f.bytes)),
              ),
            ),
          ),
        ),
      ),
      el(
        "button",
        { class: "act edge", type: "button", id: "losses-ask", onclick: () => this.lost(order) },
        "What is lost at this size?",
      ),
    );
    this.node.dataset.told = String(this.sequence);
  }

  async lost(order) {
    const turn = this.sequence;
    this.said.textContent = "looking …";
    try {
      const told = await post(`${this.state.path}/losses`, {
        profile: order.profile,
        size: order.size,
        view: `losses-${this.view}`,
        sequence: ++this.looked || (this.looked = 1),
      });
      if (turn !== this.sequence) return;
      this.said.textContent = "";
      for (const m of told.maps) {
        const cell = this.node.querySelector(`tr[data-map="${m.thread}"] .lost`);
        if (cell) cell.textContent = `${m.share < 0.0005 ? "0" : (100 * m.share).toFixed(1)} % lost`;
      }
      const seen = told.maps.filter(m => m.live);
      this.losses.replaceChildren(
        ...(seen.length
          ? [el("p", { class: "quiet" }, `Where most is lost, at ${told.reference} texels: live, and baked.`)]
          : [el("p", { class: "quiet" }, "Nothing is lost at this size.")]),
        ...seen.map(m =>
          el(
            "figure",
            { class: "lost-place" },
            el("figcaption", {}, m.title),
            el("img", { src: m.live, alt: `${m.title}, live`, width: 150, height: 150 }),
            el("img", { src: m.baked, alt: `${m.title}, baked`, width: 150, height: 150 }),
          ),
        ),
      );
    } catch (error) {
      this.said.textContent = "";
      this.losses.replaceChildren(el("div", { class: "note warn" }, error.message));
    }
  }
}
