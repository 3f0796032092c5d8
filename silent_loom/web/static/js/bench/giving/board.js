// A profile drawn as a board: maps at the left, files with their channels at the right, threads between.
import { el, get, post } from "../../base/api.js";
import { Cloth } from "./cloth.js";
import { inspector } from "./channel.js";
import { Tried } from "./tried.js";

const MODELS = { glb: "GLB", gltf: "glTF", mtlx: "MaterialX", usda: "USD", usdz: "USDZ" };
const SQUARES = { keep: "keep its shape", repeats: "whole repeats", crop: "crop, closed again", squeeze: "squeeze" };

export function startBoard(state, saved) {
  const sheet = document.getElementById("board-sheet"),
    body = document.getElementById("profile-board");
  let known = null,
    draft = null,
    chosen = null,
    tried = null,
    cloth = null,
    size = 1024;
  sheet.querySelector("[data-board-close]").addEventListener("click", () => sheet.close());

  const say = words => {
    const n = body.querySelector("#board-error");
    n.textContent = words;
    n.hidden = !words;
  };
  const changed = (redraw = true) => {
    if (redraw) draw();
    tried.ask(draft, size);
  };

  function fresh(of) {
    const { ships, ...copy } = structuredClone(of);
    if (ships) {
      copy.name = free(`${copy.name}-mine`);
      copy.title = `${copy.title}, mine`;
    }
    copy.files = copy.files.map(f => ({
      ...f,
      channels: f.channels.map(whole),
      alpha_if_any: f.alpha_if_any === null ? null : whole(f.alpha_if_any),
    }));
    return copy;
  }
  // The short form of a channel taken apart
  function whole(c) {
    if (typeof c !== "string") return { ...c };
    if (c !== "" && !Number.isNaN(+c)) return { constant: +c };
    const invert = c.startsWith("1-"),
      [thread, part = ""] = c.replace(/^1-/, "").split(".");
    return { thread, ...(part ? { part } : {}), ...(invert ? { invert: true } : {}) };
  }
  function free(name) {
    let n = name,
      i = 2;
    while (known.profiles.some(p => p.name === n)) n = `${name}-${i++}`;
    return n;
  }

  const field = (title, node) => el("label", { class: "field" }, el("span", {}, title), node);
  const text = (key, more = {}) =>
    el("input", {
      type: "text",
      value: draft[key],
      ...more,
      onchange: e => {
        draft[key] = e.target.value;
        changed(false);
      },
    });
  const select = (value, options, put) =>
    el(
      "select",
      {
        onchange: e => {
          put(e.target.value);
          changed();
        },
      },
      ...options.map(([v, t]) => el("option", { value: v, selected: String(v) === String(value) }, t)),
    );

  function top() {
    const limit = (key, title, step = 1) =>
      field(
        title,
        el("input", {
          type: "number",
          min: 0,
          step,
          value: draft.limits[key] || "",
          placeholder: "no limit",
          "aria-label": title,
          onchange: e => {
            draft.limits[key] = +e.target.value || 0;
            changed(false);
          },
        }),
      );
    const check = (title, on, put) =>
      el(
        "label",
        { class: "tick" },
        el("input", {
          type: "checkbox",
          checked: on,
          onchange: e => {
            put(e.target.checked);
            changed();
          },
        }),
        ` ${title}`,
      );
    return el(
      "div",
      { class: "board-top" },
      field("Name", text("name", { id: "board-name", pattern: "[a-z0-9][a-z0-9-]*" })),
      field("Title", text("title", { id: "board-title-field" })),
      field(
        "File names",
        text("pattern", {
          title: Object.entries(known.tokens)
            .map(([t, w]) => `{${t}}: ${w}`)
            .join("\n"),
        }),
      ),
      field("In the model called", text("model", { placeholder: "as the material" })),
      field(
        "Green",
        select(
          draft.green,
          [
            ["up", "up"],
            ["down", "down"],
          ],
          v => {
            draft.green = v;
          },
        ),
      ),
      field(
        "Not square",
        select(draft.square, Object.entries(SQUARES), v => {
          draft.square = v;
        }),
      ),
      field(
        "Smaller sets",
        el("input", {
          type: "text",
          value: draft.sizes.join(", "),
          placeholder: "none; 512, 256",
          "aria-label": "Sizes of smaller sets",
          onchange: e => {
            draft.sizes = e.target.value
              .split(/[^0-9]+/)
              .filter(Boolean)
              .map(Number);
            changed();
          },
        }),
      ),
      el(
        "fieldset",
        { class: "field wide" },
        el("legend", {}, "Open materials beside"),
        ...Object.entries(MODELS).map(([m, t]) =>
          check(t, draft.models.includes(m), on => {
            draft.models = on ? [...draft.models, m] : draft.models.filter(x => x !== m);
          }),
        ),
      ),
      el(
        "details",
        { class: "limits" },
        el("summary", {}, "Limits of the receiver"),
        el(
          "div",
          { class: "board-top" },
          limit("files", "Pictures"),
          limit("size", "Longest side"),
          limit("total_mb", "MB of files", 0.1),
          limit("memory_mb", "MB of graphics memory", 0.1),
          check("compressed in blocks there", draft.limits.blocks, on => {
            draft.limits.blocks = on;
          }),
          check("powers of two", draft.limits.powers_of_two, on => {
            draft.limits.powers_of_two = on;
          }),
        ),
      ),
    );
  }

  function draw() {
    const kept = body.querySelector(".tried"),
      scrolled = [".cloth", ".board-side"].map(c => body.querySelector(c)?.scrollTop || 0);
    cloth?.away();
    cloth = new Cloth(draft, maps(), known.formats, {
      changed,
      choose: c => {
        chosen = c;
        pick();
      },
      chosen: () => chosen,
    });
    body.replaceChildren(
      el("div", { class: "note warn", id: "board-error", role: "alert", hidden: true }),
      top(),
      el(
        "div",
        { class: "board-cloth" },
        cloth.node,
        el("div", { class: "board-side" }, el("div", { id: "channel" }), kept || tried.node),
      ),
      el(
        "footer",
        {},
        el("span", { class: "quiet" }, "Drag from a map to a channel; press a channel to change it."),
        el(
          "button",
          { class: "act main push", type: "button", id: "board-save", onclick: save },
          "Keep " + "this profile",
        ),
      ),
    );
    pick();
    [".cloth", ".board-side"].forEach((c, i) => {
      body.querySelector(c).scrollTop = scrolled[i];
    }); // what was being looked at stays there
    cloth.lay();
  }
  const maps = () => {
    const own = state.threads
      .filter(t => t.made && !known.maps.some(m => m.name === t.name))
      .map(t => ({
        name: t.name,
        title: t.title,
        dye: t.dye || "helper",
        parts: t.channels === 3 ? ["r", "g", "b"] : [""],
      }));
    return [
      ...known.maps.map(m => ({ ...m, made: state.threads.some(t => t.name === m.name && t.made) })),
      ...own.map(m => ({ ...m, made: true })),
    ];
  };
  function pick() {
    const box = body.querySelector("#channel"),
      channel = chosen && draft.files[chosen.file]?.channels[chosen.channel];
    box.replaceChildren(
      ...(channel
        ? [
            inspector(
              channel,
              maps(),
              put => {
                draft.files[chosen.file].channels[chosen.channel] = put;
                changed();
              },
              () => {
                const f = draft.files[chosen.file];
                if (f.channels.length > 1) f.channels.splice(chosen.channel, 1);
                chosen = null;
                changed();
              },
            ),
          ]
        : [el("p", { class: "quiet" }, "Press a channel to set it in detail.")]),
    );
  }

  async function save() {
    const replace = known.profiles.some(p => p.name === draft.name && !p.ships);
    try {
      await post(`/api/profiles${replace ? "?replace=true" : ""}`, draft);
      sheet.close();
      saved(draft.name);
    } catch (error) {
      say(error.message);
    }
  }

  return async (name, at) => {
    size = at;
    known = await get("/api/profiles");
    draft = fresh(known.profiles.find(p => p.name === name) || known.profiles[0]);
    chosen = null;
    tried = new Tried(
      state,
      words => say(words),
      profile => {
        draft = { ...fresh(profile), name: draft.name, title: draft.title };
        draft = defaults(draft);
        changed();
      },
    );
    draft = defaults(draft);
    if (!sheet.open) sheet.showModal();
    draw();
    tried.ask(draft, size);
  };

  function defaults(p) {
    const limits = { files: 0, size: 0, total_mb: 0, memory_mb: 0, blocks: false, formats: [], powers_of_two: false };
    return {
      says: "",
      pattern: "{material}_{map}",
      model: "",
      tokens: {},
      green: "up",
      square: "keep",
      sizes: [],
      models: [],
      leaves_out: [],
      ...p,
      limits: { ...limits, ...p.limits },
      files: p.files.map(f => ({
        format: "png",
        depth: "8",
        colour: false,
        dither: false,
        quality: 92,
        compression: "fast",
        palette: 0,
        share: 1,
        optional: false,
        alpha_if_any: null,
        ...f,
      })),
    };
  }
}
