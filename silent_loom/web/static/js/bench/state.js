// The material on the bench: what the application says it is, the chosen row, and the settings being tried.
import { beside, get, post, send, Failure } from "../base/api.js";

/** @typedef {import("./events.js").Events} Events */
/** @typedef {import("./events.js").EventName} EventName */
/** @typedef {{ step_id: string, settings: Record<string, any> }} Draft  settings of a row that are being tried */
/** @typedef {{ a: object, b: object, way: string, at: number }} Comparison  two states held against each other */

export class State extends EventTarget {
  /** @type {any} The material as the application told it: weave, head, parent, entries */
  material = null;
  /** @type {Record<string, any>} Steps by name, each with its fields and what it can */
  steps = {};
  /** @type {any[]} Ways in which a row is mixed with what was there */
  mixes = [];
  /** @type {any[]} Groups of rows that are put in together */
  ready = [];
  /** @type {?string} Id of the chosen row */
  chosen = null;
  /** @type {?string} Id of the chosen row that was taken out; when it comes back, so does the choice */
  gone = null;
  /** @type {?Draft} */
  draft = null;
  /** @type {any} Takes the place that the next press on a flat picture gives */
  picking = null;
  /** @type {{ sheet: any, maps: any, rows: any }} */
  figures = { sheet: {}, maps: {}, rows: {} };
  /** @type {?Comparison} */
  compare = null;
  /** Of a blink, whether the second is seen */
  blinked = false;
  /** The state before the last change is shown */
  before = false;
  /** How often the artist went to a state that was there before */
  leaps = 0;
  /** Marked regions are laid over the pictures */
  showMarks = false;
  /** @type {false | undefined} False where the mask of the chosen row is not laid over the pictures */
  showMask = undefined;
  /** Tells the windows of one browser apart */
  tab = "";
  figuresAsked = 0;
  /** @type {Promise<any>} Changes go one after another */
  queue = Promise.resolve();

  /** @param {string} ident of the material */
  constructor(ident) {
    super();
    this.ident = ident;
  }

  /**
   * @template {EventName} N
   * @param {N} name
   * @param {(event: CustomEvent<Events[N]>) => any} act
   */
  on(name, act) {
    this.addEventListener(name, act);
  }
  /**
   * @template {EventName} N
   * @param {N} name
   * @param {Events[N]} [detail]
   */
  emit(name, detail) {
    this.dispatchEvent(new CustomEvent(name, { detail }));
  }

  get path() {
    return `/api/materials/${this.ident}`;
  }
  get weave() {
    return this.material.weave;
  }
  get rows() {
    return this.material.weave.rows;
  }
  get threads() {
    return this.material.weave.threads;
  }
  // Rows are asked for by what their steps can do, never by name
  can(row, what) {
    return !!this.steps[row?.step]?.can.includes(what);
  }
  that(what, among = this.rows) {
    return among.find(r => this.can(r, what));
  }
  stepThat(what) {
    return Object.values(this.steps).find(s => s.can.includes(what))?.name;
  }
  // Where a row goes that is put below (or above) another one
  below(row) {
    return row ? { to: row.at + 1, into: row.parents.at(-1) || "" } : { to: 1e6, into: "" };
  }
  aboveOf(row) {
    return row ? { to: row.at, into: row.parents.at(-1) || "" } : { to: 0, into: "" };
  }
  row(id) {
    return this.rows.find(r => r.id === id);
  }

  async load() {
    const [steps, material] = await Promise.all([get("/api/steps"), get(this.path)]);
    this.steps = Object.fromEntries(steps.steps.map(s => [s.name, s]));
    this.mixes = steps.mixes;
    this.ready = steps.ready; // groups of rows that are put in together
    this.take(material);
    // A new photo begins with what comes first; what was worked on goes on where its form is made
    const fresh = location.hash === "#new" && !!this.that("photo");
    if (!this.row(this.chosen))
      this.choose(
        (this.rows.find(r => r.folded && r.dials?.length) || (!fresh && this.that("depth")) || this.rows[0])?.id,
      ); // a recipe opens on its dials
    return fresh;
  }

  // `sent` is the draft that this answer stored: what was dragged on since then is kept. So is what is dragged of
  // another row than the one that `of` says was changed
  take(material, sent = null, of = null) {
    const before = this.material?.weave.rows || [],
      at = before.findIndex(r => r.id === this.chosen);
    this.material = material;
    const apart = of !== null && this.draft && this.draft.step_id !== of;
    if (!apart && (!sent || this.draft === sent)) this.draft = null;
    else if (this.draft && !this.row(this.draft.step_id)) this.draft = null;
    // A chosen row that is gone leaves the choice with its neighbour above, not with the first row
    if (this.chosen && !this.row(this.chosen)) {
      this.gone = this.chosen;
      this.chosen =
        before
          .slice(0, Math.max(0, at))
          .reverse()
          .find(r => this.row(r.id))?.id ??
        this.rows[0]?.id ??
        null;
    } else if (this.gone && this.row(this.gone) && !sent) {
      this.chosen = this.gone;
      this.gone = null;
    } // redo brings it back
    this.emit("material");
    this.askFigures();
  }

  choose(id) {
    this.chosen = id;
    this.picking = null;
    this.emit("chosen");
  }

