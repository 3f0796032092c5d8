// Every map small, with its warnings.
import { el, picture as pictured } from "../base/api.js";

export class Strip {
  constructor(root, state, table) {
    this.root = root;
    this.state = state;
    this.table = table;
    this.nodes = new Map();
    state.on("material", () => this.draw());
    state.on("figures", () => this.words());
    state.on("active", () => this.mark());
  }

  draw() {
    const { threads } = this.state,
      material = this.state.material;
    for (const thread of threads) {
      if (!this.nodes.has(thread.name)) {
        const picture = el("img", { alt: "", hidden: true });
        const node = el(
          "button",
          {
            class: "map",
            type: "button",
            "data-thread": thread.name,
            "data-dye": thread.dye,
            onclick: () => this.show(thread.name),
          },
          el(
            "span",
            { class: "says" },
            el("b", {}, thread.title),
            el("small", { class: "facts" }),
            el("small", {
              class: "warn",
              onclick: e => {
                if (e.target.textContent) {
                  e.stopPropagation();
                  this.state.emit("odd", thread.name);
                }
              },
            }),
          ),
          el("span", { class: "swatch" }, picture),
        );
        this.nodes.set(thread.name, { node, picture });
      }
      const { node, picture } = this.nodes.get(thread.name);
      node.classList.toggle("unmade", !thread.made);
      node.disabled = !thread.made;
      node.querySelector(".facts").textContent = thread.made ? thread.says : "no step makes it";
      if (!thread.made) continue;
      // The old picture stays until the new one is there
      const current = () => material === this.state.material;
      pictured(`${this.state.path}/map/${thread.name}.png?size=240&entry=${material.head}`, current)
        .then(next => {
          if (next && current()) {
            picture.src = next.src;
            picture.hidden = false;
          }
        })
        .catch(() => {
          /* the words below say what is wrong with the map */
        });
    }
    this.root.replaceChildren(...threads.map(t => this.nodes.get(t.name).node));
    this.words();
    this.mark();
  }

  words() {
    const { maps, ranges = {} } = this.state.figures;
    for (const [name, { node }] of this.nodes) {
      node.querySelector(".warn").textContent = (maps[name] || []).join(", ");
      if (ranges[name] && ranges[name][0] !== ranges[name][1]) {
        const { unit, low = 0, high = 0 } = this.state.threads.find(t => t.name === name) || {},
          depth = high - low;
        node.querySelector(".facts").textContent = `${ranges[name]
          .slice(0, 2)
          .map(v => v.toFixed(unit ? 1 : 2))
          .join(" to ")}${unit ? ` of ${+depth.toPrecision(3)} ${unit}` : ""}`;
        node.title = `Mean ${ranges[name][2].toFixed(unit ? 2 : 3)}${unit ? ` ${unit}` : ""}`;
      }
    }
  }

  mark() {
    const pane = this.table.active;
    for (const [name, { node }] of this.nodes)
      node.setAttribute("aria-pressed", !!pane && pane.view !== "form" && pane.thread === name);
  }

  show(name) {
    const pane = this.table.active;
    pane.thread = name;
    if (["form", "photo"].includes(pane.view)) pane.show("flat");
    else pane.refresh();
    this.table.remember();
    this.mark();
  }
}
