// The delivery sheet.
import { openSheet } from "./dock.js";
import { get, post, since } from "../../base/api.js";

const megabytes = (n) => n > 1e6 ? `${(n / 1e6).toFixed(1)} MB` : `${Math.ceil(n / 1e3)} kB`;

// What the files are called after the name that they share
function ends(files) {
  let n = 0;
  while (files.length > 1 && files.every((f) => f[n] && f[n] === files[0][n])) n++;
  return files.map((f) => `…${f.slice(n)}`).join(", ");
}

export function delivery(state) {
  return () => ({
    profiles: [], deliveries: [], chosen: "plain", size: 1024, aspect: 1, holds: null, mm: [1000, 1000], job: null, error: "", proof: null,
    get sizes() { return [256, 512, 1024, 2048, 4096, 8192]; },
    get running() { return !!this.job && ["waiting", "running"].includes(this.job.state); },
    get percent() { return this.job ? Math.round(this.job.fraction * 100) : 0; },
    get jobWords() { return this.job ? `${this.percent} % · ${this.job.words} · ${this.job.seconds.toFixed(1)} s` : ""; },
    get warnings() { return this.job?.result.manifest?.warnings || []; },
    get sizeWords() {
      const short = Math.round(this.aspect >= 1 ? this.size / this.aspect : this.size * this.aspect);
      const [w, h] = this.aspect >= 1 ? [this.size, short] : [short, this.size];
      const beyond = this.holds && this.size > 1.2 * this.holds ? ` More than the source holds (about ${this.holds}): larger files, no more detail.` : "";
      return `${w} × ${h} texels, ${(this.size / Math.max(...this.mm) * 10).toFixed(1)} a centimetre.${beyond}`;
    },
    async open() { this.error = ""; openSheet(this.$root); await this.load(); },
    async load() {
      try {
        const found = await get(`${state.path}/deliveries`);
        this.profiles = found.profiles.map((p) => ({ ...p, list: ends(p.files), chosen: String(p.name === this.chosen) }));
        this.deliveries = found.deliveries.map((d) => ({ ...d, address: `/api/deliveries/${d.id}/file`, facts: `${megabytes(d.bytes)} · ${since(d.at)}` }));
        this.aspect = found.aspect;
        this.holds = found.source_texels;
        this.mm = found.size_mm;
      } catch (e) { this.error = e.message; }
    },
    choose(p) { this.chosen = p.name; this.profiles = this.profiles.map((q) => ({ ...q, chosen: String(q.name === p.name) })); },
    // The files read back, map by map, against the live material
    async prove(d) {
      this.error = "";
      this.proof = null;
      try {
        this.job = await post(`/api/deliveries/${d.id}/proof`);
        await this.watch();
        const done = this.job;
        if (done?.state !== "done") return;
        const number = (v) => (v < 0.01 ? "0" : v.toFixed(2));
        this.proof = { file: d.file, same: done.result.same, verdict: done.result.same ? "What a receiver reads is what was meant." : "A receiver reads something else:",
          lines: done.result.maps.map((m) => ({ map: state.threads.find((t) => t.name === m.map)?.title || m.map, says: `${m.same ? "the same" : m.mistake || "different"}${m.difference ? `, at most ${number(m.difference.max_code)} codes` : ""}` })) };
      } catch (e) { this.error = e.message; }
    },
    async start() {
      this.error = "";
      try {
        await state.settle();
        this.job = await post(`${state.path}/deliver`, { profile: this.chosen, size: this.size });
        this.watch();
      } catch (e) { this.error = e.message; }
    },
    async watch() {
      while (this.running) {
        await new Promise((r) => setTimeout(r, 200));
        try { this.job = await get(`/api/jobs/${this.job.id}`); } catch (e) { this.error = e.message; this.job = null; return; }
        if (this.$refs.bar) this.$refs.bar.style.width = `${this.percent}%`;
      }
      await this.load();
    },
    async stop() { await post(`/api/jobs/${this.job.id}/cancel`); },
    init() { document.getElementById("deliver").addEventListener("click", () => this.open()); },
  });
}
