// A row of the chart that is dragged: where it would land, and the line that says so.
import { GRIP, INDENT, ROW } from "./chart_marks.js";

// Where a row lands that is dropped in a gap between two shown rows; how far to the right says into which group
function landing(chart, gap, x, moving) {
  const rows = chart.state.rows.filter(r => !r.hidden),
    before = rows[gap - 1],
    after = rows[gap];
  const own = r => !r || r.id === moving.id || r.parents.includes(moving.id);
  const chain = (r, inside) => [...r.parents, ...(inside ? [r.id] : [])];
  // A gap belongs to the list of the row after it, or to any list that ends above it
  const fits = [];
  if (before) {
    const open = before.group && !before.folded,
      deepest = chain(before, open);
    const least = after ? after.parents.length : 0;
    for (let d = least; d <= deepest.length; d++) fits.push(deepest.slice(0, d));
  } else fits.push([]);
  const want = Math.max(0, Math.round((x - 6 - GRIP) / INDENT)),
    list = fits.toSorted((p, q) => Math.abs(p.length - want) - Math.abs(q.length - want))[0];
  const into = list.at(-1) || "";
  if (into && (into === moving.id || chart.state.row(into).parents.includes(moving.id))) return null;
  const mates = chart.state.rows.filter(r => (r.parents.at(-1) || "") === into && r.id !== moving.id);
  const above = new Set(rows.slice(0, gap).map(r => r.id));
  const to = mates.filter(r => above.has(r.id)).length;
  const still = (moving.parents.at(-1) || "") === into && to === moving.at;
  return still || (own(before) && own(after)) ? null : { into, to, deep: list.length };
}

export function grab(chart, event, row) {
  if (event.button !== 0 || event.target.closest("[data-switch]")) return;
  if (event.shiftKey && chart.state.chosen && chart.state.chosen !== row.id) {
    chart.reach(row.id);
    return;
  }
  chart.more.clear();
  chart.end = null;
  chart.state.choose(row.id);
  chart.root.querySelector(`[data-id="${row.id}"]`)?.focus();
  const start = event.clientY,
    drawn = chart.body.querySelector("svg");
  chart.hold();
  let to = null,
    moved = false;
  const move = e => {
    if (Math.abs(e.clientY - start) < 6 && !moved) return;
    moved = true;
    const box = drawn.getBoundingClientRect(),
      shown = chart.state.rows.filter(r => !r.hidden).length;
    const gap = Math.max(0, Math.min(shown, Math.round((e.clientY - box.top) / ROW)));
    to = landing(chart, gap, e.clientX - box.left, row);
    chart.marker.setAttribute("x1", 6 + GRIP + (to?.deep || 0) * INDENT);
    chart.marker.setAttribute("y1", gap * ROW);
    chart.marker.setAttribute("y2", gap * ROW);
    chart.marker.setAttribute("visibility", to ? "visible" : "hidden");
  };
  const up = () => {
    removeEventListener("pointermove", move);
    chart.marker.setAttribute("visibility", "hidden");
    chart.root.querySelector(`[data-id="${row.id}"]`)?.focus(); // the press itself took the focus to nowhere
    if (to) chart.state.change({ kind: "move", step_id: row.id, to: to.to, into: to.into });
  };
  addEventListener("pointermove", move);
  addEventListener("pointerup", up, { once: true });
  addEventListener(
    "pointercancel",
    () => {
      to = null;
      up();
    },
    { once: true },
  );
}
