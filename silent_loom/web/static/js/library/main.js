import { telling } from "../base/filenames.js";
import Alpine from "/static/vendor/alpine/alpine.csp.min.js";
import { cm, el, get, picture, post, send, since } from "../base/api.js";
import { fieldUnit, length, parse } from "../base/units.js";
import { openMany } from "./many.js";
import { openPatterns } from "./patterns.js";
import { openRecipes } from "./recipes.js";
import { openWords } from "./words.js";

// Names by which a picture is taken for a map of a set
const MAP_NAME = new RegExp(
  "(normal|nrm|nor|rough|metal|height|disp|occlusion|(^|[_.-])ao([_.-]|$)|albedo|basecolou?r|diff|orm|gloss)",
  "i",
);
const drawn = new Map(); // pictures of cards that this page has, by material and state
let asking = 0; // which question about the list is the last

document.addEventListener("alpine:init", () => {
  Alpine.data("library", () => ({
    materials: [],
    binned: false,
    inBin: 0,
    error: "",
    busy: "",
    over: false,
    words: "",
    sale: "",
    sets: [],
    token: "",
    tableError: "",
    options: [],
    init() {
      document.getElementById("theme").addEventListener("click", window.switchTheme);
      addEventListener("paste", e => this.sort([...e.clipboardData.files]));
      addEventListener("dragover", e => {
        e.preventDefault();
        this.over = true;
        document.body.classList.add("over");
      });
      addEventListener("dragleave", e => {
        if (!e.relatedTarget) {
          this.over = false;
          document.body.classList.remove("over");
        }
      });
      addEventListener("drop", e => {
        e.preventDefault();
        this.over = false;
        document.body.classList.remove("over");
        this.dropped(e.dataTransfer);
      });
      this.load();
    },
    get counted() {
      return this.binned ? "Bin" : `${this.materials.length} materials`;
    },
    get shown() {
      const wanted = this.words.toLowerCase().split(/\s+/).filter(Boolean);
      return this.materials.filter(m => {
        const text = `${m.name} ${m.source} ${Object.values(m.origin).join(" ")}`.toLowerCase();
        return wanted.every(w => text.includes(w)) && (!this.sale || m.origin.sale === this.sale);
      });
    },
    get filtered() {
      return this.words || this.sale ? `${this.shown.length} of ${this.materials.length}` : "";
    },
    get binLabel() {
      return this.binned ? "Back to the library" : `Bin (${this.inBin})`;
    },
    get emptyBin() {
      return this.binned && !this.materials.length;
    },
    get dropWords() {
      return this.busy || "Begin a material";
    },
    get dropClass() {
      return this.over ? "over" : "";
    },
    clearError() {
      this.error = "";
    },
    async guard(work) {
      try {
        return await work();
      } catch (e) {
        this.error = e.message;
        this.busy = "";
        return null;
      }
    },
    async load(more = false) {
      const asked = ++asking;
      await this.guard(async () => {
        const found = await get(`/api/materials?binned=${this.binned}`);
        // Somebody went to the bin or back meanwhile: an answer that was asked for before must not come last
        if (asked !== asking) return;
        // A fresh demo fills its library while the page is already open
        if (!found.ready && !this.binned)
          setTimeout(
            () => {
              if (asked === asking) this.load(true);
            },
            found.materials.length < 4 ? 700 : 2000,
          );
        if (more && found.materials.length === this.materials.length) return;
        this.inBin = found.in_bin;
        this.materials = found.materials.map(m => ({
          ...m,
          address: `/bench/${m.id}`,
          archive: `/api/materials/${m.id}/archive`,
          takes: Boolean(m.photo_row) && !this.binned,
          picture: drawn.get(`${m.id} ${m.head}`) || "",
          // The photo as it came, until the picture of the surface is there
          photo: m.photo_row ? `/api/materials/${m.id}/photo.jpg?step_id=${m.photo_row}&size=480` : "",
          rights: [m.origin.author, m.origin.licence, { yes: "may be sold", no: "may not be sold" }[m.origin.sale]]
            .filter(Boolean)
            .join(" · "),
          facts: m.error || `${cm(m.size_mm[0])} × ${cm(m.size_mm[1])} · ${since(m.changed)}`,
        }));
        for (const m of this.materials) this.draw(m);
      });
    },
    async draw(m) {
      const of = `${m.id} ${m.head}`,
        here = () => this.materials.find(n => `${n.id} ${n.head}` === of);
      if (m.picture || m.broken) return;
      try {
        const made = await picture(`/api/materials/${m.id}/card.png?entry=${m.head}`, here);
        if (!made) return;
        drawn.set(of, made.src);
        here().picture = made.src;
      } catch {
        /* its facts say what is wrong with it */
      }
    },
    pick() {
      this.$refs.file.click();
    },
    picked(event) {
      this.take([...event.target.files]);
      event.target.value = "";
    },
    // Other photos through the weave of a material, each a material of its own
    again(m) {
      this.like = m;
      this.$refs.again.click();
    },
    async pickedAgain(event) {
      const files = [...event.target.files],
        like = this.like;
      event.target.value = "";
      let last = null;
      for (const [i, file] of files.entries()) {
        this.busy = `${file.name} through ${like.name} (${i + 1} of ${files.length}) …`;
        const form = new FormData();
        form.append("photo", file, file.name);
        last = (await this.guard(() => send(`/api/materials/${like.id}/again`, form))) || last;
      }
      this.busy = "";
      if (last && files.length === 1) location.href = `/bench/${last.id}`;
      else this.load();
    },
    pickArchive() {
      this.$refs.archive.click();
    },
    pickedArchive(event) {
      this.takeIn(event.target.files[0]);
      event.target.value = "";
    },
    // A material that was written into one file, here or on another machine
    async takeIn(file) {
      if (!file) return;
      this.busy = "Taking the material in …";
      const form = new FormData();
      form.append("file", file, file.name);
      await this.guard(() => send("/api/archives", form));
      this.busy = "";
      this.load();
    },
    pickSet() {
      this.$refs.set.click();
    },
    pickedSet(event) {
      this.open([...event.target.files]);
      event.target.value = "";
    },
    async patterns() {
      await this.guard(openPatterns);
    },
    async recipes() {
      await this.guard(openRecipes);
    },
    inWords() {
      openWords();
    },
    many() {
      openMany();
    },
    async blank() {
      const made = await this.guard(() => post("/api/materials/blank", {}));
      if (made) location.href = `/bench/${made.id}`;
    },
    // A folder comes as entries: everything below it is taken
    async dropped(transfer) {
      const entries = [...(transfer.items || [])].map(i => i.webkitGetAsEntry?.()).filter(Boolean),
        files = [];
      let folder = false;
      const walk = async entry => {
        if (entry.isFile) files.push(await new Promise((done, fail) => entry.file(done, fail)));
        else {
          folder = true;
          const reader = entry.createReader();
          for (let part; (part = await new Promise((done, fail) => reader.readEntries(done, fail))).length;)
            for (const e of part) await walk(e);
        }
      };
      if (entries.length)
        await this.guard(async () => {
          for (const e of entries) await walk(e);
        });
      if (!files.length) files.push(...transfer.files);
      if (folder) this.open(files);
      else this.sort(files);
    },
    // One picture is a photo; a zip, or several that are named as maps, are a set
    sort(files) {
      const maps = files.filter(f => MAP_NAME.test(f.name));
      if (files.some(f => /\.(zip|gltf|glb|mtlx)$/i.test(f.name)) || (files.length > 1 && maps.length > 1))
        this.open(files);
      else this.take(files);
    },
    async open(files) {
      if (!files.length) return;
      this.error = "";
      // A delivery of our own says itself what its pictures hold
      const ours = files.some(f => f.name === "manifest.json");
      if (!ours && files.some(f => /\.(gltf|glb|mtlx)$/i.test(f.name))) return this.elsewhere(files);
      this.busy = `Looking at ${files.length === 1 ? files[0].name : `${files.length} files`} …`;
      const form = new FormData();
      for (const f of files) form.append("files", f, f.name);
      const found = await this.guard(() => send("/api/open", form));
      this.busy = "";
      if (!found) return;
      this.token = found.token;
      this.options = [{ name: "", title: "left out" }, ...found.threads];
      const kinds = Object.fromEntries(found.threads.map(t => [t.name, t.kind]));
      this.tableError = "";
      this.sets = found.sets.map((s, i) => ({
        key: i,
        name: s.name.replace(/_/g, " ") || "Material",
        width: length(s.width_mm || 1000),
        depth: length(s.depth_mm || 10),
        repeats: true,
        notes: s.notes,
        doubts: s.doubts,
        missing: "",
        rows: s.files.flatMap((f, j) =>
          f.channels.map((c, k) => ({
            key: `${j}.${k}`,
            path: f.path,
            file: k ? "" : f.file,
            facts: k ? "" : `${f.width} × ${f.height}, ${f.bits} bit`,
            notes: k ? [] : f.notes,
            channel: c.channel,
            looks:
              c.looks_like +
              (kinds[c.map] === "normal"
                ? `, green ${f.green}${f.green_confidence ? ` (${Math.round(100 * f.green_confidence)} %)` : ""}`
                : ""),
            map: c.map === "smoothness" ? "roughness" : this.options.some(o => o.name === c.map) ? c.map : "",
            invert: c.map === "smoothness",
            green_down: kinds[c.map] === "normal" && f.green === "down",
            label: `${f.file}, ${c.channel}`,
            get isNormal() {
              return kinds[this.map] === "normal";
            },
            get isRough() {
              return this.map === "roughness";
            },
            get isHeight() {
              return this.map === "height";
            },
          })),
        ),
      }));
      for (const s of this.sets) {
        const seen = new Set();
        for (const r of s.rows) {
          if (r.map && seen.has(r.map)) r.map = "";
          seen.add(r.map);
        }
      }
      for (const s of this.sets) this.lacks(s);
      this.$refs.table.showModal();
    },
    // A material with factors, graphs and transforms is worked out into plain maps; what could not come along is said
    async elsewhere(files) {
      this.busy = "Working it out into plain maps …";
      const form = new FormData();
      for (const f of files) form.append("files", f, f.name);
      const made = await this.guard(() => send("/api/elsewhere", form));
      this.busy = "";
      if (!made) return;
      const left = made.materials.flatMap(m => m.left_out.map(w => `${m.name}: ${w}`));
      if (made.materials.length === 1 && !left.length) location.href = `/bench/${made.materials[0].id}`;
      else {
        if (left.length) this.error = `Taken in; left out: ${left.join("; ")}. It stands under Origin as well.`;
        this.load();
      }
    },
    isFirst(s) {
      return this.sets.indexOf(s) === 0;
    },
    joinWords(s) {
      const before = this.sets[this.sets.indexOf(s) - 1];
      return before ? `Join with ${before.name}` : "";
    },
    // Two sets that are one material: the rows of the second go to the first
    join(s) {
      const at = this.sets.indexOf(s),
        first = this.sets[at - 1];
      const taken = new Set(first.rows.map(r => r.map).filter(Boolean));
      for (const r of s.rows) if (taken.has(r.map)) r.map = "";
      first.rows.push(...s.rows.map(r => Object.assign(r, { key: `${s.key}-${r.key}` })));
      first.notes.push(...s.notes.filter(n => !n.startsWith("No base colour")));
      this.sets.splice(at, 1);
      this.lacks(first);
    },
    // What the maps of a set say together, put right: two of them change places, or one is turned over
    settle(s, doubt) {
      const [a, b] = doubt.maps.map(name => s.rows.find(r => r.map === name));
      if (doubt.mend === "swap" && a && b) {
        [a.map, b.map] = [b.map, a.map];
        [a.invert, b.invert] = [b.invert, a.invert];
      } else if (a) a.invert = !a.invert;
      s.doubts = s.doubts.filter(d => d !== doubt);
      this.lacks(s);
    },
    // What a set lacks, and what it will be made from; asked again when the table changes
    async lacks(s) {
      const maps = [...new Set(s.rows.map(r => r.map).filter(Boolean))];
      try {
        const { missing } = await post("/api/open/missing", { maps });
        s.missing = missing.length
          ? `Missing: ${missing.map(m => `${m.map.toLowerCase()} (made from ${m.from})`).join(", ")}`
          : "Nothing is missing.";
      } catch {
        s.missing = "";
      }
    },
    closeTable() {
      this.$refs.table.close();
    },
    async makeSets() {
      let last = null;
      try {
        for (const s of this.sets) {
          s.width_mm = parse(s.width, fieldUnit("mm", 1));
          s.depth_mm = parse(s.depth, fieldUnit("mm", 1));
          if (!(s.depth_mm >= 0.001))
            throw new Error(`${s.name}: how deep is its height, from black to white? Type for example 10 mm or 1 in.`);
          if (!(s.width_mm >= 0.01))
            throw new Error(`${s.name}: how wide is a repeat? Type for example 1 m, 60 cm or 5 in.`);
        }
        for (const s of this.sets) {
          const maps = s.rows
            .filter(r => r.map)
            .map(r => ({
              path: r.path,
              thread: r.map,
              channel: r.channel,
              invert: (r.isRough || r.isHeight) && r.invert,
              green_down: r.isNormal && r.green_down,
            }));
          if (maps.length)
            last = await post("/api/open/make", {
              token: this.token,
              name: s.name,
              maps,
              width_mm: s.width_mm,
              depth_mm: s.depth_mm,
              repeats: s.repeats,
            });
        }
      } catch (e) {
        this.tableError = e.message;
        return;
      }
      this.$refs.table.close();
      if (last && this.sets.length === 1) location.href = `/bench/${last.id}`;
      else this.load();
    },
    async take(files) {
      if (!files.length) return;
      this.error = "";
      let last = null;
      const names = telling(files);
      for (const [i, file] of files.entries()) {
        this.busy = `Reading ${file.name || "the picture"} …`;
        const form = new FormData();
        form.append("photo", file, names[i]);
        last = (await this.guard(() => send("/api/materials", form))) || last;
      }
      this.busy = "";
      if (last && files.length === 1) location.href = `/bench/${last.id}#new`;
      else this.load();
    },
    async tryOne() {
      const name = this.$root.dataset.try;
      const body = await (await fetch(`/demo/${name}.jpg`)).blob();
      this.take([new File([body], `${name}.jpg`, { type: "image/jpeg" })]);
    },
    toggleBin() {
      this.binned = !this.binned;
      this.load();
    },
    // Renamed where it stands
    rename(m) {
      const card = document.querySelector(`[data-id="${m.id}"]`),
        link = card.querySelector(".about a");
      const field = el("input", {
        class: "name-field",
        type: "text",
        value: m.name,
        "aria-label": `New name of ${m.name}`,
        maxlength: 200,
      });
      let done = false;
      const end = async keep => {
        if (done) return;
        done = true;
        const name = field.value.trim();
        field.remove();
        link.hidden = false;
        if (keep && name && name !== m.name) {
          await this.guard(() => post(`/api/materials/${m.id}/rename`, { name }));
          this.load();
        }
      };
      field.addEventListener("keydown", e => {
        if (e.key === "Enter") end(true);
        if (e.key === "Escape") end(false);
      });
      field.addEventListener("blur", () => end(true));
      link.hidden = true;
      link.before(field);
      field.select();
    },
    async lastReadable(m) {
      await this.guard(() => post(`/api/materials/${m.id}/last-readable`));
      this.load();
    },
    async duplicate(m) {
      await this.guard(() => post(`/api/materials/${m.id}/duplicate`));
      this.load();
    },
    async bin(m) {
      await this.guard(() => post(`/api/materials/${m.id}/bin`));
      this.load();
    },
    async restore(m) {
      await this.guard(() => post(`/api/materials/${m.id}/restore`));
      this.load();
    },
  }));
});
Alpine.start();
