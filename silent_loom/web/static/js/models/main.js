// The page of models: which there are, what is wrong with their UVs, and the work on them.
import { el, get, post, put, send } from "../base/api.js";
import { ModelForm } from "./form.js";
import { Layout } from "./layout.js";
import { Work } from "./work.js";

const $ = id => document.getElementById(id);

/** What is shown, and which of it. */
class Page {
  constructor() {
    /** @type {any[]} */
    this.models = [];
    /** @type {?string} Id of the chosen model */
    this.chosen = null;
    /** @type {any} What was found of it */
    this.found = null;
    this.asked = 0;
    this.layout = new Layout($("uv-sheet"), island => this.island(island));
    this.form = new ModelForm($("model-form"), (u, v) => this.at(u, v));
    $("form-bare").addEventListener("click", () => this.form.bare());
    $("form-stretch").addEventListener("click", () => {
      if (this.chosen)
        this.form.wear({ base: `/api/models/${this.chosen}/stretch.png?uv=${encodeURIComponent($("uv-set").value)}` });
    });
    for (const b of document.querySelectorAll("button[data-seen]"))
      b.addEventListener("click", () => this.see(b.dataset.seen));
    this.work = new Work(this);
    $("theme").addEventListener("click", window.switchTheme);
    $("bring").addEventListener("click", () => $("model-file").click());
    $("model-file").addEventListener("change", e => this.bring([...e.target.files]));
    $("quay").addEventListener("click", () => this.quay());
    for (const id of ["uv-set", "uv-size", "uv-wish"]) $(id).addEventListener("change", () => this.check());
    for (const id of ["model-unit", "model-up"]) $(id).addEventListener("change", () => this.readAs());
    $("seen-by").addEventListener("change", () => this.draw());
    addEventListener("dragover", e => e.preventDefault());
    addEventListener("drop", e => {
      e.preventDefault();
      this.bring([...e.dataTransfer.files]);
    });
    this.load();
  }

  say(words) {
    $("model-error").hidden = !words;
    $("model-error").textContent = words || "";
  }

  async load(choose = null) {
    this.models = (await get("/api/models")).models;
    $("no-models").hidden = this.models.length > 0;
    $("model-list").replaceChildren(...this.models.map(m => this.line(m)));
    this.work.listed(this.models);
    const wanted = choose || this.chosen;
    this.choose(this.models.some(m => m.id === wanted) ? wanted : this.models[0]?.id || null);
  }

  line(m) {
    return el(
      "li",
      {},
      el(
        "button",
        { class: "act", type: "button", "data-id": m.id, "aria-pressed": false, onclick: () => this.choose(m.id) },
        el("b", {}, m.name),
        el("span", { class: "quiet" }, `${m.triangles.toLocaleString("en")} triangles`),
      ),
      el(
        "button",
        { class: "act", type: "button", "aria-label": `Take ${m.name} out`, onclick: () => this.forget(m) },
        "×",
      ),
    );
  }

  async bring(files) {
    this.say("");
    let last = null;
    for (const file of files) {
      const form = new FormData();
      form.append("model", file, file.name);
      try {
        last = (await send("/api/models", form)).id;
      } catch (error) {
        this.say(error.message);
      }
    }
    if (last) await this.load(last);
  }

  async quay() {
    try {
      const made = await post("/api/models/demo");
      await this.load(made.models[0].id);
    } catch (error) {
      this.say(error.message);
    }
  }

  async forget(m) {
    await fetch(`/api/models/${m.id}`, { method: "DELETE" });
    this.load();
  }

  // What a unit of the file is, and which axis points up, as the artist says
  async readAs() {
    const id = this.chosen;
    if (!id) return;
    try {
      const said = await put(`/api/models/${id}/said`, { unit: $("model-unit").value, up: $("model-up").value });
      Object.assign(
        this.models.find(m => m.id === id),
        said,
      );
      if (this.chosen !== id) return;
      this.form.load(id);
      this.check();
    } catch (error) {
      this.say(error.message);
    }
  }

