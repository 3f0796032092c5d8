// The table: one to four panes, each with its own view and map.
import { el, get } from "../../base/api.js";
import { Pane, VIEWS } from "./pane.js";

// Figures of repetition: up to which nothing stands out, and from which it is seen from afar
const QUIET = [0.2, 0.5];

export class Table {
  constructor(root, state) {
    this.root = root;
    this.state = state;
    const stored = JSON.parse(localStorage.getItem("loom-panes") || "null");
    const wanted =
      Array.isArray(stored) && stored.length
        ? stored
        : [
            { view: "form", thread: "base" },
            { view: "repeat", thread: "base" },
          ];
    this.panes = [];
    this.wanted = wanted.map(p => ({
      view: p.view in VIEWS ? p.view : "flat",
      thread: p.thread || "base",
      copies: p.copies,
    }));
    state.on("draft", () => this.ask());
    state.on("material", () => this.panes.forEach(p => p.refresh()));
    state.on("before", () => this.ask());
    state.on("compare", () => this.panes.forEach(p => p.compared()));
    state.on("wipe", () =>
      this.panes.forEach(p => {
        if (p.view === "form" && state.compare) p.form.wiped();
      }),
    );
    this.sized = localStorage.getItem("loom-sized") === "yes";
    for (const event of ["chosen", "picking"])
      state.on(event, () =>
        this.panes.forEach(p => {
          if (["flat", "half"].includes(p.view)) {
            p.flat.hand.clear();
            p.refresh();
          }
        }),
      );
    state.on("picking", () => {
      const pane = this.active || this.panes[0];
      if (state.picking) {
        if (!["flat", "half"].includes(pane.view)) pane.show("flat");
        pane.say(state.picking.words);
      }
    });
    state.on("material", () =>
      this.panes.forEach(p => {
        if (p._flat && (p._flat.seams || p._flat.spots)) this.recheck(p);
      }),
    );
    state.on("sun", () => {
      const pane = this.active || this.panes[0];
      if (pane.view !== "flat") pane.show("flat");
      pane.flat.laid.look();
    });
    state.on("grid", () => {
      const pane = this.active || this.panes[0];
      pane.show("grid");
      pane.grid.focus();
    });
    state.on("length", () => {
      const pane = this.active || this.panes[0];
      pane.show("length");
    });
    addEventListener("loom-unit", () => this.panes.forEach(p => p._flat?.draw()));
    root.addEventListener("pointerdown", e =>
      this.panes.forEach(p => {
        if (!p.rest.contains(e.target) && !p.opener.contains(e.target)) p.openRest(false);
      }),
    );
    state.on("corners", () => {
      const pane = this.active || this.panes[0];
      pane.show("photo");
      pane.corners.focus();
    });
    new ResizeObserver(() => this.panes.forEach(p => p.current.resize())).observe(root);
  }

  start() {
    this.lay(this.wanted.length);
  }

  lay(count) {
    while (this.panes.length < count) {
      /** @type {{ view: string, thread: string, copies?: number[] }} */
      const next = this.wanted[this.panes.length] || {
        view: "flat",
        thread: this.state.threads.filter(t => t.made)[this.panes.length]?.name || "base",
      };
      const pane = new Pane(this, next.view, next.thread);
      if (Array.isArray(next.copies) && next.copies.every(n => n >= 1 && n <= 16)) {
        pane.flat.copies = [...next.copies];
        pane.copies.forEach((c, k) => {
          c.value = next.copies[k];
        });
      }
      this.panes.push(pane);
    }
    // Panes that are taken away come back as they were
    this.panes.forEach((p, i) => {
      if (i >= count) this.wanted[i] = { view: p.placing ? p.last : p.view, thread: p.thread, copies: p._flat?.copies };
    });
    const shown = this.panes.slice(0, count);
    this.panes = shown;
    this.root.className = `board ${{ 2: "two", 4: "four" }[count] || "one"}`;
    this.root.replaceChildren(...shown.map(p => p.node));
    shown.forEach(p => p.mount());
    this.activate(shown.includes(this.active) ? this.active : shown[0]);
    document.querySelectorAll("[data-panes]").forEach(b => b.setAttribute("aria-pressed", +b.dataset.panes === count));
    this.remember();
  }

