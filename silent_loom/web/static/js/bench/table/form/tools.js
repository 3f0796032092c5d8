// What the form is looked at with: form and light, repeats, relief, maps that are switched off, trials that can be
// kept.
import { el, get, send } from "../../../base/api.js";
import { LIGHTS } from "./lights.js";
import { FORMS, UNDER } from "./shapes.js";

const MAPS = [
  ["base", "Base"],
  ["height", "Height"],
  ["normal", "Normal"],
  ["roughness", "Rough"],
  ["metallic", "Metal"],
  ["occlusion", "Occl"],
  ["specular", "Spec"],
];

export class Tools {
  /** @type {any} */
  usual;

  constructor(view) {
    this.view = view;
    this.sliders = {};
    const { set } = view;
    this.form = el("select", { "aria-label": "Form", onchange: () => this.chosen() });
    this.light = el(
      "select",
      { "aria-label": "Light", onchange: () => view.choose({ light: this.light.value }) },
      ...Object.entries(LIGHTS).map(([name, { title }]) => el("option", { value: name }, title)),
    );
    const number = (name, key) =>
      el("input", {
        type: "number",
        min: 0.25,
        max: 64,
        step: 0.25,
        value: set[key],
        "aria-label": name,
        class: "copies",
        onchange: e => this.repeat(key, e.target),
      });
    this.numbers = { across: number("Repeats across", "across"), down: number("Repeats down", "down") };
    this.linked = el(
      "button",
      {
        class: "act edge",
        type: "button",
        "aria-pressed": true,
        title: "The same number across and down",
        onclick: () => {
          set.linked = !set.linked;
          this.draw();
        },
      },
      "linked",
    );
    this.metres = el("input", {
      type: "number",
      min: 0.2,
      max: 100,
      step: 0.1,
      value: set.metres,
      "aria-label": "Width of the wall in metres",
      class: "copies",
      onchange: () => {
        set.metres = Math.max(0.2, Math.min(100, +this.metres.value || 3));
        this.metres.value = set.metres;
        view.stands();
        view.moving();
        view.apply();
      },
    });
    this.real = el(
      "button",
      {
        class: "act edge",
        type: "button",
        "aria-pressed": true,
        title: "Repeats follow from the real size of the surface",
        onclick: () => {
          set.real = !set.real;
          view.moving();
          view.apply();
        },
      },
      "true size",
    );
    this.room = el("div", { class: "tools-line" }, el("span", {}, "Wall"), this.metres, el("span", {}, "m"), this.real);
    this.typed = el(
      "div",
      { class: "tools-line" },
      el("span", {}, "Repeats"),
      this.numbers.across,
      this.numbers.down,
      this.linked,
    );
    this.sunk = el(
      "span",
      { class: "segments", role: "radiogroup", "aria-label": "Relief by" },
      ...[
        ["moved", "Moved", "The surface itself is moved"],
        ["sunk", "Parallax", "Only the picture is shifted: cheaper, flat at its edges"],
      ].map(([name, title, says]) =>
        el(
          "button",
          {
            class: "act",
            type: "button",
            role: "radio",
            "data-relief": name,
            title: says,
            onclick: () => {
              set.sunk = name === "sunk";
              view.moving();
              view.apply();
            },
          },
          title,
        ),
      ),
    );
    this.maps = el(
      "div",
      { class: "map-keys", role: "group", "aria-label": "Maps on the form" },
      ...MAPS.map(([name, title], i) =>
        el(
          "button",
          {
            class: "act edge",
            type: "button",
            "data-map": name,
            title: `${title} on or off (${i + 1})`,
            onclick: () => view.flip(name),
          },
          title,
        ),
      ),
    );
    this.neutral = el(
      "button",
      {
        class: "act edge",
        type: "button",
        "aria-pressed": false,
        title: "Neutral dark colour, roughness 0.3, no occlusion: for judging relief (N)",
        onclick: () => view.choose({ relief: !view.look.relief }),
      },
      "Read relief",
    );
    this.unlit = el("select", {
      "aria-label": "Shown on the form",
      onchange: () => view.choose({ unlit: this.unlit.value }),
    });
    const keep = (name, what) =>
      el(
        "button",
        {
          class: "act edge keep",
          type: "button",
          title: `Write this change of ${what} into the weave`,
          "data-keep": name,
          hidden: true,
          onclick: () => this.keep(name),
        },
        "Keep",
      );
    this.keeps = { normal: keep("normal", "normals"), roughness: keep("roughness", "roughness") };
    this.more = el(
      "div",
      { class: "more", hidden: true },
      this.slider("Middle", "middle", 0, 1, 0.05),
      el("div", { class: "tools-line" }, el("span", {}, "Relief"), this.sunk),
      el("div", { class: "tools-line" }, this.slider("Normal", "normal", 0, 3, 0.05), this.keeps.normal),
      el("div", { class: "tools-line" }, this.slider("Rough", "roughness", -0.5, 0.5, 0.01), this.keeps.roughness),
      this.slider("Exposure", "exposure", -3, 3, 0.1),
      this.maps,
      el("div", { class: "tools-line" }, el("span", {}, "Show"), this.unlit),
      el(
        "div",
        { class: "tools-line wrap" },
        this.neutral,
        el(
          "button",
          {
            class: "act edge",
            type: "button",
            title: "The other side of a thin thing (O)",
            onclick: () => view.around(),
          },
          "Other side",
        ),
        el(
          "button",
          {
            class: "act edge",
            type: "button",
            onclick: () => {
              this.open(false);
              view.state.emit("trying");
            },
          },
          "Try on …",
        ),
      ),
    );
    this.opener = el(
      "button",
      { class: "act edge", type: "button", "aria-expanded": false, onclick: () => this.open(this.more.hidden) },
      "More",
    );
    this.file = el("input", {
      type: "file",
      accept: ".obj,.glb,.gltf,.ply,.stl",
      hidden: true,
      "aria-label": "Model file",
      onchange: () => this.added(),
    });
    this.node = el(
      "div",
      { class: "tools form-tools" },
      el("label", {}, "Form", this.form),
      el("label", {}, "Light", this.light),
      this.room,
      this.typed,
      this.slider("Displace", "lift", 0, 3, 0.05),
      this.more,
      this.opener,
      this.file,
    );
    this.list();
    this.draw();
  }

