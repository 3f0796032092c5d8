// The board itself: pegs of maps, channels of files, and the threads that hang between them.
import { el, icon, svg } from "../../base/api.js";

const PLACES = ["R", "G", "B", "A"];

export class Cloth {
  /** @type {any} The profile as it is being drawn */
  draft;
  /** @type {any[]} What may be packed */
  maps;
  /** @type {any} */
  formats;
  /** @type {() => void} */
  changed;
  /** @type {(file: any) => void} */
  choose;
  /** @type {() => any} */
  chosen;

  constructor(draft, maps, formats, { changed, choose, chosen }) {
    Object.assign(this, { draft, maps, formats, changed, choose, chosen });
    this.lines = svg("svg", { class: "threads", "aria-hidden": "true" });
    this.node = el("div", { class: "cloth" }, this.left(), this.right());
    this.node.append(this.lines);
    this.watch = new ResizeObserver(() => this.lay());
    this.watch.observe(this.node);
    this.node.addEventListener("scroll", () => this.lay(), true);
  }

  away() {
    this.watch.disconnect();
  }

  left() {
    return el(
      "div",
      { class: "pegs", "aria-label": "Maps" },
      ...this.maps.map(m =>
        el(
          "div",
          {
            class: `peg-map${m.made ? "" : " absent"}`,
            "data-dye": m.dye,
            title: m.made ? "" : "The material has no such map: what stands in for it is written",
          },
          el("b", {}, m.title),
          el(
            "span",
            { class: "parts" },
            ...m.parts.map(p =>
              el(
                "button",
                {
                  class: "peg",
                  type: "button",
                  "data-map": m.name,
                  "data-part": p,
                  title: `${m.title}${p ? `, ${p}` : ""}: drag it to a channel`,
                  onpointerdown: e => this.drag(e, m.name, p),
                  onclick: e => {
                    if (e.detail === 0) this.hold(m.name, p);
                  },
                },
                p === "luminance" ? "lum" : p || "●",
              ),
            ),
          ),
        ),
      ),
    );
  }

  // With the keyboard: hold a map, then press a channel
  hold(map, part) {
    this.held = { map, part };
    this.node.classList.add("holding");
  }

  right() {
    return el(
      "div",
      { class: "files" },
      ...this.draft.files.map((f, i) => this.file(f, i)),
      el(
        "button",
        {
          class: "act edge",
          type: "button",
          onclick: () => {
            this.draft.files.push({
              suffix: this.free("map"),
              channels: [{ constant: 0 }],
              colour: false,
              format: "png",
              depth: "8",
              dither: false,
              quality: 92,
              compression: "fast",
              palette: 0,
              share: 1,
              optional: false,
              alpha_if_any: null,
            });
            this.changed();
          },
        },
        "Another file",
      ),
    );
  }
  free(name) {
    let n = name,
      k = 2;
    while (this.draft.files.some(f => f.suffix.toLowerCase() === n)) n = `${name}${k++}`;
    return n;
  }

  file(f, i) {
    const put = (key, value) => {
      f[key] = value;
      this.changed();
    };
    const alpha = !["jpeg", "bmp"].includes(f.format),
      counts = [1, ...(alpha ? [2] : []), 3, ...(alpha ? [4] : [])];
    const grow = n => {
      while (f.channels.length < n) f.channels.push({ constant: f.channels.length === 3 ? 1 : 0 });
      f.channels.length = n;
      this.changed();
    };
    const option = (value, now, words) =>
      el("option", { value, selected: String(value) === String(now) }, words ?? String(value));
    const places = f.channels.length === 1 ? ["grey"] : f.channels.length === 2 ? ["grey", "A"] : PLACES;
    return el(
      "section",
      { class: "file", "data-file": f.suffix },
      el("div", { class: "slots" }, ...f.channels.map((c, k) => this.slot(c, i, k, places[k]))),
      el(
        "div",
        { class: "line" },
        el("input", {
          type: "text",
          value: f.suffix,
          "aria-label": "Suffix of the file",
          onchange: e => put("suffix", e.target.value),
        }),
        el(
          "button",
          {
            class: "act push",
            type: "button",
            "aria-label": `Take ${f.suffix} out`,
            onclick: () => {
              if (this.draft.files.length > 1) {
                this.draft.files.splice(i, 1);
                this.changed();
              }
            },
          },
          icon("x"),
        ),
        el(
          "select",
          {
            "aria-label": "Format",
            onchange: e => {
              f.format = e.target.value;
              if (!this.formats[f.format].includes(f.depth)) f.depth = this.formats[f.format][0];
              if (["jpeg", "bmp"].includes(f.format) && [2, 4].includes(f.channels.length)) f.channels.length -= 1;
              this.changed();
            },
          },
          ...Object.keys(this.formats).map(n =>
            option(n, f.format, { openexr: "EXR", targa: "TGA", jpeg: "JPEG", webp: "WebP" }[n] || n.toUpperCase()),
          ),
        ),
        el(
          "select",
          { "aria-label": "Bits", onchange: e => put("depth", e.target.value) },
          ...this.formats[f.format].map(d => option(d, f.depth, { 8: "8 bit", 16: "16 bit" }[d] || d)),
        ),
        el(
          "select",
          { "aria-label": "Channels", onchange: e => grow(+e.target.value) },
          ...counts.map(n => option(n, f.channels.length, { 1: "grey", 2: "grey + A", 3: "RGB", 4: "RGB + A" }[n])),
        ),
        el(
          "select",
          { "aria-label": "Compression", title: "PNG and TIFF", onchange: e => put("compression", e.target.value) },
          option("fast", f.compression, "quick"),
          option("small", f.compression, "smallest"),
        ),
        this.tick("colour", f.colour, v => put("colour", v), "sRGB colour; everything else is data, without a tag"),
        this.tick("dither", f.dither, v => put("dither", v), "A code of noise before rounding to 8 bits"),
        this.tick("if any", f.optional, v => put("optional", v), "Left out where the material has no such map"),
        this.tick("palette", f.palette > 0, v => put("palette", v ? 256 : 0), "PNG with 256 colours"),
        this.tick("half size", f.share === 2, v => put("share", v ? 2 : 1), "Half as many texels each way"),
        this.tick(
          "opacity in alpha",
          !!f.alpha_if_any,
          v => put("alpha_if_any", v ? { thread: "opacity" } : null),
          "Where the material has one",
        ),
      ),
    );
  }
  tick(title, on, put, hint) {
    return el(
      "label",
      { class: "tick", title: hint },
      el("input", { type: "checkbox", checked: on, onchange: e => put(e.target.checked) }),
      ` ${title}`,
    );
  }

