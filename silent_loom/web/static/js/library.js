import Alpine from "/static/vendor/alpine/alpine.csp.min.js";
import { cm, get, post, send, since } from "./api.js";

document.addEventListener("alpine:init", () => {
  Alpine.data("library", () => ({
    materials: [], binned: false, inBin: 0, error: "", busy: "", over: false,
    init() {
      document.getElementById("theme").addEventListener("click", window.switchTheme);
      addEventListener("paste", (e) => this.take([...e.clipboardData.files]));
      addEventListener("dragover", (e) => { e.preventDefault(); this.over = true; document.body.classList.add("over"); });
      addEventListener("dragleave", (e) => { if (!e.relatedTarget) { this.over = false; document.body.classList.remove("over"); } });
      addEventListener("drop", (e) => { e.preventDefault(); this.over = false; document.body.classList.remove("over"); this.take([...e.dataTransfer.files]); });
      this.load();
    },
    get counted() { return this.binned ? "Bin" : `${this.materials.length} materials`; },
    get binLabel() { return this.binned ? "Back to the library" : `Bin (${this.inBin})`; },
    get emptyBin() { return this.binned && !this.materials.length; },
    get dropWords() { return this.busy || "Begin a material"; },
    get dropClass() { return this.over ? "over" : ""; },
    clearError() { this.error = ""; },
    async guard(work) {
      try { return await work(); } catch (e) { this.error = e.message; this.busy = ""; return null; }
    },
    async load() {
      await this.guard(async () => {
        const found = await get(`/api/materials?binned=${this.binned}`);
        this.inBin = found.in_bin;
        this.materials = found.materials.map((m) => ({
          ...m,
          address: `/bench/${m.id}`,
          picture: `/api/materials/${m.id}/card.png?entry=${m.head}`,
          facts: m.error || `${cm(m.size_mm[0])} × ${cm(m.size_mm[1])} a repeat · ${m.steps} steps · ${since(m.changed)}`,
        }));
        // A fresh demo fills its library while the page is already open
        if (!found.ready && !this.binned && this.materials.length < 4) setTimeout(() => this.load(), 700);
      });
    },
    pick() { this.$refs.file.click(); },
    picked(event) { this.take([...event.target.files]); event.target.value = ""; },
    async take(files) {
      if (!files.length) return;
      this.error = "";
      let last = null;
      for (const file of files) {
        this.busy = `Reading ${file.name || "the picture"} …`;
        const form = new FormData();
        form.append("photo", file, file.name || "pasted.png");
        last = (await this.guard(() => send("/api/materials", form))) || last;
      }
      this.busy = "";
      if (last && files.length === 1) location.href = `/bench/${last.id}`;
      else this.load();
    },
    async tryOne() {
      const name = this.$root.dataset.try;
      const body = await (await fetch(`/demo/${name}.jpg`)).blob();
      this.take([new File([body], `${name}.jpg`, { type: "image/jpeg" })]);
    },
    toggleBin() { this.binned = !this.binned; this.load(); },
    async rename(m) {
      const name = prompt("Name", m.name);
      if (name !== null) { await this.guard(() => post(`/api/materials/${m.id}/rename`, { name })); this.load(); }
    },
    async duplicate(m) { await this.guard(() => post(`/api/materials/${m.id}/duplicate`)); this.load(); },
    async bin(m) { await this.guard(() => post(`/api/materials/${m.id}/bin`)); this.load(); },
    async restore(m) { await this.guard(() => post(`/api/materials/${m.id}/restore`)); this.load(); },
  }));
});
Alpine.start();
