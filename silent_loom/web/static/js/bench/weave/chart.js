// The weave as a chart: threads run down, steps run across, a knot where a step touches a thread.
import { el, icon, picture as pictured, svg } from "../../base/api.js";
import { copyRows, pasteRows } from "./copying.js";
import {
  CLOSE,
  COST,
  FEW,
  GRIP,
  HEAD,
  HELPERS,
  INDENT,
  LANE,
  LEFT,
  ROW,
  TITLE,
  WORDS,
  fit,
  knotsOf,
  ruler,
} from "./chart_marks.js";
import { Palette } from "./palette.js";
import { grab } from "./row_moving.js";

export class Chart {
  constructor(root, state, view) {
    this.root = root;
    this.state = state;
    this.view = view;
    this.palette = new Palette(state, (step, ready) => this.add(step, ready));
    this.adding = el(
      "button",
      {
        class: "act",
        type: "button",
        id: "add-step",
        title: "Add a step below the chosen one (A)",
        "aria-haspopup": "dialog",
        onclick: () => this.palette.open(this.adding),
      },
      icon("plus"),
      "Add a step",
    );
    this.grouping = el(
      "button",
      {
        class: "act",
        type: "button",
        id: "group-rows",
        title: "Put the chosen rows into a group (G); Shift and press, or Shift and arrows, choose several",
        onclick: () => this.group(),
      },
      "Group",
    );
    this.tools = el("div", { class: "weave-tools" }, this.adding, this.grouping);
    this.spare = el("p", { class: "quiet unused", id: "unused-threads" });
    this.more = new Set(); // rows that are chosen besides the chosen one
    this.names = el("div");
    // The tools stay: whoever works by keys has the focus there
    this.head = el("div", { class: "weave-head" }, this.names, this.tools);
    this.body = el("div");
    this.open = localStorage.getItem("loom-helpers") === "open";
    this.fold = el("button", {
      class: "act helpers-fold",
      type: "button",
      id: "fold-helpers",
      onclick: () => {
        this.open = !this.open;
        localStorage.setItem("loom-helpers", this.open ? "open" : "folded");
        this.draw();
      },
    });
    root.append(this.head, this.body, this.fold, this.spare);
    this.drawn = new Map(); // a row as last drawn, by id: what has not changed stays under the pointer
    for (const event of ["material", "chosen", "figures"]) state.on(event, () => this.draw());
    root.addEventListener(
      "pointerdown",
      e => {
        if (e.target.closest("[data-switch]")) this.hold();
      },
      true,
    );
    root.addEventListener("keydown", e => this.key(e));
    root.addEventListener("scroll", () => this.hideKnot());
  }

  // Nothing is drawn anew under a pressed pointer: figures may arrive at any moment
  hold() {
    this.held = true;
    const release = () =>
      setTimeout(() => {
        // after the click that ends the press
        this.held = false;
        if (this.late) this.draw();
      });
    for (const end of ["pointerup", "pointercancel"]) addEventListener(end, release, { once: true });
  }

