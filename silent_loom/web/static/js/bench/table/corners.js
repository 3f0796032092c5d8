// Corners of a rectangle, dragged on the photo, with a magnifier at the pointer.
import { el } from "../../base/api.js";
import { penOf } from "../../base/soft.js";

const NAMES = ["top left", "top right", "bottom right", "bottom left"];

export class CornersView {
  constructor(pane) {
    this.pane = pane;
    this.state = pane.state;
    this.canvas = document.createElement("canvas");
    this.canvas.setAttribute("role", "img");
    this.canvas.setAttribute("aria-label", "The photo as it came");
    this.context = penOf(this.canvas);
    this.loupe = el("canvas", { class: "loupe", width: 300, height: 300, hidden: true });
    this.handles = NAMES.map((name, i) => {
      const handle = el("button", {
        class: "corner",
        type: "button",
        "aria-label": `Corner ${name}; arrow keys move it`,
        "data-corner": i,
        hidden: true,
      });
      handle.addEventListener("pointerdown", e => this.drag(e, i));
      handle.addEventListener("keydown", e => this.key(e, i));
      return handle;
    });
    const done = el(
      "button",
      { class: "act main", type: "button", onclick: () => pane.show(pane.last || "flat") },
      "Done",
    );
    this.bar = el("div", { class: "foot-right" }, done);
    this.extra = [...this.handles, this.loupe, this.bar];
    this.photo = new Image();
    this.photo.onload = () => {
      pane.computing(false);
      this.shown();
    };
    this.photo.onerror = () => {
      pane.computing(false);
      pane.say("The photo cannot be shown.");
    };
  }

  get row() {
    return this.state.that("straighten");
  }
  get field() {
    return "corners";
  }
  // What is drawn between the corners; nothing on a photo
  lines(_context, _points) {
    /* none between the corners of a photo */
  }
  get corners() {
    const draft = this.state.draft,
      row = this.row;
    const now =
      draft && row && draft.step_id === row.id && this.field in draft.settings
        ? draft.settings[this.field]
        : row?.settings[this.field];
    return (
      now || [
        [0, 0],
        [1, 0],
        [1, 1],
        [0, 1],
      ]
    );
  }

  resize() {
    this.draw();
  }
  shown() {
    this.draw();
    this.pane.painted(this, this.photo.naturalWidth);
  }
  // The first corner, as soon as there is a picture for it to lie on
  focus() {
    if (this.handles[0].hidden) this.wanted = true;
    else this.handles[0].focus();
  }
  ask() {
    const photo = this.state.that("photo");
    const address =
      `${this.state.path}/photo.jpg?step_id=${photo.id}&size=2800&of=` + photo.settings.source.slice(0, 16);
    if (this.photo.src.endsWith(address) && (this.photo.naturalWidth || !this.photo.complete)) {
      if (this.photo.naturalWidth) this.shown();
      return;
    }
    this.pane.computing(true);
    this.photo.src = address;
  }

  layout() {
    const box = this.pane.node.getBoundingClientRect(),
      w = this.photo.naturalWidth || 4,
      h = this.photo.naturalHeight || 3;
    const scale = Math.min((box.width - 36) / w, (box.height - 96) / h);
    return [(box.width - w * scale) / 2, (box.height - h * scale) / 2 + 10, w * scale, h * scale];
  }

  draw() {
    const { canvas, context: c } = this,
      box = this.pane.node.getBoundingClientRect(),
      dpr = devicePixelRatio;
    if (!box.width || !this.photo.naturalWidth) return;
    canvas.width = Math.round(box.width * dpr);
    canvas.height = Math.round(box.height * dpr);
    c.setTransform(dpr, 0, 0, dpr, 0, 0);
    c.fillStyle = getComputedStyle(this.pane.node).backgroundColor;
    c.fillRect(0, 0, box.width, box.height);
    const [x, y, w, h] = this.layout();
    c.imageSmoothingQuality = "high";
    c.drawImage(this.photo, x, y, w, h);
    const points = this.corners.map(([u, v]) => [x + u * w, y + v * h]);
    for (const [style, width] of [
      ["#262523", 4],
      ["#efede8", 1.5],
    ]) {
      c.strokeStyle = style;
      c.lineWidth = width;
      c.beginPath();
      points.forEach((p, i) => (i ? c.lineTo(...p) : c.moveTo(...p)));
      c.closePath();
      c.stroke();
    }
    this.lines(c, points);
    points.forEach((p, i) => {
      this.handles[i].style.left = `${p[0]}px`;
      this.handles[i].style.top = `${p[1]}px`;
      this.handles[i].hidden = false;
    });
    if (this.wanted && this.handles[0].isConnected) {
      this.wanted = false;
      this.handles[0].focus();
    }
  }

