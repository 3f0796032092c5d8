// What hands do to a form: turning it, its light, the wipe; keys.
import { LIGHTS } from "./lights.js";

const KEYED = ["base", "height", "normal", "roughness", "metallic", "occlusion", "specular"];

export const HANDS = {
  nearer(by) {
    this.away = Math.max(0.6, Math.min(12, this.away * by));
    this.moving();
    this.draw();
  },

  drag(event) {
    this.pane.activate();
    const light = event.button === 2 || event.altKey || event.shiftKey;
    let last = [event.clientX, event.clientY];
    const box = this.canvas.getBoundingClientRect(), wipe = this.arranged.way === "wipe" && Math.abs(event.clientX - box.left - this.arranged.at * box.width) < 14;
    const move = (e) => {
      const dx = e.clientX - last[0], dy = e.clientY - last[1];
      last = [e.clientX, e.clientY];
      if (wipe) { this.state.wipe(Math.max(0.02, Math.min(0.98, (e.clientX - box.left) / box.width))); return; }
      if (light) this.light = [this.light[0] + dx / 120, this.light[1] - dy / 120].map((v) => Math.max(-1, Math.min(1, v)));
      else this.turn = [this.turn[0] - dx / 160, Math.max(-1.5, Math.min(1.5, this.turn[1] - dy / 160))];
      this.moving();
      this.draw();
    };
    this.canvas.setPointerCapture(event.pointerId);
    this.canvas.addEventListener("pointermove", move);
    this.canvas.addEventListener("pointerup", () => this.canvas.removeEventListener("pointermove", move), { once: true });
  },

  dragLamp(event) {
    event.preventDefault();
    const move = (e) => {
      const box = this.lamp.getBoundingClientRect();
      this.light = [((e.clientX - box.left) / box.width) * 2 - 1, 1 - ((e.clientY - box.top) / box.height) * 2].map((v) => Math.max(-1, Math.min(1, v)));
      this.moving();
      this.draw();
    };
    this.lamp.setPointerCapture(event.pointerId);
    this.lamp.addEventListener("pointermove", move);
    this.lamp.addEventListener("pointerup", () => this.lamp.removeEventListener("pointermove", move), { once: true });
    move(event);
  },

  // The other side of a thin thing
  around() {
    this.turn = [this.turn[0] > 1.2 ? this.turn[0] - Math.PI : this.turn[0] + Math.PI, this.turn[1]];
    this.moving();
    this.draw();
  },

  key(event, light) {
    const by = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, 1], ArrowDown: [0, -1] }[event.key];
    if (by && light) this.light = [this.light[0] + by[0] * 0.1, this.light[1] + by[1] * 0.1].map((v) => Math.max(-1, Math.min(1, v)));
    else if (by) this.turn = [this.turn[0] + by[0] * 0.12, Math.max(-1.5, Math.min(1.5, this.turn[1] + by[1] * 0.12))];
    else if (event.key === "+" || event.key === "=") this.away = Math.max(0.6, this.away * 0.85);
    else if (event.key === "-") this.away = Math.min(12, this.away / 0.85);
    else if (event.key === "0") { this.away = this.form.near; this.turn = [-0.2, -0.5]; }
    else if (event.key === "Home") this.turn = [0, 0];
    else if (event.key.toLowerCase() === "o") { this.around(); event.preventDefault(); return; }
    else if (event.key.toLowerCase() === "i") { const names = Object.keys(LIGHTS); this.choose({ light: names[(names.indexOf(this.look.light) + (event.shiftKey ? names.length - 1 : 1)) % names.length] }); event.preventDefault(); return; }
    else if (event.key.toLowerCase() === "n") { this.choose({ relief: !this.look.relief }); event.preventDefault(); return; }
    else if (/^[1-7]$/.test(event.key)) { this.flip(KEYED[event.key - 1]); event.preventDefault(); return; }
    else return;
    event.preventDefault();
    this.moving();
    this.draw();
  },

  flip(map) {
    if (!this.look.off.delete(map)) this.look.off.add(map);
    this.moving();
    this.apply();
  },

  choose(look) {
    const unlit = this.look.unlit;
    Object.assign(this.look, look);
    if (!this.start()) return;
    if ("light" in look) this.lit();
    this.moving();
    this.apply();
    if (this.look.unlit !== unlit) this.ask();
  },

  pick(kind) {
    this.kind = kind;
    this.away = this.form.near;
    this.begun = false;
    this.shape();
    this.moving();
  },
};
