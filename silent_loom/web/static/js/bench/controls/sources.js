// The files behind a row: its photo, or the maps of a set and how each is read.
import { el } from "../../base/api.js";

export function photoControls(controls) {
  const file = el("input", {
    type: "file",
    class: "d-none",
    "aria-label": "Other photo",
    onchange: () => file.files[0] && controls.state.otherPhoto(controls.row.id, file.files[0]),
  });
  return {
    node: el(
      "div",
      {},
      el("div", { class: "note" }, controls.row.words || "No photo chosen"),
      file,
      el(
        "button",
        { class: "act edge mb-2", type: "button", onclick: () => file.click() },
        "Put another photo through",
      ),
    ),
  };
}

const READ_AS = { tagged: "as the file says", srgb: "sRGB", linear: "linear" };

export function mapsControls(controls) {
  const { state } = controls,
    names = state.weave.sources || {};
  const list = el("ul", { class: "layers sources" });
  const isColour = m => state.threads.find(t => t.name === m.thread)?.kind === "colour";
  const words = (m, read) =>
    ` ${names[m.source] || ""}${m.channel === "rgb" ? "" : `, ${m.channel}`}` +
    `${m.invert ? ", inverted" : ""}${m.green_down ? ", green turned" : ""}${read ? ` (${read})` : ""}`;
  const choice = (maps, i) => {
    const m = maps[i],
      ways = Object.entries(READ_AS).filter(([k]) => k !== "linear" || isColour(m));
    const take = e => {
      controls.try({ maps: maps.map((o, k) => (k === i ? { ...o, read_as: e.target.value } : o)) });
      controls.settle();
    };
    return el(
      "select",
      { "aria-label": `${m.thread} is read as`, onchange: take },
      ...ways.map(([k, title]) =>
        el("option", { value: k, selected: m.read_as === k }, k === "tagged" && !isColour(m) ? "data" : title),
      ),
    );
  };
  const build = () => {
    const { maps } = controls.settings,
      read = state.figures.rows[controls.row.id]?.figures?.read || [];
    list.replaceChildren(
      ...maps.map((m, i) =>
        el(
          "li",
          {},
          el("span", {}, el("b", {}, m.thread), el("span", { class: "quiet" }, words(m, read[i]))),
          choice(maps, i),
        ),
      ),
    );
  };
  state.on("figures", () => {
    if (list.isConnected) build();
  });
  return { node: list, update: build };
}