  slot(c, file, channel, place) {
    const on = this.chosen(),
      words = c.thread
        ? `${c.invert ? "1 − " : ""}${c.thread}${c.part ? `.${c.part}` : ""}` +
          `${c.times ? ` × ${c.times}` : ""}${c.curve?.length ? " ∿" : ""}`
        : String(c.constant ?? 0);
    const dye = this.maps.find(m => m.name === c.thread)?.dye;
    return el(
      "button",
      {
        class: "slot",
        type: "button",
        "data-slot": `${file}:${channel}`,
        "data-dye": dye || "helper",
        "aria-pressed": String(on?.file === file && on?.channel === channel),
        onclick: () => {
          if (this.held) {
            this.tie(this.held.map, this.held.part, file, channel);
            this.held = null;
            return;
          }
          this.choose({ file, channel });
          for (const s of this.node.querySelectorAll(".slot"))
            s.setAttribute("aria-pressed", String(s.dataset.slot === `${file}:${channel}`));
        },
      },
      el("i", {}, place),
      el("span", {}, words),
    );
  }

  tie(map, part, file, channel) {
    const old = this.draft.files[file].channels[channel];
    this.draft.files[file].channels[channel] = {
      thread: map,
      ...(part ? { part } : {}),
      ...(old.invert ? { invert: true } : {}),
    };
    this.choose({ file, channel });
    this.changed();
  }

  drag(e, map, part) {
    if (e.button !== 0) return;
    e.preventDefault();
    const from = this.leaves(e.currentTarget),
      line = svg("path", { class: "loose" });
    this.lines.append(line);
    const box = this.node.getBoundingClientRect();
    const move = m =>
      line.setAttribute("d", this.curve(from, [m.clientX - box.left, m.clientY - box.top + this.node.scrollTop]));
    const up = m => {
      removeEventListener("pointermove", move);
      removeEventListener("pointerup", up);
      line.remove();
      const slot = document.elementFromPoint(m.clientX, m.clientY)?.closest(".slot");
      if (slot && this.node.contains(slot)) this.tie(map, part, ...slot.dataset.slot.split(":").map(Number));
    };
    addEventListener("pointermove", move);
    addEventListener("pointerup", up);
  }

  // Threads leave a map at its right border, one a part, so that none runs over a peg
  leaves(peg) {
    const map = peg.closest(".peg-map"),
      parts = [...map.querySelectorAll(".peg")],
      [x, y] = this.place(map, 1);
    return [x, y + (parts.indexOf(peg) - (parts.length - 1) / 2) * 5];
  }
  place(node, side) {
    const a = node.getBoundingClientRect(),
      b = this.node.getBoundingClientRect();
    // Threads scroll with the files
    return [a.left - b.left + (side ? a.width : 0), a.top - b.top + a.height / 2 + this.node.scrollTop];
  }
  /** A thread that hangs a little, as yarn does.
   * @param {number[]} from
   * @param {number[]} to
   */
  curve([x0, y0], [x1, y1]) {
    const sag = 10 + 0.06 * Math.abs(x1 - x0),
      mid = (x1 - x0) * 0.45;
    return `M${x0},${y0}C${x0 + mid},${y0 + sag} ${x1 - mid},${y1 + sag} ${x1},${y1}`;
  }

  lay() {
    if (!this.node.isConnected) return;
    const made = [];
    for (const [i, f] of this.draft.files.entries()) {
      for (const [k, c] of f.channels.entries()) {
        const slot = this.node.querySelector(`[data-slot="${i}:${k}"]`);
        for (const name of [c.thread, c.times].filter(Boolean)) {
          const own = name === c.thread ? c.part || "" : "",
            pegs = [...this.node.querySelectorAll(`.peg[data-map="${name}"]`)],
            peg = pegs.find(p => p.dataset.part === own) || pegs[0];
          if (peg && slot)
            made.push(
              svg("path", {
                d: this.curve(this.leaves(peg), this.place(slot, 0)),
                "data-dye": peg.closest("[data-dye]").dataset.dye,
                class: name === c.times ? "weft" : "",
              }),
            );
        }
      }
    }
    this.lines.replaceChildren(...made);
  }
}
