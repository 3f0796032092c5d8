// Questions of one view: the newest wins, at most two under way, the small answer first and the full one at rest.
import { bytes } from "../base/api.js";

let views = 0;
const tab = Math.random().toString(36).slice(2, 8);

export class Asking {
  /** @type {any} The picture that is there already */
  have;

  constructor(state, took, failed, busy) {
    this.state = state;
    this.took = took; // (answer, wanted) => draw it
    this.failed = failed;
    this.busy = busy;
    this.view = `${tab}-${++views}`;
    this.sequence = 0;
    this.shown = -1;
    this.running = 0;
    this.waiting = null;
    this.small = false; // only the smallest answers while the hand moves
    // What is asked about: the material as it stands, or another state
    this.of = () => ({ path: state.path, lay: state.question() });
    this.quick = true; // whether 512 has been quick enough while a control moves
  }

  // Something about to be stored, asked for while it is being written: the answer is the same
  soon(endpoint, body, draft, size) {
    clearTimeout(this.rest);
    this.next = { endpoint, body: { ...body, ...draft }, sizes: [size, size] };
    return this.now(size);
  }

  // Another state than what is shown: what was seen of it once shows until it is there
  async glance(body) {
    const { path, lay } = this.of();
    if (!path.startsWith("/api/materials/")) return; // a delivery is no state of a material
    const before = this.shown,
      turn = (this.glanced = (this.glanced || 0) + 1);
    try {
      const answer = await bytes(`${path}/glance`, { ...body, ...lay });
      if (answer && turn === this.glanced && this.shown === before) this.took(answer, body, 0);
    } catch {
      /* the picture itself says what is wrong */
    }
  }

  // endpoint: "map" or "form"; sizes: [small, full]
  ask(endpoint, body, sizes) {
    this.next = { endpoint, body, sizes };
    clearTimeout(this.rest);
    if (this.state.draft || (this.small && this.shown >= 0)) {
      this.now(this.quick && !this.small ? Math.min(512, sizes[1]) : 256);
      this.rest = setTimeout(() => this.now(sizes[1]), 350);
    } else this.now(sizes[1]);
  }

  // True when its answer was taken
  async now(size) {
    if (!this.next) return false;
    if (this.running >= 2) {
      this.waiting = size;
      return false;
    }
    const { endpoint, body } = this.next,
      sequence = ++this.sequence,
      started = performance.now();
    const drafting = !!this.state.draft,
      { path, lay } = this.of();
    this.running++;
    this.busy(true);
    try {
      const answer = await bytes(`${path}/${endpoint}`, {
        ...this.have?.(size),
        ...body,
        ...lay,
        size,
        view: this.view,
        sequence,
      });
      if (drafting && size >= 512) this.quick = performance.now() - started < 140;
      else if (drafting && performance.now() - started < 25) this.quick = true;
      if (answer && sequence > this.shown) {
        this.shown = sequence;
        this.took(answer, body, size);
        return true;
      }
    } catch (error) {
      if (sequence === this.sequence) this.failed(error.message);
    } finally {
      this.running--;
      if (this.waiting !== null) {
        const again = this.waiting;
        this.waiting = null;
        this.now(again);
      } else if (!this.running) this.busy(false);
    }
    return false;
  }
}
