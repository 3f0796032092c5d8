// How much of each feature size: a curve over what there is of each, its axis in real lengths.
import { beside, el, post, svg } from "../../base/api.js";
import { length } from "../../base/units.js";

const W = 284,
  H = 118,
  LEFT = 8,
  RIGHT = 8,
  TOP = 8,
  FOOT = 20,
  FINEST = 1 / 700;

export function sizesEditor(field, controls) {
  const { state } = controls,
    longest = Math.max(...state.weave.size_mm),
    shaded = field.name === "sizes" && state.can(controls.row, "shading");
  const node = svg("svg", {
    class: "drawn sizes",
    viewBox: `0 0 ${W} ${H}`,
    "aria-label": `${field.title}: drag points, double-click to add or take one away`,
  });
  const back = svg("g", { "aria-hidden": "true" }),
    path = svg("path", { class: "graph" }),
    handles = svg("g");
  const low = -1,
    high = 2;
  const x = size => LEFT + ((Math.log(size) - Math.log(FINEST)) / -Math.log(FINEST)) * (W - LEFT - RIGHT);
  const y = v => TOP + ((high - v) / (high - low)) * (H - TOP - FOOT);
  const sizeAt = px =>
    Math.exp(Math.log(FINEST) - Math.max(0, Math.min(1, (px - LEFT) / (W - LEFT - RIGHT))) * Math.log(FINEST));
  const weightAt = py => high - ((py - TOP) / (H - TOP - FOOT)) * (high - low);
  node.append(
    back,
    svg("line", { x1: 0, x2: W, y1: y(0), y2: y(0), stroke: "currentColor", "stroke-opacity": 0.55 }),
    svg("line", {
      x1: 0,
      x2: W,
      y1: y(1),
      y2: y(1),
      stroke: "currentColor",
      "stroke-opacity": 0.25,
      "stroke-dasharray": "2 4",
    }),
  );
  for (const part of [1 / 512, 1 / 128, 1 / 32, 1 / 8, 1 / 2])
    node.append(
      svg(
        "text",
        { class: "tick", x: x(part), y: H - 6, "text-anchor": "middle" },
        length(+(part * longest).toPrecision(2)),
      ),
    );
  node.append(
    svg("text", { class: "tick", x: W - 3, y: y(1) - 3, "text-anchor": "end" }, "as it is"),
    svg("text", { class: "tick", x: W - 3, y: y(0) - 3, "text-anchor": "end" }, "off"),
    path,
    handles,
  );
  const share = el("input", {
    class: "slide",
    type: "range",
    min: 0,
    max: 100,
    step: 1,
    "aria-label": "From shading at the chosen size",
  });
  const shareSays = el("span", { class: "quiet" });
  const shareBox = el(
    "div",
    { class: "control", hidden: true },
    el("span", { class: "label" }, "From shading, here"),
    shareSays,
    el("span"),
    share,
  );
  let points = field.default,
    chosen = 0,
    asked = "";
  const send = (next, done) => {
    controls.try({ [field.name]: next.map(p => p.map(v => +v.toFixed(5))).sort((a, b) => a[0] - b[0]) });
    if (done) controls.settle();
  };
  const line = () => {
    const sorted = [...points].sort((a, b) => a[0] - b[0]);
    path.setAttribute(
      "d",
      `M0 ${y(sorted[0][1])}${sorted.map(p => `L${x(p[0]).toFixed(1)} ${y(p[1]).toFixed(1)}`).join("")}L` +
        `${W} ${y(sorted.at(-1)[1])}`,
    );
  };
  share.addEventListener("input", () => {
    points = points.map((p, k) => (k === chosen ? [p[0], p[1], share.value / 100] : p));
    send(points);
  });
  share.addEventListener("change", () => controls.settle());
  const showShare = () => {
    const { light_deg: told, relief } = controls.settings;
    shareBox.hidden = !shaded || (told == null && (relief ?? "none") === "none");
    shareBox.style.display = shareBox.hidden ? "none" : "";
    const p = points[chosen];
    if (!p) return;
    share.value = Math.round(100 * p[2]);
    share.style.setProperty("--at", `${100 * p[2]}%`);
    shareSays.textContent = `${length(+(p[0] * longest).toPrecision(2))}: ${Math.round(100 * p[2])} %`;
  };
  const grab = e => {
    const box = node.getBoundingClientRect();
    return [((e.clientX - box.left) / box.width) * W, ((e.clientY - box.top) / box.height) * H];
  };
  const build = () => {
    handles.replaceChildren(
      ...points.map((p, i) => {
        const handle = svg("circle", {
          class: "handle",
          r: 5.5,
          cx: x(p[0]),
          cy: y(Math.max(low, Math.min(high, p[1]))),
          tabindex: 0,
          role: "slider",
          "aria-label": `Features of ${length(+(p[0] * longest).toPrecision(2))}`,
          "aria-valuenow": p[1].toFixed(2),
          "aria-valuetext":
            p[1] > 0 ? `bright is high, ${p[1].toFixed(2)}` : p[1] < 0 ? `dark is high, ${(-p[1]).toFixed(2)}` : "off",
        });
        const to = (size, weight) => {
          const q = [
            Math.max(1e-5, Math.min(1, size)),
            Math.max(-3, Math.min(3, Math.abs(weight) < 0.04 ? 0 : weight)),
            points[i][2],
          ];
          if (points.some((o, k) => k !== i && Math.abs(Math.log(o[0] / q[0])) < 0.05)) return;
          points = points.map((o, k) => (k === i ? q : o));
          handle.cx.baseVal.value = x(q[0]);
          handle.cy.baseVal.value = y(Math.max(low, Math.min(high, q[1])));
          line();
          showShare();
          send(points);
        };
        handle.addEventListener("pointerdown", e => {
          e.preventDefault();
          handle.focus();
          handle.setPointerCapture(e.pointerId);
          chosen = i;
          showShare();
          const move = m => {
            const [px, py] = grab(m);
            to(sizeAt(px), weightAt(py));
          };
          handle.addEventListener("pointermove", move);
          handle.addEventListener(
            "pointerup",
            () => {
              handle.removeEventListener("pointermove", move);
              controls.settle();
            },
            { once: true },
          );
        });
        handle.addEventListener("focus", () => {
          chosen = i;
          showShare();
        });
        handle.addEventListener("dblclick", e => {
          e.stopPropagation();
          if (points.length > 1)
            send(
              points.filter((_, k) => k !== i),
              true,
            );
        });
        handle.addEventListener("keydown", e => {
          if (e.key === "Delete" && points.length > 1) {
            e.stopPropagation();
            send(
              points.filter((_, k) => k !== i),
              true,
            );
            return;
          }
          const by = { ArrowUp: [1, 0.05], ArrowDown: [1, -0.05], ArrowRight: [1.1, 0], ArrowLeft: [1 / 1.1, 0] }[
            e.key
          ];
          if (!by) return;
          e.preventDefault();
          to(points[i][0] * by[0], points[i][1] + by[1]);
          controls.settleSoon();
        });
        return handle;
      }),
    );
    line();
    showShare();
  };
  node.addEventListener("dblclick", e => {
    const [px, py] = grab(e),
      size = sizeAt(px);
    if (points.length >= 24 || points.some(o => Math.abs(Math.log(o[0] / size)) < 0.06)) return;
    send([...points, [size, Math.max(-3, Math.min(3, weightAt(py))), 0.3]], true);
  });
  const ask = async () => {
    const row = controls.row,
      key = `${row.id} ${state.material.head}`;
    if (asked === key || !row.on) return;
    asked = key;
    try {
      const found = await beside(
        () => post(`${state.path}/spectrum`, { step_id: row.id }),
        () => node.isConnected,
      );
      if (!found) return;
      back.replaceChildren(
        ...found.spectrum
          .filter(([s]) => s < 0.6)
          .map(([size, v]) => {
            const a = x(size / Math.SQRT2),
              b = x(Math.min(1, size * Math.SQRT2)),
              h = v * (H - TOP - FOOT);
            return svg("rect", { class: "bar", x: a, width: Math.max(0, b - a - 1), y: H - FOOT - h, height: h });
          }),
      );
    } catch {
      /* the row says what is wrong */
    }
  };
  const title = el(
    "div",
    { class: "control" },
    el("label", { title: field.says }, field.title),
    el("span"),
    el(
      "button",
      {
        class: "act reset",
        type: "button",
        "aria-label": `Reset ${field.title}`,
        title: "Back to what it was on a fresh step",
        onclick: () => {
          controls.try({ [field.name]: field.default });
          controls.settle();
        },
      },
      "↺",
    ),
    el("span", { class: "says" }, field.says),
  );
  return {
    node: el("div", { "data-field": field.name }, title, node, shareBox),
    update(now) {
      if (!(state.draft && node.querySelector(".handle:active"))) {
        points = now[field.name];
        build();
      } else showShare();
      ask();
    },
  };
}
