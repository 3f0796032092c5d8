// Work on a model that takes its time: unwrapping, baking, laying a material on; how far it is, and what came of it.
import { el, get, post } from "../base/api.js";
import { beforeAfter } from "./before_after.js";

const $ = id => document.getElementById(id);
const NAMED = ["mesh", "material", "island", "paint"];

export class Work {
  /** @param {any} page */
  constructor(page) {
    this.page = page;
    for (const tab of document.querySelectorAll("[role=tab]")) tab.addEventListener("click", () => this.turn(tab));
    $("unwrap-start").addEventListener("click", () => this.start("unwrap", this.unwrapping()));
    $("bake-start").addEventListener("click", () => this.start("bake", this.baking()));
    $("bake-check").addEventListener("click", () => this.points());
    $("lay-start").addEventListener("click", () => this.start("lay", this.laying()));
    $("lay-where").addEventListener("change", () => this.where());
    $("lay-by").addEventListener("change", () => this.by());
    $("lay-look").addEventListener("click", () => this.look());
    $("bake-distance").addEventListener("input", () => this.shell());
    this.by();
    this.where();
    this.materials();
  }

  turn(tab) {
    for (const t of document.querySelectorAll("[role=tab]")) {
      t.setAttribute("aria-selected", String(t === tab));
      $(t.getAttribute("aria-controls")).hidden = t !== tab;
    }
    if (tab.id !== "tab-bake") this.page.form.shell(0);
  }

  listed(models) {
    $("bake-dense").replaceChildren(...models.map(m => el("option", { value: m.id }, m.name)));
  }

  async materials() {
    const { materials } = await get("/api/materials");
    for (const id of ["lay-material", "lay-over"])
      $(id).append(...materials.map(m => el("option", { value: m.id }, m.name)));
  }

  // What only a camera, and only three sides, are asked
  by() {
    const by = $("lay-by").value;
    for (const row of document.querySelectorAll("[data-by]"))
      /** @type {HTMLElement} */ (row).hidden = row.getAttribute("data-by") !== by;
  }

  // The camera stands where the model is seen from now
  look() {
    const [yaw, pitch] = this.page.form.turn;
    $("lay-around").value = String(Math.round((yaw * 180) / Math.PI));
    $("lay-above").value = String(Math.round((pitch * 180) / Math.PI));
  }

  // The shell that rays start from, around the model
  shell(found = 0) {
    this.page.form.shell(+$("bake-distance").value || found);
  }

  // The usual span of a mask, and whether it wants a name
  where() {
    const option = $("lay-where").selectedOptions[0];
    $("lay-low").value = option.dataset.low;
    $("lay-high").value = option.dataset.high;
    $("lay-what").hidden = !NAMED.includes(option.value);
  }

  unwrapping() {
    const settings = {
      cut: $("unwrap-cut").value === "yes",
      bend: +$("unwrap-bend").value,
      padding: +$("unwrap-padding").value,
      size: +$("uv-size").value,
      thorough: $("unwrap-thorough").checked,
    };
    return { model: this.page.chosen, uv: $("uv-set").value, settings };
  }

  baking() {
    return {
      model: this.page.chosen,
      dense: [...$("bake-dense").selectedOptions].map(o => o.value).filter(id => id !== this.page.chosen),
      maps: [...document.querySelectorAll("[name=bake-map]:checked")].map(b => b.value),
      size: Math.min(8192, +$("uv-size").value),
      samples: +$("bake-samples").value,
      distance_mm: +$("bake-distance").value || 0,
      rays: +$("bake-rays").value,
      by_name: $("bake-names").checked,
      uv: $("uv-set").value,
    };
  }

  laying() {
    const kind = $("lay-where").value,
      what = $("lay-what").hidden ? "" : `:${$("lay-what").value}`,
      span = `=${$("lay-low").value}..${$("lay-high").value}`;
    const over = $("lay-over").value;
    return {
      model: this.page.chosen,
      material: $("lay-material").value,
      by: $("lay-by").value,
      size: Math.min(8192, +$("uv-size").value),
      scale: +$("lay-scale").value || 1,
      blend: +$("lay-blend").value,
      around_deg: +$("lay-around").value || 0,
      above_deg: +$("lay-above").value || 0,
      width_mm: +$("lay-width").value || 0,
      over: over ? [{ material: over, where: [`${kind}${what}${span}`] }] : [],
      uv: $("uv-set").value,
    };
  }