  draw() {
    this.late = Boolean(this.held);
    if (this.held) return;
    const threads = this.lanes(),
      rows = this.state.rows.filter(r => !r.hidden);
    for (const id of this.more) if (!rows.some(r => r.id === id)) this.more.delete(id);
    // Many threads draw together before they run out of the side; closer than this their headings could not be read
    this.lane = Math.max(
      CLOSE,
      Math.min(LANE, (this.root.clientWidth - LEFT - COST - 22) / Math.max(1, threads.length)),
    );
    const width = LEFT + threads.length * this.lane + COST + 16;
    const height = rows.length * ROW + 6;
    const hadFocus = this.root.contains(document.activeElement) ? document.activeElement.dataset.id : null;
    const lanes = svg("g"),
      bodies = svg("g"),
      names = svg("svg", { width, height: HEAD, "aria-hidden": true });
    const slowest = Math.max(0.02, ...rows.map(r => r.seconds));
    threads.forEach((thread, i) => {
      const x = LEFT + 12 + i * this.lane;
      const first = rows.findIndex(
        r => !r.resting && !r.group && ["writes", "both"].includes(knotsOf(r, threads)[thread.name]),
      );
      const lane = svg("g", { "data-dye": thread.dye });
      const name = svg(
        "text",
        {
          class: `lane-name${thread.folded ? " folded" : ""}`,
          ...(thread.folded ? { "data-helpers": "" } : {}),
          transform: `translate(${x + 3} ${HEAD - 5}) rotate(${this.lane < 15 ? -74 : -58})`,
        },
        fit(thread.short, "650 11px Figtree, sans-serif", 50),
      );
      const dyed = svg("g", { "data-dye": thread.dye }, name);
      names.append(dyed);
      lane.append(svg("line", { class: "lane", x1: x, x2: x, y1: 0, y2: height - 6 }));
      if (first >= 0) lane.append(svg("line", { class: "run", x1: x, x2: x, y1: (first + 0.5) * ROW, y2: height - 6 }));
      lanes.append(lane);
    });
    const old = this.drawn;
    this.drawn = new Map();
    rows.forEach((row, j) => {
      const state = JSON.stringify([
        row,
        j,
        threads,
        width,
        slowest,
        row.id === this.state.chosen,
        this.more.has(row.id),
        this.state.figures.rows[row.id],
      ]);
      const before = old.get(row.id);
      const drawn = before?.state === state ? before : { state, group: this.row(row, j, threads, width, slowest) };
      this.drawn.set(row.id, drawn);
      bodies.append(drawn.group);
    });
    const chart = svg(
      "svg",
      {
        width,
        height,
        viewBox: `0 0 ${width} ${height}`,
        role: "listbox",
        "aria-multiselectable": "true",
        "aria-label": "Steps, in the order in which they work",
      },
      lanes,
      bodies,
    );
    this.marker = svg("line", { class: "place", x1: 4, x2: width - 4, visibility: "hidden" });
    chart.append(this.marker);
    // Rows first, lanes on top of their beds: lanes must not catch the pointer
    lanes.setAttribute("pointer-events", "none");
    chart.insertBefore(bodies, lanes);
    const spare = this.state.weave.unused || [],
      helpers = this.helpers();
    this.spare.hidden = !spare.length;
    this.spare.textContent = spare.length
      ? `Helper maps that no step uses yet: ${spare.join(", ").toLowerCase()}.`
      : "";
    this.fold.hidden = !this.folds();
    this.fold.setAttribute("aria-expanded", this.open);
    this.fold.textContent = this.open
      ? `Put the ${helpers.length} helper maps into one column`
      : `Show a column for each of the ${helpers.length} helper maps`;
    for (const heading of names.querySelectorAll("[data-helpers]"))
      heading.addEventListener("click", () => this.fold.click());
    this.names.replaceChildren(names);
    this.body.replaceChildren(chart);
    if (hadFocus) this.root.querySelector(`[data-id="${hadFocus}"]`)?.focus();
  }

  // Helpers share one column where there are many threads, until the artist opens it
  helpers() {
    return this.state.threads.filter(t => t.dye === "helper");
  }
  folds() {
    return this.state.threads.length > FEW && this.helpers().length > 1;
  }
  lanes() {
    const all = this.state.threads,
      helpers = this.helpers();
    if (this.open || !this.folds()) return all;
    return [
      ...all.filter(t => t.dye !== "helper"),
      { name: HELPERS, title: "Helpers", short: `${helpers.length} more`, dye: "helper", folded: helpers },
    ];
  }

