// Settings that have a shape: drawn over what comes in, and dragged.
import { svg } from "../../base/api.js";

const W = 284,
  H = 92;

function bars(channels, y1 = H) {
  const total = channels[0].map((_, i) => Math.max(...channels.map(c => c[i])));
  const top = total.slice().sort((a, b) => a - b)[Math.floor(total.length * 0.985)] || 1;
  const g = svg("g", { "aria-hidden": "true" });
  total.forEach((n, i) => {
    const h = Math.min(1, n / top) * (y1 - 6);
    if (h > 0.2)
      g.append(
        svg("rect", { class: "bar", x: (i * W) / total.length, width: W / total.length + 0.2, y: y1 - h, height: h }),
      );
  });
  return g;
}

export function histogramBars() {
  const node = svg("svg", {
    class: "drawn",
    viewBox: `0 0 ${W} 56`,
    role: "img",
    "aria-label": "Histogram of what comes in",
  });
  return {
    node,
    histogram(channels) {
      if (channels.length) node.replaceChildren(bars(channels, 56));
    },
  };
}

function dragHandle(handle, node, moved, done) {
  handle.addEventListener("pointerdown", e => {
    e.preventDefault();
    handle.setPointerCapture(e.pointerId);
    const move = m => {
      const box = node.getBoundingClientRect();
      moved(((m.clientX - box.left) / box.width) * W, ((m.clientY - box.top) / box.height) * H);
    };
    handle.addEventListener("pointermove", move);
    handle.addEventListener(
      "pointerup",
      () => {
        handle.removeEventListener("pointermove", move);
        done();
      },
      { once: true },
    );
  });
}

// Points of a tone curve over the histogram of what is read.
export function curveEditor(field, controls) {
  const node = svg("svg", {
    class: "drawn",
    viewBox: `0 0 ${W} ${H}`,
    "aria-label": `${field.title}: drag points, double-click to add or take one away`,
  });
  const back = svg("g"),
    path = svg("path", { class: "graph" }),
    handles = svg("g");
  node.append(back, path, handles);
  let points = field.default;
  const px = p => [8 + p[0] * (W - 16), H - p[1] * (H - 16) - 8];
  const value = (x, y) => [
    Math.max(0, Math.min(1, (x - 8) / (W - 16))),
    Math.max(0, Math.min(1, (H - 8 - y) / (H - 16))),
  ];
  const tidy = list => list.map(p => p.map(v => +v.toFixed(4))).sort((a, b) => a[0] - b[0]);
  const line = () => {
    const sorted = [...points].sort((a, b) => a[0] - b[0]);
    path.setAttribute(
      "d",
      smooth(sorted)
        .map(
          (p, i) =>
            `${i ? "L" : "M"}${px(p)
              .map(v => v.toFixed(1))
              .join(" ")}`,
        )
        .join(""),
    );
  };
  const build = () => {
    handles.replaceChildren(
      ...points.map((p, i) => {
        const [cx, cy] = px(p);
        const handle = svg("circle", {
          class: "handle",
          r: 5.5,
          cx,
          cy,
          tabindex: 0,
          role: "slider",
          "aria-label": `Point ${i + 1} of ${field.title}`,
          "aria-valuenow": p[1].toFixed(2),
          "aria-valuetext": `${p[0].toFixed(2)} becomes ${p[1].toFixed(2)}`,
        });
        const to = q => {
          const free = points.every((o, k) => k === i || Math.abs(o[0] - q[0]) > 0.012);
          if (!free) return;
          points = points.map((o, k) => (k === i ? q : o));
          [handle.cx.baseVal.value, handle.cy.baseVal.value] = px(q);
          line();
          controls.try({ [field.name]: tidy(points) });
        };
        dragHandle(
          handle,
          node,
          (x, y) => to(value(x, y)),
          () => controls.settle(),
        );
        handle.addEventListener("dblclick", e => {
          e.stopPropagation();
          if (points.length <= 2) return;
          controls.try({ [field.name]: tidy(points.filter((_, k) => k !== i)) });
          controls.settle();
        });
        handle.addEventListener("keydown", e => {
          const by = { ArrowLeft: [-0.01, 0], ArrowRight: [0.01, 0], ArrowUp: [0, 0.01], ArrowDown: [0, -0.01] }[e.key];
          if (!by) return;
          e.preventDefault();
          to([Math.max(0, Math.min(1, points[i][0] + by[0])), Math.max(0, Math.min(1, points[i][1] + by[1]))]);
          controls.settleSoon();
        });
        return handle;
      }),
    );
    line();
  };
  node.addEventListener("dblclick", e => {
    const box = node.getBoundingClientRect();
    const q = value(((e.clientX - box.left) / box.width) * W, ((e.clientY - box.top) / box.height) * H);
    if (points.some(o => Math.abs(o[0] - q[0]) < 0.015)) return;
    controls.try({ [field.name]: tidy([...points, q]) });
    controls.settle();
  });
  return {
    node,
    histogram(channels) {
      if (channels.length) back.replaceChildren(bars(channels));
    },
    update(values) {
      if (controls.state.draft && node.querySelector(".handle:active")) return;
      points = values[field.name];
      build();
    },
  };
}

// Monotone cubic through the points (Fritsch and Carlson), as the application computes it; for drawing only.
function smooth(points) {
  const n = points.length,
    out = [[0, points[0][1]]];
  const h = [],
    d = [];
  for (let i = 0; i < n - 1; i++) {
    h.push(points[i + 1][0] - points[i][0]);
    d.push((points[i + 1][1] - points[i][1]) / h[i]);
  }
  const m = points.map((_, i) => {
    if (i === 0 || i === n - 1)
      return n === 2
        ? d[0]
        : end(
            i === 0 ? h[0] : h[n - 2],
            i === 0 ? h[1] : h[n - 3],
            i === 0 ? d[0] : d[n - 2],
            i === 0 ? d[1] : d[n - 3],
          );
    if (d[i - 1] * d[i] <= 0) return 0;
    const a = 2 * h[i] + h[i - 1],
      b = h[i] + 2 * h[i - 1];
    return (a + b) / (a / d[i - 1] + b / d[i]);
  });
  for (let i = 0; i < n - 1; i++) {
    for (let k = 0; k <= 16; k++) {
      const t = k / 16,
        t2 = t * t,
        t3 = t2 * t;
      out.push([
        points[i][0] + t * h[i],
        (2 * t3 - 3 * t2 + 1) * points[i][1] +
          (t3 - 2 * t2 + t) * h[i] * m[i] +
          (3 * t2 - 2 * t3) * points[i + 1][1] +
          (t3 - t2) * h[i] * m[i + 1],
      ]);
    }
  }
  out.push([1, points[n - 1][1]]);
  return out;
}
function end(h0, h1, d0, d1) {
  const m = ((2 * h0 + h1) * d0 - h0 * d1) / (h0 + h1);
  if (Math.sign(m) !== Math.sign(d0)) return 0;
  return Math.sign(d0) !== Math.sign(d1) && Math.abs(m) > 3 * Math.abs(d0) ? 3 * d0 : m;
}
