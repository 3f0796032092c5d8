// The proof of a delivery: figures map by map, the live material and the received one on every picture, the usual
// mistakes.
import { el } from "../../base/api.js";

const number = v => (v < 0.01 ? "0" : v < 10 ? v.toFixed(2) : v.toFixed(1));

export class Proof {
  /** @type {any} */
  state;
  /** @type {HTMLElement} */
  node;
  /** @type {() => any} The usual mistakes of a receiver */
  mistakes;

  constructor(state, node, mistakes) {
    Object.assign(this, { state, node, mistakes });
  }

  clear() {
    this.node.replaceChildren();
    if (this.state.compare?.b.kind === "delivery") this.state.hold(null);
  }

  show(delivery, found) {
    const line = m => {
      const d = m.difference,
        title = this.state.threads.find(t => t.name === m.map)?.title || m.map;
      const words = m.same ? "the same" : m.mistake || m.explained || "different";
      const figures = d
        ? [
            `${number(d.max_code)} codes`,
            d.measure === "ΔE00" || d.measure === "degrees"
              ? `${number(d.mean)}${d.measure === "degrees" ? "°" : " ΔE"}`
              : "",
            d.psnr === null ? "" : `${d.psnr.toFixed(0)} dB`,
          ]
        : ["", "", ""];
      const closest =
        m.same || !d || m.explained
          ? []
          : [
              el(
                "tr",
                { class: "quiet" },
                el(
                  "td",
                  { colspan: 5 },
                  `closest when multiplied by ${m.factor.toPrecision(3)} and raised by ${m.offset.toFixed(3)}`,
                ),
              ),
            ];
      return [
        el(
          "tr",
          { "data-map": m.map, class: m.same ? "" : "off" },
          el("th", { scope: "row" }, title),
          el("td", {}, words),
          ...figures.map(f => el("td", {}, f)),
        ),
        ...closest,
      ];
    };
    const responsible = this.state.threads.find(t => t.name === found.responsible)?.title || found.responsible;
    const tries = this.mistakes().filter(m => m.name in found.mistakes);
    this.node.replaceChildren(
      el("h3", {}, "Proof"),
      el(
        "div",
        { class: `note${found.same ? "" : " warn"}`, id: "verdict" },
        found.same
          ? "What a receiver shows is what was meant."
          : `A receiver shows something else${responsible ? `: ${responsible.toLowerCase()} is responsible` : ""}.`,
      ),
      ...found.damaged.map(f => el("div", { class: "note warn" }, `${f} was changed since it was delivered.`)),
      el(
        "table",
        { class: "numbers proof", "aria-label": "Proof, map by map" },
        el("tbody", {}, ...found.maps.flatMap(line)),
      ),
      ...(found.picture
        ? [
            el(
              "p",
              { class: "quiet" },
              `Under light: ${number(found.picture.mean)} ΔE00 on average, 99 % below ${number(found.picture.p99)}.`,
            ),
          ]
        : []),
      el(
        "div",
        { class: "line" },
        el(
          "button",
          { class: "act edge", type: "button", id: "look-received", onclick: () => this.look(delivery, found, "") },
          "Live and received, wiped",
        ),
        el("button", { class: "act", type: "button", onclick: () => this.state.hold(null) }, "End"),
      ),
      el("p", { class: "quiet" }, "What the usual mistakes of a receiver would look like:"),
      el(
        "div",
        { class: "mistakes" },
        ...tries.map(m =>
          el(
            "button",
            {
              class: "act edge",
              type: "button",
              "data-mistake": m.name,
              onclick: () => this.look(delivery, found, m.name),
            },
            m.title,
            el("small", { class: "quiet" }, ` ${number(found.mistakes[m.name])} ΔE`),
          ),
        ),
      ),
    );
    this.node.scrollIntoView({ block: "nearest" });
  }

  // Live on one side of the wipe, what the receiver has on the other, on every picture of the table
  look(delivery, found, mistake) {
    const live =
      found.state === null ? { kind: "now" } : { kind: "snapshot", entry: found.state, name: "As delivered" };
    const title = this.mistakes().find(m => m.name === mistake)?.title;
    this.state.hold({
      a: live,
      b: { kind: "delivery", id: delivery.id, mistake, name: title || "Received" },
      way: "wipe",
      at: this.state.compare?.at ?? 0.5,
    });
  }
}
