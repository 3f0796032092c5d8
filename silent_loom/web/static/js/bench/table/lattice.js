// The grid of a motif, corrected by hand: its corners dragged on the sheet that comes in, its repeats drawn.
import { CornersView } from "./corners.js";

export class GridView extends CornersView {
  get row() {
    const chosen = this.state.row(this.state.chosen);
    return this.state.can(chosen, "close") ? chosen : this.state.that("close");
  }
  get field() {
    return "grid";
  }
  get counts() {
    const now = {
      ...this.row.settings,
      ...(this.state.draft?.step_id === this.row.id ? this.state.draft.settings : {}),
    };
    return [now.grid_x, now.grid_y];
  }

  ask() {
    const rows = this.state.rows.filter(r => !r.resting && !r.idle && !r.error && !r.group),
      all = this.state.rows.map(r => r.id),
      mine = all.indexOf(this.row.id);
    const above = rows.findLast(r => all.indexOf(r.id) < mine);
    if (!above) {
      this.pane.say("There is nothing above the grid to lay it on.");
      return;
    }
    const address = `${this.state.path}/map/base.png?size=1600&below=${above.id}&entry=${this.state.material.head}`;
    if (this.photo.src.endsWith(address) && (this.photo.naturalWidth || !this.photo.complete)) {
      if (this.photo.naturalWidth) this.shown();
      return;
    }
    this.pane.computing(true);
    this.photo.src = address;
  }

  // Lines between the repeats, by the perspective of the corners
  lines(c, points) {
    const [n, m] = this.counts,
      [a, b, d, e] = points;
    const mix = (p, q, t) => [p[0] + (q[0] - p[0]) * t, p[1] + (q[1] - p[1]) * t];
    c.beginPath();
    for (let i = 1; i < n; i++) {
      c.moveTo(...mix(a, b, i / n));
      c.lineTo(...mix(e, d, i / n));
    }
    for (let j = 1; j < m; j++) {
      c.moveTo(...mix(a, e, j / m));
      c.lineTo(...mix(b, d, j / m));
    }
    c.strokeStyle = "rgba(239, 237, 232, .75)";
    c.lineWidth = 1;
    c.stroke();
  }
}