  move(i, u, v) {
    const to = this.corners.map(p => [...p]);
    to[i] = [Math.max(-0.2, Math.min(1.2, u)), Math.max(-0.2, Math.min(1.2, v))].map(n => +n.toFixed(6));
    // The corners must stay clockwise and not cross, or there is no rectangle behind them
    const turns = to.map((p, k) => {
      const q = to[(k + 1) % 4],
        r = to[(k + 2) % 4];
      return (q[0] - p[0]) * (r[1] - q[1]) - (q[1] - p[1]) * (r[0] - q[0]);
    });
    if (turns.some(t => t <= 1e-6)) return;
    this.state.try(this.row.id, { [this.field]: to });
    this.draw();
  }

  drag(event, i) {
    event.preventDefault();
    const handle = this.handles[i];
    handle.focus();
    handle.setPointerCapture(event.pointerId);
    const grip = handle.getBoundingClientRect(),
      off = [event.clientX - (grip.left + grip.width / 2), event.clientY - (grip.top + grip.height / 2)];
    const move = e => {
      const box = this.pane.node.getBoundingClientRect(),
        [x, y, w, h] = this.layout();
      const px = e.clientX - off[0] - box.left,
        py = e.clientY - off[1] - box.top;
      this.move(i, (px - x) / w, (py - y) / h);
      this.magnify(i);
    };
    handle.addEventListener("pointermove", move);
    handle.addEventListener(
      "pointerup",
      () => {
        handle.removeEventListener("pointermove", move);
        this.loupe.hidden = true;
        this.state.settle();
      },
      { once: true },
    );
    this.magnify(i);
  }

  magnify(i) {
    const [u, v] = this.corners[i],
      [x, y, w, h] = this.layout(),
      c = this.loupe.getContext("2d");
    const sx = u * this.photo.naturalWidth,
      sy = v * this.photo.naturalHeight,
      half = 24;
    c.imageSmoothingEnabled = false;
    c.fillStyle = "#777";
    c.fillRect(0, 0, 300, 300);
    c.drawImage(this.photo, sx - half, sy - half, 2 * half, 2 * half, 0, 0, 300, 300);
    c.strokeStyle = "#efede8";
    c.lineWidth = 1.5;
    c.beginPath();
    for (const [a, b, d, e] of [
      [150, 60, 150, 138],
      [150, 162, 150, 240],
      [60, 150, 138, 150],
      [162, 150, 240, 150],
    ]) {
      c.moveTo(a, b);
      c.lineTo(d, e);
    }
    c.stroke();
    const px = x + u * w,
      py = y + v * h;
    this.loupe.style.left = `${px + (px > 220 ? -186 : 36)}px`;
    this.loupe.style.top = `${Math.max(6, py + (py > 220 ? -186 : 36))}px`;
    this.loupe.hidden = false;
  }

  key(event, i) {
    const by = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, -1], ArrowDown: [0, 1] }[event.key];
    if (!by) return;
    event.preventDefault();
    const native = this.state.weave.native || [2000, 1500],
      step = event.shiftKey ? 10 : event.altKey ? 0.1 : 1;
    this.move(i, this.corners[i][0] + (by[0] * step) / native[0], this.corners[i][1] + (by[1] * step) / native[1]);
    this.magnify(i);
    clearTimeout(this.resting);
    this.resting = setTimeout(() => {
      this.loupe.hidden = true;
      this.state.settle();
    }, 500);
  }
}