  choose(id) {
    const model = this.models.find(m => m.id === id);
    $("model-unit").value = model?.unit || "";
    $("model-up").value = model?.up || "";
    if (this.chosen !== id) $("uv-set").replaceChildren();
    if (this.chosen !== id) this.form.load(id);
    this.chosen = id;
    for (const b of document.querySelectorAll("#model-list [data-id]"))
      b.setAttribute("aria-pressed", String(b.dataset.id === id));
    if (id) this.check();
    else this.show(null);
  }

  async check() {
    if (!this.chosen) return;
    const turn = ++this.asked;
    const uv = $("uv-set").value;
    $("verdict").textContent = "Looking at its UVs …";
    document.body.dataset.checked = "";
    const query = new URLSearchParams({ uv, size: $("uv-size").value, wish: $("uv-wish").value || "0" });
    try {
      const found = await get(`/api/models/${this.chosen}/check?${query}`);
      if (turn === this.asked) this.show(found);
    } catch (error) {
      if (turn === this.asked) {
        this.show(null);
        this.say(error.message);
      }
    }
  }

  show(found) {
    this.found = found;
    document.body.dataset.checked = found?.id || "";
    $("faults").replaceChildren();
    $("island-facts").textContent = "";
    if (!found) {
      $("verdict").textContent = "";
      $("model-facts").textContent = "";
      this.layout.draw(null, "islands");
      return;
    }
    this.say("");
    const { check, size_mm: mm } = found;
    const guessed = found.unit_told ? "" : `, a unit taken for ${found.unit_mm} mm`;
    const unit = `a unit is ${+found.unit_mm.toPrecision(6)} mm${found.unit_told ? "" : ", guessed by the size"}`;
    $("taken-words").textContent = `${unit}; ${found.up} points up`;
    $("model-facts").textContent =
      `${found.triangles.toLocaleString("en")} triangles, ${found.meshes.length} meshes, ` +
      `${mm.map(v => (v / 10).toFixed(1)).join(" × ")} cm${guessed}`;
    const now = $("uv-set").value || check.uv;
    $("uv-set").replaceChildren(...found.uv_sets.map(s => el("option", { value: s, selected: s === now }, s)));
    $("uv-none").hidden = found.uv_sets.length > 0;
    $("verdict").textContent = check.carries
      ? "These UVs can carry a texture."
      : "These UVs cannot carry a texture of their own yet.";
    const grave = check.faults.filter(f => f.grave).length;
    $("verdict").dataset.grave = String(grave);
    $("faults").append(...check.faults.map(f => this.fault(f)));
    this.draw();
  }

  draw() {
    const words = this.layout.draw(this.found, $("seen-by").value);
    $("uv-legend").textContent = words;
    this.form.layout(this.layout.paths);
  }

  // The sheet, the model, or both
  see(what) {
    for (const b of document.querySelectorAll("button[data-seen]"))
      b.setAttribute("aria-checked", String(b.dataset.seen === what));
    $("uv-views").dataset.seen = what;
    this.form.draw();
  }

  // A place that was pressed on the model
  at(u, v) {
    const place = new DOMPoint(u, 1 - v),
      island = this.layout.paths.findIndex(p => p.isPointInFill(place));
    if (island >= 0) this.layout.point([island]);
  }

  fault(f) {
    return el(
      "li",
      { class: f.grave ? "grave" : "known", "data-kind": f.kind },
      el(
        "button",
        {
          class: "act",
          type: "button",
          title: f.islands.length ? "Show where" : "",
          onclick: () => this.layout.point(f.islands),
        },
        f.words,
      ),
      el("p", { class: "quiet" }, f.cure),
    );
  }

  island(number) {
    this.form.layout(this.layout.paths);
    const row = this.found?.check.islands[number];
    if (!row) {
      $("island-facts").textContent = "";
      return;
    }
    const gap = row.gap_texels === null ? "alone" : `${row.gap_texels} texels to the next`;
    $("island-facts").textContent =
      `Island ${number} of ${row.mesh}, ${row.material}: ${row.triangles} triangles, ` +
      `${row.area_cm2.toFixed(1)} cm², ${row.texels_per_cm.toFixed(1)} texels per cm, ` +
      `stretch ${row.stretch.toFixed(2)}${row.mirrored ? ", mirrored" : ""}, ${gap}`;
  }
}

new Page();
