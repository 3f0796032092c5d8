// Levels as handles under a histogram, and a ramp of colours over the tones.
import { el, svg } from "../../base/api.js";

const W = 284;

export function levelsEditor(controls) {
  const node = svg("svg", {
    class: "drawn levels",
    viewBox: `0 0 ${W} 78`,
    "aria-label": "Levels: drag black, middle and white",
  });
  const back = svg("g", { "aria-hidden": "true" }),
    handles = svg("g");
  node.append(
    back,
    svg("line", { x1: 0, x2: W, y1: 60.5, y2: 60.5, stroke: "currentColor", "stroke-opacity": 0.4 }),
    handles,
  );
  const at = v => 8 + Math.max(0, Math.min(1, v)) * (W - 16);
  let now = { black: 0, white: 1, gamma: 1 };
  const middle = () => now.black + (now.white - now.black) * 0.5 ** now.gamma;
  const to = {
    black: v => ({ black: +Math.min(v, now.white - 0.01).toFixed(3) }),
    white: v => ({ white: +Math.max(v, now.black + 0.01).toFixed(3) }),
    gamma: v => {
      const t = Math.max(0.001, Math.min(0.999, (v - now.black) / (now.white - now.black)));
      return { gamma: +Math.max(0.1, Math.min(10, Math.log(t) / Math.log(0.5))).toFixed(3) };
    },
  };
  const marks = Object.entries({ black: "Black", gamma: "Middle", white: "White" }).map(([key, title]) => {
    const handle = svg("path", {
      class: "handle",
      d: "M0 0L6 12L-6 12Z",
      tabindex: 0,
      role: "slider",
      "aria-label": title,
      "data-level": key,
    });
    handle.addEventListener("pointerdown", e => {
      e.preventDefault();
      handle.setPointerCapture(e.pointerId);
      const move = m => {
        const box = node.getBoundingClientRect(),
          v = (((m.clientX - box.left) / box.width) * W - 8) / (W - 16);
        controls.try(to[key](Math.max(0, Math.min(1, v))));
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
    handle.addEventListener("keydown", e => {
      const by = { ArrowRight: 0.005, ArrowUp: 0.005, ArrowLeft: -0.005, ArrowDown: -0.005 }[e.key];
      if (!by) return;
      e.preventDefault();
      controls.try(to[key]((key === "gamma" ? middle() : now[key]) + by));
      controls.settleSoon();
    });
    handles.append(handle);
    return [key, handle];
  });
  return {
    node,
    histogram(channels) {
      if (!channels.length) return;
      const total = channels[0].map((_, i) => Math.max(...channels.map(c => c[i]))),
        top = total.slice().sort((a, b) => a - b)[Math.floor(total.length * 0.985)] || 1;
      back.replaceChildren(
        ...total.map((n, i) => {
          const h = Math.min(1, n / top) * 54;
          return svg("rect", {
            class: "bar",
            x: 8 + (i * (W - 16)) / total.length,
            width: (W - 16) / total.length + 0.2,
            y: 60 - h,
            height: h,
          });
        }),
      );
    },
    update(v) {
      now = { black: v.black, white: v.white, gamma: v.gamma };
      for (const [key, handle] of marks) {
        handle.setAttribute("transform", `translate(${at(key === "gamma" ? middle() : now[key])} 62)`);
        handle.setAttribute("aria-valuenow", now[key]);
      }
    },
  };
}

const hex = stop =>
  `#${stop
    .slice(1)
    .map(v =>
      Math.round(v * 255)
        .toString(16)
        .padStart(2, "0"),
    )
    .join("")}`;
const rgb = code => [1, 3, 5].map(i => +(parseInt(code.slice(i, i + 2), 16) / 255).toFixed(4));

export function rampEditor(field, controls) {
  const bar = el("div", { class: "ramp-bar", role: "img", "aria-label": "The ramp, dark to light" }),
    stops = el("div", { class: "ramp-stops" });
  const add = el(
      "button",
      { class: "act edge", type: "button", id: "add-ramp" },
      "Lay a ramp of colours over the tones",
    ),
    more = el("button", { class: "act", type: "button", id: "add-stop" }, "Add a stop"),
    off = el("button", { class: "act", type: "button" }, "No ramp");
  let now = [];
  const send = next => {
    controls.try({ [field.name]: [...next].sort((a, b) => a[0] - b[0]) });
  };
  add.addEventListener("click", () => {
    send([
      [0, 0.12, 0.1, 0.08],
      [0.55, 0.5, 0.42, 0.3],
      [1, 0.93, 0.89, 0.8],
    ]);
    controls.settle();
  });
  off.addEventListener("click", () => {
    send([]);
    controls.settle();
  });
  more.addEventListener("click", () => {
    if (now.length === 1) {
      send([...now, [now[0][0] < 1 ? 1 : 0, ...now[0].slice(1)]]);
      controls.settle();
      return;
    }
    let widest = 0;
    for (let i = 1; i < now.length - 1; i++)
      if (now[i + 1][0] - now[i][0] > now[widest + 1][0] - now[widest][0]) widest = i;
    const [a, b] = [now[widest], now[widest + 1]];
    send([...now, a.map((v, k) => +((v + b[k]) / 2).toFixed(4))]);
    controls.settle();
  });
  const node = el(
    "div",
    { "data-field": field.name, class: "my-2" },
    add,
    bar,
    stops,
    el("div", { class: "d-flex gap-1" }, more, off),
  );
  return {
    node,
    update(v) {
      now = v[field.name] || [];
      add.hidden = now.length > 0;
      for (const n of [bar, stops, more, off]) n.hidden = !now.length;
      off.hidden ||= field.default.length > 0; // what makes colours of nothing else cannot do without
      bar.style.background = now.length
        ? `linear-gradient(to right, ${now.map(s => `${hex(s)} ${100 * s[0]}%`).join(", ")})`
        : "";
      if (stops.contains(document.activeElement) && stops.children.length === now.length) return;
      stops.replaceChildren(
        ...now.map((stop, i) =>
          el(
            "span",
            { class: "ramp-stop" },
            el("input", {
              type: "color",
              value: hex(stop),
              "aria-label": `Colour of stop ${i + 1}`,
              oninput: e => {
                send(now.map((s, k) => (k === i ? [s[0], ...rgb(e.target.value)] : s)));
              },
              onchange: () => controls.settle(),
            }),
            el("input", {
              type: "number",
              min: 0,
              max: 100,
              step: 1,
              value: Math.round(stop[0] * 100),
              "aria-label": `Place of stop ${i + 1}, %`,
              onchange: e => {
                send(
                  now.map((s, k) =>
                    k === i ? [Math.max(0, Math.min(100, Number(e.target.value) || 0)) / 100, ...s.slice(1)] : s,
                  ),
                );
                controls.settle();
              },
            }),
            now.length > (field.default.length ? 1 : 2)
              ? el(
                  "button",
                  {
                    class: "act",
                    type: "button",
                    "aria-label": `Take stop ${i + 1} out`,
                    onclick: () => {
                      send(now.filter((_, k) => k !== i));
                      controls.settle();
                    },
                  },
                  "×",
                )
              : el("span"),
          ),
        ),
      );
    },
  };
}