  // The next press on a flat picture gives a place instead of moving the picture
  pick(wish) {
    const take = wish.take;
    this.picking = {
      ...wish,
      take: async (u, v) => {
        this.picking = null;
        try {
          await take(u, v);
        } catch (e) {
          this.emit("fault", e.message);
        }
        this.emit("picking");
      },
    };
    this.emit("picking");
  }

  // Add a row after another one and give its id
  async add(step, settings, place) {
    const known = new Set(this.rows.map(r => r.id));
    await this.change({ kind: "add", step, settings, ...place });
    const made = this.rows.find(r => !known.has(r.id));
    if (made) this.choose(made.id);
    return made;
  }

  // What to lay over the stored state in every question.
  question() {
    if (this.before && this.material.parent) return { entry: this.material.parent };
    return this.draft ? { step_id: this.draft.step_id, settings: this.draft.settings } : {};
  }

  // --- comparing: a side is the material now, a snapshot, the weave with a row off, or another material
  // ------------------
  sideOf(side) {
    if (side.kind === "snapshot") return { entry: side.entry };
    if (side.kind === "off") return { off: side.row };
    if (side.kind === "delivery") return { delivery: side.id, mistake: side.mistake };
    return side.kind === "material" ? { material: side.id } : {};
  }
  // Where its maps are asked for, and what is laid over every question
  seenAs(side) {
    if (side.kind === "material") return { path: `/api/materials/${side.id}`, lay: {} };
    if (side.kind === "delivery") return { path: `/api/deliveries/${side.id}`, lay: { mistake: side.mistake } };
    return {
      path: this.path,
      lay: side.kind === "snapshot" ? { entry: side.entry } : { ...this.question(), ...this.sideOf(side) },
    };
  }
  sideName(side) {
    if (side.kind === "off") return `Without ${this.row(side.row)?.title ?? "it"}`;
    return side.kind === "now" ? "Now" : side.name;
  }
  hold(compare) {
    this.compare = compare;
    this.blinked = false;
    this.emit("compare");
  }
  wipe(at) {
    if (this.compare) {
      this.compare.at = at;
      this.emit("wipe");
    }
  }
  blink() {
    this.blinked = !this.blinked;
    this.emit("wipe");
  }

  // A control moves: nothing is stored yet.
  try(step_id, settings) {
    const old = this.draft && this.draft.step_id === step_id ? this.draft.settings : {};
    this.draft = { step_id, settings: { ...old, ...settings } };
    this.emit("draft");
  }

  // The control rests: one entry in the history.
  settle() {
    if (!this.draft) return Promise.resolve();
    const sent = this.draft,
      { step_id, settings } = sent;
    return this.change({ kind: "settings", step_id, settings }, sent);
  }

  // When the page is left: what was being tried is sent along, and arrives after the page is gone
  leave() {
    if (!this.draft) return;
    const { step_id, settings } = this.draft;
    post(
      `${this.path}/change`,
      { base: this.material.head, kind: "settings", step_id, settings },
      { keepalive: true },
    ).catch(() => {
      /* nobody is there to be told */
    });
    this.draft = null;
  }

  change(body, sent = null) {
    this.emit("saving");
    return this.after(() => post(`${this.path}/change`, { base: this.material.head, ...body }), {
      sent,
      of: body.step_id ?? null,
    });
  }
  undo() {
    return this.leap(`${this.path}/undo`);
  }
  redo() {
    return this.leap(`${this.path}/redo`);
  }
  // To a state that was there before
  leap(path, body) {
    return this.after(async () => {
      const material = await post(path, body);
      this.leaps++;
      return material;
    });
  }
  goTo(entry) {
    return this.leap(`${this.path}/goto`, { entry });
  }
  rename(name) {
    return this.after(() => post(`${this.path}/rename`, { name }));
  }
  otherPhoto(step_id, file) {
    const form = new FormData();
    form.append("photo", file, file.name || "pasted.png");
    form.append("base", this.material.head);
    form.append("step_id", step_id);
    this.emit("saving");
    return this.after(() => send(`${this.path}/photo`, form));
  }

  // Writes go one after another, each on the state that the one before it left.
  // With `asks` nothing of the artist's was to be saved: that a search finds nothing is no fault of saving.
  after(work, { sent = null, asks = false, of = null } = {}) {
    this.queue = this.queue.then(async () => {
      try {
        const made = await work();
        if (sent) delete this.figures.rows[sent.step_id]; // what was said of it before says nothing now
        this.take(made, sent, of);
        this.emit("saved");
      } catch (error) {
        if (error instanceof Failure && error.body.conflict) this.emit("clash", error.body.kept);
        else {
          if (!asks && (!sent || this.draft === sent)) this.draft = null;
          this.emit("material");
          this.emit(asks ? "refused" : "fault", error.message);
        }
      }
    });
    return this.queue;
  }

  async askFigures() {
    const turn = ++this.figuresAsked;
    await new Promise(r => setTimeout(r, 500));
    if (turn !== this.figuresAsked || this.draft) return;
    try {
      const response = await beside(
        () => fetch(`${this.path}/figures?view=figures-${this.tab}&sequence=${turn}`),
        () => turn === this.figuresAsked,
      );
      if (!response?.ok || response.status === 204 || turn !== this.figuresAsked) return;
      this.figures = await response.json();
      this.emit("figures");
    } catch {
      /* asked again after the next change */
    }
  }
}
