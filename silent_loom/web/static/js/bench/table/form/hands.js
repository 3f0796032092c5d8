// What hands do to a form: turning it, its light, the wipe; keys.
import { LIGHTS } from "./lights.js";

const KEYED = ["base", "height", "normal", "roughness", "metallic", "occlusion", "specular"];

export function nearer(view, by) {
  view.away = Math.max(0.6, Math.min(12, view.away * by));
  view.moving();
  view.draw();
}

export function drag(view, event) {
  view.pane.activate();
  const light = event.button === 2 || event.altKey || event.shiftKey;
  let last = [event.clientX, event.clientY];
  const box = view.canvas.getBoundingClientRect(),
    wipe = view.arranged.way === "wipe" && Math.abs(event.clientX - box.left - view.arranged.at * box.width) < 14;
  const move = e => {
    const dx = e.clientX - last[0],
      dy = e.clientY - last[1];
    last = [e.clientX, e.clientY];
    if (wipe) {
      view.state.wipe(Math.max(0.02, Math.min(0.98, (e.clientX - box.left) / box.width)));
      return;
    }
    if (light) view.light = [view.light[0] + dx / 120, view.light[1] - dy / 120].map(v => Math.max(-1, Math.min(1, v)));
    else view.turn = [view.turn[0] - dx / 160, Math.max(-1.5, Math.min(1.5, view.turn[1] - dy / 160))];
    view.moving();
    view.draw();
  };
  view.canvas.setPointerCapture(event.pointerId);
  view.canvas.addEventListener("pointermove", move);
  view.canvas.addEventListener("pointerup", () => view.canvas.removeEventListener("pointermove", move), { once: true });
}

export function dragLamp(view, event) {
  event.preventDefault();
  const move = e => {
    const box = view.lamp.getBoundingClientRect();
    view.light = [((e.clientX - box.left) / box.width) * 2 - 1, 1 - ((e.clientY - box.top) / box.height) * 2].map(v =>
      Math.max(-1, Math.min(1, v)),
    );
    view.moving();
    view.draw();
  };
  view.lamp.setPointerCapture(event.pointerId);
  view.lamp.addEventListener("pointermove", move);
  view.lamp.addEventListener("pointerup", () => view.lamp.removeEventListener("pointermove", move), { once: true });
  move(event);
}

export function key(view, event, light) {
  const by = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, 1], ArrowDown: [0, -1] }[event.key];
  if (by && light)
    view.light = [view.light[0] + by[0] * 0.1, view.light[1] + by[1] * 0.1].map(v => Math.max(-1, Math.min(1, v)));
  else if (by) view.turn = [view.turn[0] + by[0] * 0.12, Math.max(-1.5, Math.min(1.5, view.turn[1] + by[1] * 0.12))];
  else if (event.key === "+" || event.key === "=") view.away = Math.max(0.6, view.away * 0.85);
  else if (event.key === "-") view.away = Math.min(12, view.away / 0.85);
  else if (event.key === "0") {
    view.away = view.form.near;
    view.turn = [-0.2, -0.5];
  } else if (event.key === "Home") view.turn = [0, 0];
  else if (event.key.toLowerCase() === "o") {
    view.around();
    event.preventDefault();
    return;
  } else if (event.key.toLowerCase() === "i") {
    const names = Object.keys(LIGHTS);
    view.choose({
      light: names[(names.indexOf(view.look.light) + (event.shiftKey ? names.length - 1 : 1)) % names.length],
    });
    event.preventDefault();
    return;
  } else if (event.key.toLowerCase() === "n") {
    view.choose({ relief: !view.look.relief });
    event.preventDefault();
    return;
  } else if (/^[1-7]$/.test(event.key)) {
    view.flip(KEYED[event.key - 1]);
    event.preventDefault();
    return;
  } else return;
  event.preventDefault();
  view.moving();
  view.draw();
}