  slider(name, key, low, high, step) {
    const { view } = this,
      input = el("input", {
        type: "range",
        class: "slide",
        min: low,
        max: high,
        step,
        value: view.set[key],
        "aria-label": name,
        oninput: () => {
          view.set[key] = +input.value;
          view.moving();
          view.apply();
        },
        ondblclick: () => {
          view.set[key] = this.usual[key];
          view.moving();
          view.apply();
        },
      });
    this.sliders[key] = input;
    (this.usual ??= {})[key] = view.set[key];
    return el("label", {}, name, input);
  }

  open(on) {
    this.more.hidden = !on;
    this.opener.setAttribute("aria-expanded", on);
    this.opener.textContent = on ? "Less" : "More";
  }

  repeat(key, field) {
    const { view } = this,
      typed = +field.value,
      n = Math.max(0.25, Math.min(64, typed || 1));
    if (n !== typed) view.pane.say(`Repeats go from 0.25 to 64: ${n} were taken.`);
    view.set[key] = n;
    if (view.set.linked) view.set.across = view.set.down = n;
    if (view.form.room) view.set.real = false;
    view.moving();
    view.apply();
  }

  async list() {
    const own = await get("/api/models")
      .then(r => r.models)
      .catch(() => []);
    this.form.replaceChildren(
      ...(this.view.onModel ? [el("option", { value: UNDER }, UNDER)] : []),
      ...Object.keys(FORMS).map(f => el("option", { value: f }, f)),
      ...own.map(m => el("option", { value: m.id }, m.name)),
      el("option", { value: "+" }, "own model …"),
    );
    this.form.value = this.view.kind;
    this.own = own;
  }

  chosen() {
    if (this.form.value !== "+") {
      this.view.pick(this.form.value);
      return;
    }
    this.form.value = this.view.kind;
    this.file.click();
  }

  async added() {
    const file = this.file.files[0],
      form = new FormData();
    if (!file) return;
    form.append("model", file, file.name);
    try {
      const made = await send("/api/models", form);
      this.view.pick(made.id);
      await this.list();
      this.view.pane.say(`${made.name}: ${made.triangles.toLocaleString()} triangles.`);
    } catch (error) {
      this.view.pane.say(error.message);
    }
    this.file.value = "";
  }

  // What was tried on the form becomes a row: normals by their slopes, roughness by what is added
  async keep(name) {
    const { view } = this,
      { state, set } = view,
      step = state.stepThat("tone");
    const settings =
      name === "normal"
        ? { thread: "normal", gain: +set.normal.toFixed(2) }
        : { thread: "roughness", brightness: +(10 * set.roughness).toFixed(2) };
    await state.add(step, settings, { to: 1e6, into: "" });
    set[name] = this.usual[name];
    view.apply();
  }

  draw() {
    const { view } = this,
      { set, look } = view,
      room = !!view.form.room;
    for (const [key, input] of Object.entries(this.sliders)) {
      if (document.activeElement !== input || +input.value !== set[key]) input.value = set[key];
      input.style.setProperty("--at", `${((input.value - input.min) / (input.max - input.min)) * 100}%`);
    }
    for (const key of ["across", "down"])
      if (document.activeElement !== this.numbers[key] || set.linked) this.numbers[key].value = set[key];
    this.linked.setAttribute("aria-pressed", set.linked);
    this.real.setAttribute("aria-pressed", set.real);
    this.room.hidden = !room;
    this.typed.hidden = view.kind === UNDER;
    this.light.value = look.light;
    for (const b of this.sunk.children) b.setAttribute("aria-checked", (b.dataset.relief === "sunk") === set.sunk);
    for (const b of this.maps.children) b.setAttribute("aria-pressed", !look.off.has(b.dataset.map));
    this.neutral.setAttribute("aria-pressed", look.relief);
    const made = view.state.material ? view.state.threads.filter(t => t.made) : [];
    const names = ["", ...made.map(t => t.name)].join();
    if (this.known !== names) {
      this.known = names;
      this.unlit.replaceChildren(
        el("option", { value: "" }, "lit"),
        ...made.map(t => el("option", { value: t.name }, `${t.title}, unlit`)),
      );
    }
    this.unlit.value = look.unlit;
    const has = name => made.some(t => t.name === name);
    this.keeps.normal.hidden = set.normal === 1 || !has("normal");
    this.keeps.roughness.hidden = set.roughness === 0 || !has("roughness");
  }
}