  row(row, j, threads, width, slowest) {
    const y = j * ROW,
      mid = y + ROW / 2,
      chosen = row.id === this.state.chosen,
      also = this.more.has(row.id),
      deep = row.parents.length * INDENT;
    const notes = this.state.figures.rows[row.id] || {};
    const fault = row.error || notes.error || row.order || (notes.warnings || [])[0];
    const group = svg("g", {
      class:
        `course${row.resting ? " off" : ""}${chosen ? " chosen" : ""}${also ? " also" : ""}` +
        `${row.group ? " group" : ""}`,
      "data-path": row.path,
      ...(row.group ? { "data-open": !row.folded } : {}),
      "data-id": row.id,
      "data-step": row.step,
      ...(row.mask ? { "data-limited": row.mask.thread } : {}),
      role: "option",
      tabindex: chosen ? 0 : -1,
      "aria-selected": chosen || also,
      "aria-label":
        `${row.group ? "Group " : ""}${row.title} ${row.words || ""}` +
        `${row.group ? (row.folded ? ", folded" : ", open") : ""}${row.on ? "" : ", switched off"}` +
        `${fault ? `, ${fault}` : ""}`,
    });
    group.append(svg("rect", { class: "bed", x: 3, y: y + 1, width: width - 6, height: ROW - 2 }));
    const power = svg(
      "g",
      { class: `switch${row.on ? " on" : ""}`, "data-switch": "" },
      svg("rect", { x: 5, y: mid - 8, width: 24, height: 16, fill: "transparent" }),
      svg("rect", { class: "track", x: 8, y: mid - 5, width: 17, height: 10, rx: 5 }),
      svg("circle", { class: "knob", cx: row.on ? 20 : 13, cy: mid, r: 4 }),
    );
    power.append(svg("title", {}, row.on ? "Switch off" : "Switch on"));
    power.addEventListener("click", e => {
      e.stopPropagation();
      this.flip(row);
    });
    group.append(power);
    // How deep in groups: a line for each, under its group's fold
    for (let k = 0; k < row.parents.length; k++)
      group.append(
        svg("line", {
          class: "within",
          x1: 6 + GRIP + k * INDENT + 4,
          x2: 6 + GRIP + k * INDENT + 4,
          y1: y,
          y2: y + ROW,
        }),
      );
    if (row.group) {
      const x = 6 + GRIP + deep,
        fold = svg(
          "g",
          { class: "fold", "data-switch": "" },
          svg("rect", { x: x - 3, y: mid - 9, width: 16, height: 18, fill: "transparent" }),
          svg("path", {
            d: row.folded ? `M${x + 2} ${mid - 4.5} l5 4.5 l-5 4.5` : `M${x} ${mid - 2.5} l4.5 5 l4.5 -5`,
          }),
        );
      fold.append(svg("title", {}, row.folded ? "Open" : "Fold"));
      fold.addEventListener("click", e => {
        e.stopPropagation();
        this.turn(row);
      });
      group.append(fold);
    }
    const start = 6 + GRIP + deep + (row.group ? 14 : 0),
      title = fit(row.title, TITLE, LEFT - start - 4);
    ruler.font = TITLE;
    const after = start + ruler.measureText(title).width + 6;
    group.append(svg("text", { x: start, y: mid + 4 }, title));
    const words = svg(
      "text",
      { class: row.note ? "words noted" : "words", x: after, y: mid + 4 },
      fit(row.note ? row.note.split("\n")[0] : row.words, WORDS, LEFT - after - (fault ? 16 : 2)),
    );
    words.append(svg("title", {}, `${row.title}: ${row.words}${row.note ? `\n${row.note}` : ""}`));
    group.append(words);
    // What it costs, in a column of its own; square root, so that a step of a hundredth of the slowest can still be
    // seen
    const cost = svg(
      "g",
      {},
      svg("rect", { class: "cost-bed", x: width - COST - 8, y: mid - 2, width: COST, height: 4 }),
      svg("rect", {
        class: "cost",
        x: width - COST - 8,
        y: mid - 2,
        width: row.seconds > 0.0005 ? Math.max(1, COST * Math.sqrt(row.seconds / slowest)) : 0,
        height: 4,
      }),
    );
    cost.append(
      svg(
        "title",
        {},
        row.seconds > 0.0005
          ? `${(row.seconds * 1000).toFixed(0)} ms the last time it worked` +
              `${row.bytes ? `, ${(row.bytes / 1e6).toFixed(row.bytes < 1e7 ? 1 : 0)} MB of results` : ""}`
          : "Not computed yet, or too fast to show",
      ),
    );
    group.append(cost);
    const at = name => LEFT + 12 + threads.findIndex(t => t.name === name) * this.lane;
    const knots = svg("g", { class: "knots" });
    const kinds = knotsOf(row, threads),
      touched = Object.keys(kinds).filter(t => threads.some(k => k.name === t));
    if (touched.length) {
      const xs = touched.map(at);
      knots.append(
        svg("line", {
          class: "pick",
          x1: Math.min(...xs),
          x2: Math.max(...xs),
          y1: mid,
          y2: mid,
          "stroke-width": kinds[touched[0]] === "carries" ? 3 : 1,
        }),
      );
    }
    for (const name of touched) {
      const kind = kinds[name],
        x = at(name),
        thread = threads.find(t => t.name === name);
      const knot =
        kind === "carries"
          ? svg("rect", { x: x - 5, y: mid - 5, width: 10, height: 10 })
          : svg("circle", { cx: x, cy: mid, r: kind === "reads" ? 4.4 : 5 });
      knot.setAttribute("class", `knot ${kind}`);
      knot.dataset.dye = thread.dye;
      knot.dataset.thread = name;
      const meant = thread.folded ? thread.folded.filter(t => row.knots[t.name]) : [thread];
      if (thread.folded) knot.append(svg("title", {}, meant.map(t => t.title).join(", ")));
      knot.addEventListener("pointerenter", () => this.showKnot(row, meant[0], knot, kind));
      knot.addEventListener("pointerleave", () => this.hideKnot());
      knots.append(knot);
    }
    group.append(knots);
    if (fault) {
      const sign = svg("text", { class: "fault", x: LEFT - 12, y: mid + 4 }, "▲");
      sign.append(svg("title", {}, fault));
      group.append(sign);
    }
    group.addEventListener("pointerdown", e => grab(this, e, row));
    group.addEventListener("mousedown", e => e.preventDefault()); // the row is drawn anew; its focus is set by hand
    return group;
  }