  async points() {
    try {
      const { points } = await post("/api/models/points", this.baking());
      this.shell(points.find(p => p.name === "distance")?.reach_mm[0] || 0);
      $("bake-points").replaceChildren(
        ...points.map(p =>
          el("li", { class: p.good ? "good" : "bad", "data-point": p.name }, `${p.words} ${p.good ? "" : p.todo}`),
        ),
      );
    } catch (error) {
      this.page.say(error.message);
    }
  }

  async start(kind, body) {
    this.page.say("");
    if (!this.page.chosen) {
      this.page.say("Choose a model first.");
      return;
    }
    try {
      const job = await post(`/api/models/${kind}`, body);
      this.follow(kind, job.id);
    } catch (error) {
      this.page.say(error.message);
    }
  }

  async follow(kind, id) {
    const bar = el("i", {}),
      words = el("span", { class: "quiet" }, "waiting"),
      stop = el("button", { class: "act edge", type: "button", onclick: () => post(`/api/jobs/${id}/cancel`) }, "Stop");
    const line = el(
      "div",
      { class: "line", "data-job": kind, "data-state": "waiting" },
      el("div", { class: "progress-line", role: "progressbar", "aria-label": "How far it is" }, bar),
      words,
      stop,
    );
    const lines = el("ol", { class: "quiet" });
    $("made").prepend(line, el("details", { class: "job-log", "data-log": kind }, el("summary", {}, "Log"), lines));
    for (;;) {
      const job = await get(`/api/jobs/${id}`);
      lines.replaceChildren(...job.log.map(words => el("li", {}, words)));
      line.dataset.state = job.state === "running" ? "running" : "waiting";
      bar.style.width = `${Math.round(100 * job.fraction)}%`;
      words.textContent = job.error || job.words;
      if (["done", "failed", "stopped"].includes(job.state)) {
        stop.remove();
        if (job.state === "done") this.done(kind, job, line);
        line.dataset.state = job.state;
        return;
      }
      await new Promise(go => setTimeout(go, 300));
    }
  }

  // Which of the files the model can wear
  worn(kind, files, path) {
    /** @type {Record<string, string>} */
    const of = {};
    for (const f of files) {
      const name = f.map || f.file.replace(/^.*_/, "").replace(/\.png$/, "");
      const as = {
        basecolor: "base",
        colour: "base",
        normal: "normal",
        occlusion: "occlusion",
        occlusionroughnessmetallic: "packed",
      };
      if (as[name]) of[as[name]] = `${path}/${encodeURIComponent(f.file)}`;
    }
    return of;
  }

  done(kind, job, line) {
    if (kind === "unwrap") {
      line.replaceChildren(el("span", {}, `Unwrapped: ${job.result.name}`));
      this.page.load(job.result.model);
      return;
    }
    const path = `/api/models/made/${job.id}`,
      shown = job.result.files.filter(f => f.file.endsWith(".png") && f.file !== "contact-sheet.png");
    const missed = job.result.missed > 0 ? ` ${(100 * job.result.missed).toFixed(2)} % of the texels met nothing.` : "";
    const links = [el("a", { class: "act edge", href: `${path}/all.zip`, download: "" }, "All as a zip")];
    if (kind === "lay")
      links.push(
        el("a", { class: "act edge", href: `${path}/model.glb`, download: "" }, "Model with it"),
        el("a", { class: "act edge", href: `${path}/model-obj.zip`, download: "" }, "As OBJ"),
        el("a", { class: "act edge", href: `${path}/model-usd.zip`, download: "" }, "As USD"),
      );
    if (job.result.misses)
      links.push(
        el(
          "button",
          {
            class: "act edge",
            type: "button",
            onclick: () => this.page.form.wear({ base: `${path}/${encodeURIComponent(job.result.misses)}` }),
          },
          "Show where",
        ),
      );
    const done = `${kind === "bake" ? "Baked" : "Laid on"}: ${job.result.files.length} files.${missed}`;
    const worn = this.worn(kind, shown, path);
    if (Object.keys(worn).length)
      links.push(
        el(
          "button",
          { class: "act edge", type: "button", onclick: () => this.page.form.wear(worn) },
          "See it on the model",
        ),
      );
    line.replaceChildren(el("span", {}, done), ...links);
    if (kind === "lay" && worn.base) line.append(beforeAfter(this.page.form, path, worn));
    line.after(
      el(
        "div",
        { class: "made-maps" },
        ...shown.map(f =>
          el(
            "a",
            { href: `${path}/${encodeURIComponent(f.file)}`, target: "_blank", title: f.file },
            el("img", { src: `${path}/${encodeURIComponent(f.file)}`, alt: f.map || f.file, loading: "lazy" }),
            el("span", { class: "quiet" }, f.map || f.file.replace(/^.*_/, "").replace(/\.png$/, "")),
          ),
        ),
      ),
    );
  }
}