  remember() {
    localStorage.setItem(
      "loom-panes",
      JSON.stringify(
        this.panes.map(p => ({ view: p.placing ? p.last : p.view, thread: p.thread, copies: p._flat?.copies })),
      ),
    );
  }

  activate(pane) {
    if (this.active === pane && pane.node.classList.contains("active")) return;
    this.active = pane;
    for (const p of this.panes) p.node.classList.toggle("active", p === pane && this.panes.length > 1);
    this.state.emit("active");
  }

  // Heat of the joins, or the odd patches, over the picture; asked for again when the material changes
  async check(pane, what) {
    const flat = pane.flat,
      on = !flat[what];
    flat.seams = flat.spots = null;
    pane.node.querySelector(".spots-list")?.remove();
    pane.checking = on ? what : null;
    for (const b of pane.checks.children)
      if (!["scale", "profile"].includes(b.dataset.check))
        b.setAttribute("aria-pressed", on && b.dataset.check === what);
    flat.draw();
    if (on) await this.recheck(pane);
  }

  scale() {
    this.sized = !this.sized;
    localStorage.setItem("loom-sized", this.sized ? "yes" : "no");
    for (const p of this.panes) {
      p.checks.querySelector("[data-check=scale]").setAttribute("aria-pressed", this.sized);
      p._flat?.draw();
    }
  }

  async recheck(pane) {
    const flat = pane.flat,
      what = pane.checking;
    if (!what) return;
    pane.computing(true);
    try {
      if (what === "seams") {
        const picture = new Image();
        await new Promise((done, fail) => {
          picture.onload = done;
          picture.onerror = () => fail(new Error("The joins could not be measured."));
          picture.src = `${this.state.path}/seams.png?at=${Date.now()}`;
        });
        flat.seams = picture;
        pane.say("Joins: yellow cannot be told yet, red is visible (above 1)");
      } else {
        const found = await get(`${this.state.path}/spots`);
        flat.spots = found.repetition > QUIET[0] ? found.spots : []; // rings around what nobody would find only worry
        this.spotsList(pane, found);
      }
      flat.draw();
      pane.node.dataset.checked = what;
    } catch (error) {
      pane.say(error.message);
    }
    pane.computing(false);
  }

  spotsList(pane, found) {
    pane.node.querySelector(".spots-list")?.remove();
    const words =
      found.repetition > QUIET[1]
        ? "seen from afar at 4 × 4"
        : found.repetition > QUIET[0]
          ? "may be found again"
          : "nothing stands out";
    const cure = (title, what, spot) =>
      el(
        "button",
        {
          class: "act edge",
          type: "button",
          "data-cure": what,
          onclick: () => this.state.emit("cure", { what, spot }),
        },
        title,
      );
    pane.node.append(
      el(
        "div",
        { class: "spots-list tools" },
        el("b", {}, `Repetition ${found.repetition.toFixed(2)}: ${words}`),
        found.copied > 0.05 + (found.alike ?? 0)
          ? el("span", {}, `${Math.round(100 * found.copied)} % is seen twice on the sheet`)
          : null,
        found.spots.length && found.repetition > QUIET[0]
          ? cure("Fill the strongest patch", "fill", found.spots[0])
          : null,
        found.spots.some(s => s.broad) ? cure("Even the broad tones", "even") : null,
        cure("Break the repetition up", "breakup"),
        cure("Grow a larger sheet", "quilt"),
      ),
    );
  }

  // The active pane is answered first
  ask() {
    for (const p of [this.active, ...this.panes.filter(q => q !== this.active)]) p?.current.ask();
  }
}
