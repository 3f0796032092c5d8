// Height from a picture: which channel is read, and where the light came from.
import { beside, el, post } from "../../base/api.js";

const RELIEF = "relief_read"; // the thread that Read from light makes
const SHARES = { lightness: [0.2126, 0.7152, 0.0722], red: [1, 0, 0], green: [0, 1, 0], blue: [0, 0, 1] };

const pictures = list => el("div", { class: "cell-pictures four" }, ...list);

// The three channels and lightness, to choose by eye
function channels(controls) {
  const { state } = controls,
    box = el("div"),
    fold = el("details", { class: "more", id: "channels" }, el("summary", {}, "Choose a channel by eye"), box);
  const load = async () => {
    const row = controls.row;
    box.textContent = "…";
    try {
      const found = await beside(
        () => post(`${state.path}/channels`, { step_id: row.id }),
        () => box.isConnected,
      );
      if (!found) return;
      box.replaceChildren(
        pictures(
          Object.entries(found.channels).map(([name, src]) =>
            el(
              "figure",
              {},
              el(
                "button",
                {
                  class: "bare",
                  type: "button",
                  "data-channel": name,
                  title: `Read height from ${name}`,
                  onclick: () => {
                    const [red, green, blue] = SHARES[name];
                    controls.try({ red, green, blue });
                    controls.settle();
                  },
                },
                el("img", { alt: name, src }),
              ),
              el("figcaption", {}, name),
            ),
          ),
        ),
      );
    } catch (e) {
      box.replaceChildren(el("div", { class: "note" }, e.message));
    }
  };
  fold.addEventListener("toggle", () => {
    if (fold.open) load();
  });
  return fold;
}

// Where the light came from: told by a small sun on the picture, or by choosing the relief that looks right
export function sunPanel(controls) {
  const { state } = controls,
    both = el("div"),
    says = el("div", { class: "note", hidden: true });
  const which = el(
    "button",
    {
      class: "act edge",
      type: "button",
      id: "which-relief",
      title: "Two reliefs can throw the same shading: choose the one that is right",
    },
    "Which is right?",
  );
  const sun = el(
    "button",
    {
      class: "act",
      type: "button",
      id: "show-sun",
      "aria-pressed": false,
      title: "A small sun on the flat picture: drag it to where the light came from",
    },
    "Sun on the picture",
  );
  const none = el(
    "button",
    {
      class: "act",
      type: "button",
      id: "no-sun",
      onclick: () => {
        both.replaceChildren();
        controls.try({ light_deg: null });
        controls.settle();
      },
    },
    "Not told",
  );
  sun.addEventListener("click", () => {
    if (controls.settings.light_deg == null) {
      controls.try({ light_deg: Math.round(axis() ?? 45) });
      controls.settle();
    }
    state.emit("sun", { step_id: controls.row.id });
  });
  const axis = () => state.figures.rows[controls.row.id]?.figures?.light_axis;
  which.addEventListener("click", async () => {
    const row = controls.row;
    which.disabled = true;
    both.replaceChildren(el("div", { class: "note" }, "Making both …"));
    try {
      const light = controls.settings.light_deg ?? axis() ?? 0;
      const found = await post(`${state.path}/reliefs`, { step_id: row.id, settings: { light_deg: light } });
      both.replaceChildren(
        el("div", { class: "note" }, "Which one looks right, lit from the upper left?"),
        el(
          "div",
          { class: "cell-pictures two", id: "reliefs" },
          ...found.reliefs.map(r =>
            el(
              "figure",
              {},
              el(
                "button",
                {
                  class: "bare",
                  type: "button",
                  "data-light": r.light_deg,
                  onclick: () => {
                    controls.try({ light_deg: r.light_deg });
                    controls.settle();
                    both.replaceChildren();
                  },
                },
                el("img", { alt: `Light from ${r.light_deg}°`, src: r.picture }),
              ),
              el("figcaption", {}, `light from ${Math.round(r.light_deg)}°`),
            ),
          ),
        ),
      );
    } catch (e) {
      both.replaceChildren(el("div", { class: "note warn" }, e.message));
    }
    which.disabled = false;
  });
  const node = el(
    "div",
    { class: "relief-tools" },
    el("div", { class: "d-flex gap-1 my-2 flex-wrap" }, which, sun, none),
    says,
    both,
  );
  return {
    node,
    update(v) {
      none.hidden = v.light_deg == null;
      const f = state.figures.rows[controls.row?.id]?.figures || {};
      says.hidden = v.light_deg != null || f.light_sure == null || f.light_sure < 0.12;
      if (!says.hidden)
        says.textContent = `Shading seems to run along ${Math.round(f.light_axis)}°: press Which is right?`;
    },
  };
}

// What the relief is read from: light, as the row above read it, or brightness. In the first case the sun belongs to
// that row; here it is for the linear integral of shading alone
export function reliefPanel(controls) {
  const { state } = controls,
    sun = sunPanel(controls),
    says = el("div", { class: "note" }),
    brightness = el(
      "button",
      {
        class: "act edge",
        type: "button",
        id: "by-brightness",
        title: "Dark is deep: read from how bright the picture is",
      },
      "Brightness alone",
    ),
    light = el(
      "button",
      {
        class: "act edge",
        type: "button",
        id: "by-light",
        title: "Read relief from the light on the photo, by a row of its own",
      },
      "Relief from light",
    );
  const press = values => {
    controls.try(values);
    controls.settle();
  };
  const usual = name => state.steps[controls.row.step].fields.find(f => f.name === name).default;
  brightness.addEventListener("click", () =>
    press({ relief: "none", fill: usual("fill"), sizes: usual("sizes"), light_deg: null }),
  );
  const there = () => state.threads.some(t => t.name === RELIEF);
  light.addEventListener("click", async () => {
    const row = controls.row;
    const settings = { relief: RELIEF, fill: "as read", sizes: usual("sizes").map(([size]) => [size, 1, 1]) };
    light.disabled = true;
    try {
      const reader = Object.values(state.steps).find(s => s.panel === "sun");
      if (!there()) await state.change({ kind: "add", step: reader.name, ...state.aboveOf(row) });
      await state.change({ kind: "settings", step_id: row.id, settings });
    } catch (e) {
      state.emit("fault", e.message);
    }
    light.disabled = false;
  });
  const node = el(
    "div",
    {},
    says,
    el("div", { class: "d-flex gap-1 my-2 flex-wrap" }, light, brightness),
    sun.node,
    channels(controls),
  );
  return {
    node,
    update(v) {
      const read = v.relief !== "none";
      says.hidden = !read;
      says.textContent = there()
        ? "The relief comes from Read from light above; below, light is weighed against brightness size by size."
        : "Nothing reads a relief from light above: brightness stands in.";
      light.hidden = read;
      brightness.hidden = !read && v.light_deg == null;
      sun.node.hidden = read;
      sun.update(v);
    },
  };
}
