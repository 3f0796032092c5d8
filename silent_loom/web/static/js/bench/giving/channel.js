// One channel of a file, said in full: which map, and what is done to it on the way.
import { el } from "../../base/api.js";

export function inspector(channel, maps, put, out) {
  const now = {
    thread: "",
    part: "",
    constant: null,
    invert: false,
    scale: 1,
    offset: 0,
    curve: [],
    times: "",
    amount: 1,
    ...channel,
  };
  const give = more => {
    const next = { ...now, ...more };
    if (next.thread) next.constant = null;
    else if (next.constant === null) next.constant = 0;
    for (const [key, plain] of Object.entries({
      thread: "",
      part: "",
      constant: null,
      invert: false,
      scale: 1,
      offset: 0,
      times: "",
      amount: 1,
    }))
      if (next[key] === plain) delete next[key];
    if (!next.curve.length) delete next.curve;
    put(next);
  };
  const line = (title, node) => el("label", { class: "field" }, el("span", {}, title), node);
  const number = (key, low, high, step) =>
    el("input", {
      type: "number",
      min: low,
      max: high,
      step,
      value: now[key] ?? 0,
      onchange: e => give({ [key]: +e.target.value }),
    });
  const choose = (key, list) =>
    el(
      "select",
      {
        "aria-label": key,
        onchange: e =>
          give({
            [key]: e.target.value,
            ...(key === "thread" ? { part: maps.find(m => m.name === e.target.value)?.parts[0] || "" } : {}),
          }),
      },
      ...list.map(([v, t]) => el("option", { value: v, selected: v === now[key] }, t)),
    );
  const map = maps.find(m => m.name === now.thread),
    greys = maps.filter(m => m.parts.length === 1).map(m => [m.name, m.title]);
  return el(
    "div",
    { class: "channel" },
    el("h3", {}, "Channel"),
    line("Holds", choose("thread", [["", "a constant"], ...maps.map(m => [m.name, m.title])])),
    ...(now.thread ? [] : [line("Value", number("constant", 0, 1, 0.01))]),
    ...(map && map.parts.length > 1
      ? [
          line(
            "Channel of it",
            choose(
              "part",
              map.parts.map(p => [p, p]),
            ),
          ),
        ]
      : []),
    ...(now.thread
      ? [
          el(
            "label",
            { class: "tick" },
            el("input", { type: "checkbox", checked: now.invert, onchange: e => give({ invert: e.target.checked }) }),
            " inverted",
          ),
          line("Times another map", choose("times", [["", "none"], ...greys])),
          ...(now.times
            ? [
                line(
                  "How much of it",
                  el("input", {
                    type: "range",
                    class: "slide",
                    min: 0,
                    max: 1,
                    step: 0.05,
                    value: now.amount,
                    onchange: e => give({ amount: +e.target.value }),
                  }),
                ),
              ]
            : []),
          line("Factor", number("scale", -100, 100, 0.05)),
          line("Raised by", number("offset", -100, 100, 0.05)),
          curve(now.curve, c => give({ curve: c })),
        ]
      : []),
    el("button", { class: "act edge", type: "button", onclick: out }, "Take the channel out"),
  );
}

// A curve of 0…1: press to add a point, drag it, press it twice to take it out
function curve(points, put) {
  const side = 108,
    made = points.length
      ? points.map(p => [...p])
      : [
          [0, 0],
          [1, 1],
        ];
  const box = document.createElementNS("http://www.w3.org/2000/svg", "svg");
  box.setAttribute("viewBox", `-6 -6 ${side + 12} ${side + 12}`);
  box.setAttribute("class", "curve-box");
  box.setAttribute("role", "img");
  box.setAttribute("aria-label", "Curve of the channel");
  const at = e => {
    const b = box.getBoundingClientRect(),
      k = (side + 12) / b.width;
    return [(e.clientX - b.left) * k - 6, (e.clientY - b.top) * k - 6].map((v, i) =>
      Math.min(1, Math.max(0, i ? 1 - v / side : v / side)),
    );
  };
  const draw = () => {
    const xy = made.map(([x, y]) => [x * side, (1 - y) * side]);
    box.innerHTML =
      `<rect width="${side}" height="${side}" class="ground"></rect><polyline points="` +
      `${xy.map(p => p.join(",")).join(" ")}"></polyline>` +
      `${xy.map(([x, y], i) => `<circle cx="${x}" cy="${y}" r="4.5" data-i="${i}"></circle>`).join("")}`;
  };
  const done = () =>
    put(
      made.length === 2 && made[0].join() === "0,0" && made[1].join() === "1,1"
        ? []
        : made.map(p => p.map(v => +v.toFixed(3))),
    );
  box.addEventListener("pointerdown", e => {
    let i = e.target.dataset.i === undefined ? -1 : +e.target.dataset.i;
    if (i < 0) {
      const [x, y] = at(e);
      i = made.findIndex(p => p[0] > x);
      if (i < 0 || x < made[0][0]) return;
      made.splice(i, 0, [x, y]);
    } else if (e.detail === 2 && i > 0 && i < made.length - 1) {
      made.splice(i, 1);
      draw();
      done();
      return;
    }
    box.setPointerCapture(e.pointerId);
    const move = m => {
      const [x, y] = at(m),
        ends = i === 0 || i === made.length - 1;
      made[i] = [ends ? made[i][0] : Math.min(made[i + 1][0] - 0.01, Math.max(made[i - 1][0] + 0.01, x)), y];
      draw();
    };
    box.addEventListener("pointermove", move);
    box.addEventListener(
      "pointerup",
      () => {
        box.removeEventListener("pointermove", move);
        done();
      },
      { once: true },
    );
    draw();
  });
  draw();
  return el("div", { class: "field" }, el("span", {}, "Curve"), box);
}