  async add(step, ready = false) {
    const known = new Set(this.state.rows.map(r => r.id));
    await this.state.change(
      ready ? { kind: "ready", step } : { kind: "add", step, ...this.state.below(this.state.row(this.state.chosen)) },
    );
    const made = this.state.rows.find(r => !known.has(r.id));
    if (!made) return;
    this.state.choose(made.id);
    const controls = document.getElementById("controls");
    controls.scrollTop = 0; // a new step shows its controls from the top, and has the focus
    controls.querySelector("h2")?.focus();
    this.root.querySelector(`[data-id="${made.id}"]`)?.scrollIntoView({ block: "nearest" });
  }

  turn(row) {
    return this.state.change({ kind: "fold", step_id: row.id, on: !row.folded });
  }

  // The chosen rows into a new group; neighbours of one list, as the application says where they are not
  async group() {
    const ids = this.taken();
    if (!ids.length) return;
    const known = new Set(this.state.rows.map(r => r.id));
    this.more.clear();
    await this.state.change({ kind: "group", rows: ids, name: "Group" });
    const made = this.state.rows.find(r => r.group && !known.has(r.id));
    if (!made) return;
    this.state.choose(made.id);
    const name = document.getElementById("group-name");
    name?.focus();
    name?.select();
  }

  // Ids of the chosen rows; of a group that is chosen whole, the group itself: its rows come along
  taken() {
    const rows = this.state.rows.filter(r => r.id === this.state.chosen || this.more.has(r.id));
    return rows.filter(r => !r.parents.some(p => rows.some(o => o.id === p))).map(r => r.id);
  }

