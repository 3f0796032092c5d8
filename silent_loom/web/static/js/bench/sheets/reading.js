// What there is to read in a map: how its values are spread, what is cut off, its hues.
import { el, picture, post, svg } from "../../base/api.js";
import { openSheet } from "./dock.js";

export function startReading(state, table, say) {
  const sheet = document.getElementById("reading-sheet"),
    body = document.getElementById("reading-body");
  let turn = 0;
  state.on("reading", () => {
    openSheet(sheet);
    look();
  });
  for (const event of ["active", "material", "looked"])
    state.on(event, () => {
      if (sheet.open) look();
    });

  async function look() {
    const mine = ++turn,
      pane = table.active || table.panes[0],
      thread = pane.thread;
    try {
      await new Promise(r => setTimeout(r, 150));
      if (mine !== turn) return;
      const found = await post(`${state.path}/spread`, {
        thread,
        size: 1024,
        ...(pane.row ? { below: pane.row } : {}),
        ...state.question(),
        ...pane.charted(),
      });
      if (mine !== turn) return;
      draw(found, pane, thread);
      sheet.dataset.read = thread;
    } catch (error) {
      if (mine === turn) say(error.message);
    }
  }

  function draw(f, pane, thread) {
    const n = v =>
        f.unit === "code"
          ? v.toFixed(0)
          : Math.abs(v) >= 100
            ? v.toFixed(0)
            : Math.abs(v) >= 10
              ? v.toFixed(1)
              : v.toFixed(3),
      unit = f.unit === "code" ? "sRGB codes" : f.unit || "plain numbers";
    const rows = el(
      "tbody",
      {},
      ...f.channels.map(c =>
        el(
          "tr",
          {},
          el("th", { scope: "row" }, c.name),
          ...[c.low, c.p1, c.median, c.p99, c.high, c.mean].map(v => el("td", {}, n(v))),
        ),
      ),
    );
    const share = v => (v === 0 ? "none" : v < 0.0005 ? "under 0.1 %" : `${(100 * v).toFixed(1)} %`);
    body.replaceChildren(
      el(
        "p",
        {},
        el("b", {}, f.title),
        ` ${f.width} × ${f.height}, in ${unit}${pane.row ? `, below ${state.row(pane.row)?.title ?? ""}` : ""}`,
      ),
      f.histogram.length ? histogram(f) : "",
      el(
        "table",
        { class: "numbers" },
        el(
          "thead",
          {},
          el(
            "tr",
            {},
            ...["", "low", "1 %", "middle", "99 " + "%", "high", "mean"].map(w => el("th", { scope: "col" }, w)),
          ),
        ),
        rows,
      ),
      el(
        "p",
        {},
        `Cut off: ${share(f.dark)} at the low end, ${share(f.bright)} at the high end. `,
        el("span", { class: "quiet" }, `${f.levels} different values.`),
      ),
    );
    if (f.kind !== "colour") return;
    const plot = el("figure", { class: "hues" }, axes());
    body.append(
      plot,
      el(
        "p",
        { class: "quiet" },
        `Every hue and chroma that occurs: grey in the middle, a* to the right and b* up. The rings are ` +
          `chroma ${[1, 2, 3].map(n => (f.reach * n) / 3).join(", ")}.`,
      ),
    );
    picture(
      `${state.path}/colours.png?thread=${thread}&size=1024${pane.row ? `&below=${pane.row}` : ""}` +
        `${pane.chart.value ? `&chart=${pane.chart.value}&chart_below=${pane.chartBelow.value}` : ""}&at=` +
        `${state.material.head}`,
      () => sheet.open,
    )
      .then(made => {
        if (made) plot.prepend(made);
      })
      .catch(() => {
        /* the numbers are there */
      });
  }

  // Frequencies by the root, so that rare values are seen; the ends apart, since they are what is cut off
  function histogram({ histogram: channels, kind, low, high, unit }) {
    const w = 320,
      h = 96,
      n = channels[0].length,
      most = Math.max(...channels.flatMap(c => c.slice(1, -1)), 1),
      dyes = channels.length > 1 ? ["#b03a34", "#4d7a34", "#2f62a8"] : ["currentColor"];
    const node = svg("svg", {
      viewBox: `0 0 ${w} ${h + 16}`,
      class: "spread",
      role: "img",
      "aria-label": "How often each value occurs",
    });
    channels.forEach((counts, k) => {
      const y = v => h - h * Math.min(1, Math.sqrt(v / most)),
        d = counts.map((v, i) => `${i ? "L" : "M"}${((i + 0.5) * w) / n} ${y(v).toFixed(1)}`).join("");
      node.append(
        svg("path", { d: `${d}L${w} ${h}L0 ${h}Z`, fill: dyes[k], "fill-opacity": channels.length > 1 ? 0.28 : 0.4 }),
        svg("path", { d, fill: "none", stroke: dyes[k], "stroke-width": 1.2 }),
      );
    });
    const ends = kind === "colour" ? ["0", "255"] : [low, high].map(v => `${+v.toFixed(2)}${unit ? ` ${unit}` : ""}`);
    const word = (x, anchor, text) => {
      const t = svg("text", { x, y: h + 13, "text-anchor": anchor });
      t.textContent = text;
      node.append(t);
    };
    word(0, "start", ends[0]);
    word(w, "end", ends[1]);
    return node;
  }

  function axes() {
    const node = svg("svg", { viewBox: "-96 -96 192 192", "aria-hidden": "true" });
    for (const r of [32, 64, 96])
      node.append(
        svg("circle", { r, fill: "none", stroke: "currentColor", "stroke-opacity": 0.35, "stroke-width": 0.6 }),
      );
    node.append(
      svg("path", { d: "M-96 0H96M0-96V96", stroke: "currentColor", "stroke-opacity": 0.35, "stroke-width": 0.6 }),
    );
    return node;
  }
}