  // Shift chooses everything from the chosen row to this one
  reach(to) {
    const rows = this.state.rows.filter(r => !r.hidden),
      a = rows.findIndex(r => r.id === this.state.chosen),
      b = rows.findIndex(r => r.id === to);
    this.more = new Set(rows.slice(Math.min(a, b), Math.max(a, b) + 1).map(r => r.id));
    this.more.delete(this.state.chosen);
    this.end = to;
    this.draw();
  }

  flip(row) {
    return this.state.change({ kind: "switch", step_id: row.id, on: !row.on });
  }

  key(event) {
    const rows = this.state.rows.filter(r => !r.hidden),
      i = rows.findIndex(r => r.id === this.state.chosen);
    if (!event.target.closest?.(".course") || i < 0) return;
    const go = k => {
      if (rows[k]) {
        this.more.clear();
        this.end = null;
        this.state.choose(rows[k].id);
        this.root.querySelector(`[data-id="${rows[k].id}"]`)?.focus();
      }
    };
    const by = { ArrowUp: -1, ArrowDown: 1 }[event.key],
      row = rows[i];
    if (by && event.altKey) this.step(row, by);
    else if (by && event.shiftKey) {
      const k = rows.findIndex(r => r.id === (this.end || row.id)) + by;
      if (rows[k]) this.reach(rows[k].id);
    } else if (by) go(i + by);
    else if (event.key === "Home") go(0);
    else if (event.key === "End") go(rows.length - 1);
    else if (event.key === " ") this.flip(row);
    else if (event.key === "ArrowLeft" && row.group && !row.folded) this.turn(row);
    else if (event.key === "ArrowRight" && row.group && row.folded) this.turn(row);
    else if (event.key === "ArrowLeft" && row.parents.length) go(rows.findIndex(r => r.id === row.parents.at(-1)));
    else if ((event.ctrlKey || event.metaKey) && event.key.toLowerCase() === "c") copyRows(this.state, this.taken());
    else if ((event.ctrlKey || event.metaKey) && event.key.toLowerCase() === "v") pasteRows(this.state);
    else if (event.key === "Delete") this.state.change({ kind: "remove", step_id: row.id });
    else if (event.key === "Enter")
      document.querySelector("#controls input, #controls select, #controls button")?.focus();
    else return;
    event.preventDefault();
    event.stopPropagation();
  }

  // One place up or down: past its neighbour, into a group that is open there, or out of its own at its end
  step(row, by) {
    const into = row.parents.at(-1) || "",
      mates = this.state.rows.filter(r => (r.parents.at(-1) || "") === into),
      mate = mates[row.at + by];
    let place = null;
    if (mate?.group && !mate.folded) place = { into: mate.id, to: by > 0 ? 0 : 1e6 };
    else if (mate) place = { into, to: row.at + by };
    else if (into) {
      const group = this.state.row(into);
      place = { into: group.parents.at(-1) || "", to: group.at + (by > 0 ? 1 : 0) };
    }
    if (place) this.state.change({ kind: "move", step_id: row.id, ...place });
  }

  showKnot(row, thread, knot, kind) {
    if (row.resting || row.error) return;
    const words = kind === "reads" ? "as it is read" : "as it comes out";
    const place = knot.getBoundingClientRect();
    clearTimeout(this.waiting);
    this.waiting = setTimeout(async () => {
      const hovered = (this.hovered = {}),
        still = () => this.hovered === hovered;
      try {
        const address =
          `${this.state.path}/map/${thread.name}.png?size=256&below=${row.id}&entry=` + this.state.material.head;
        const picture = await pictured(address, still);
        if (!picture || !still()) return;
        this.view.replaceChildren(picture, `${thread.title} at ${row.title}, ${words}`);
        this.view.style.left = `${place.right + 12}px`;
        this.view.style.top = `${Math.max(8, Math.min(place.top - 90, innerHeight - 220))}px`;
        this.view.hidden = false;
      } catch {
        /* the row says what is wrong with it */
      }
    }, 120);
  }

  hideKnot() {
    clearTimeout(this.waiting);
    this.hovered = null;
    this.view.hidden = true;
  }
}
