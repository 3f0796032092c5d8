// The surface on a form, under a light that can be turned; several surfaces beside each other, or one wiped over
// another, in the same light. Shading only: every map comes from the application.
import * as THREE from "/static/vendor/three/three.module.js";
import { el } from "../../../base/api.js";
import { drawnInSoftware } from "../../../base/soft.js";
import { LIGHTS, surroundings } from "./lights.js";
import { Deferred } from "./deferred.js";
import { Drawing } from "./drawing.js";
import { drag, dragLamp, key, nearer } from "./hands.js";
import { FORMS, modelOf, person, tilesOf, UNDER } from "./shapes.js";
import { Surface } from "./surface.js";
import { Tools } from "./tools.js";

// Corners along the longer side. Without a graphics card: at rest at last, at rest at once, and under a moving hand;
// and with one
const DETAIL = { soft: [512, 128, 28], card: [768] };

const OWN = { near: 3.4, own: true };

export class FormView extends Drawing {
  constructor(pane) {
    super(pane);
    this.state = pane.state;
    this.models = {}; // of the artist's own, by the name of their form
    this.kind = "flat";
    /** @type {string | undefined} The light that is there */
    this.surrounded = undefined;
    this.set = {
      across: 1,
      down: 1,
      linked: true,
      real: true,
      metres: 3,
      lift: 1,
      middle: 0.5,
      sunk: false,
      normal: 1,
      roughness: 0,
      exposure: 0,
    };
    this.look = { light: "quay", relief: false, unlit: "", off: new Set() };
    this.turn = [-0.2, -0.5];
    this.light = [-0.5, 0.55];
    this.away = FORMS.flat.near;
    this.sides = [new Surface(this)];
    this.lamp = el(
      "div",
      {
        class: "light",
        tabindex: 0,
        role: "slider",
        "aria-label": "Light direction",
        "aria-valuetext": "from the upper left",
        title: "Drag to turn the light",
      },
      el("i"),
    );
    this.lamp.addEventListener("pointerdown", e => dragLamp(this, e));
    this.lamp.addEventListener("keydown", e => key(this, e, true));
    this.canvas.addEventListener("pointerdown", e => drag(this, e));
    this.canvas.addEventListener("contextmenu", e => e.preventDefault());
    this.canvas.addEventListener(
      "wheel",
      e => {
        e.preventDefault();
        nearer(this, 1.0012 ** e.deltaY);
      },
      { passive: false },
    );
    this.canvas.addEventListener("keydown", e => key(this, e, e.shiftKey));
    this.tools = new Tools(this);
    this.names = el("div", { class: "side-names", "aria-hidden": true });
    this.extra = [this.rough.over, this.names, this.lamp, this.tools.node];
  }

  get form() {
    if (this.kind === UNDER) return OWN;
    return FORMS[this.kind] || OWN;
  }
  get asking() {
    return this.sides[0].asking;
  }
  get mm() {
    return this.sides[0].mm;
  }

  start() {
    if (this.renderer) return true;
    this.soft = drawnInSoftware();
    try {
      this.renderer = new THREE.WebGLRenderer({
        canvas: this.canvas,
        antialias: !this.soft,
        preserveDrawingBuffer: true,
      });
    } catch {
      this.pane.say("This browser gives no WebGL: the form cannot be shown. Flat, repeat and half shift work.");
      return false;
    }
    this.renderer.outputColorSpace = THREE.SRGBColorSpace;
    this.renderer.toneMapping = THREE.NeutralToneMapping;
    this.renderer.autoClear = false;
    this.renderer.debug.checkShaderErrors = false; // asking waits for the shader
    this.scene = new THREE.Scene();
    this.camera = new THREE.PerspectiveCamera(38, 1, 0.1, 40);
    this.sun = new THREE.DirectionalLight(0xffffff, 1);
    this.scene.add(this.sun);
    this.body = new THREE.Group();
    this.scene.add(this.body);
    if (this.soft && this.renderer.extensions.has("EXT_color_buffer_float")) {
      this.later = new Deferred();
      this.scene.add(this.later.sheet);
    }
    this.lit();
    this.shape();
    return true;
  }

  lit() {
    const { light } = this.look,
      setting = LIGHTS[light];
    const set = around => {
      if (light !== this.look.light) return; // another one was chosen meanwhile
      this.scene.environment = around;
      this.scene.environmentIntensity = setting.share;
      this.sun.color.set(setting.sun[0]);
      this.sun.intensity = setting.sun[1];
      this.surrounded = light;
      this.draw();
    };
    if (setting.share) surroundings(this.renderer, light, this.soft).then(set);
    else set(null);
  }

  resize() {
    if (this.start()) this.draw();
    this.showNames();
    this.ask();
  }
  ask() {
    if (this.pane.nothing()) return;
    this.follow();
    for (const side of this.sides) side.ask();
  }

  busy(side, on) {
    side.working = on;
    this.pane.computing(this.sides.some(s => s.working));
  }

  arrived(side) {
    if (!this.sides.includes(side)) {
      side.dispose();
      return;
    }
    if (this.state.draft) this.moving();
    this.apply();
    if (this.sides.every(s => s.there)) this.pane.painted(this, side.texels);
  }

  // Other surfaces on the form: [{ title, of }]; with none, the material as it stands. way: one, beside, wipe, blink,
  // difference
  lay(list, way = "one", at = 0.5) {
    for (const old of this.sides.slice(1)) old.dispose();
    const [first, ...more] = list.length ? list : [{ title: "", of: null }];
    const own = () => ({ path: this.state.path, lay: this.state.question() });
    this.sides = [this.sides[0], ...more.map(s => new Surface(this, s.title, s.of))];
    this.sides[0].title = first.title;
    this.sides[0].asking.of = first.of || own;
    this.arranged = { way: more.length ? way : "one", at };
    this.showNames();
    if (this.renderer) {
      this.begun = false;
      this.ask();
      this.draw();
    }
  }

  // Two states that are compared; none when it ends
  compared(how) {
    const of = how ? JSON.stringify([how.a, how.b]) : "";
    if (of !== (this.pairOf || "")) {
      this.pairOf = of;
      const { state } = this;
      this.lay(
        how ? [how.a, how.b].map(side => ({ title: state.sideName(side), of: () => state.seenAs(side) })) : [],
        how?.way,
        how?.at,
      );
    } else if (how) {
      this.arranged = { way: how.way, at: how.at };
      this.blinked = false;
      this.showNames();
      this.begun = false;
      this.draw();
    }
  }

  lineAt() {
    if (this.grip) this.grip.style.left = `${100 * this.arranged.at}%`;
  }

  // The wipe moves, or the other of a blink is shown
  wiped() {
    if (!this.pairOf) return;
    this.arranged.at = this.state.compare.at;
    this.blinked = this.state.blinked;
    this.lineAt();
    this.moving();
    this.draw();
  }

  showNames() {
    const { way } = this.arranged,
      n = this.sides.length;
    this.names.replaceChildren(
      ...(n < 2 || way === "difference" ? [] : this.sides.map((s, i) => el("span", { class: "side-name" }, s.title))),
    );
    this.names.className = `side-names ${way}`;
    const box = this.pane.node.getBoundingClientRect(),
      columns = this.columns(box.width, box.height);
    this.names.style.gridTemplateColumns = way === "beside" ? `repeat(${columns}, minmax(0, 1fr))` : "";
    this.names.style.gridTemplateRows = way === "beside" ? `repeat(${Math.ceil(n / columns)}, minmax(0, 1fr))` : "";
    if (way === "wipe") {
      this.grip = el("i", { class: "wipe-line" });
      this.names.append(this.grip);
      this.lineAt();
    }
  }

  // --- what is on the form -----------------------------------------------------------------------------------
  async shape() {
    if (!this.renderer) return;
    const wanted = (this.shaping = {}),
      fine = this.set.lift > 0 && !this.set.sunk;
    this.fine = fine;
    let details;
    if (this.form.own) {
      const from = this.meshPath();
      let model = this.models?.[from];
      if (!model) {
        try {
          const response = await fetch(from);
          if (!response.ok) throw new Error((await response.json()).error);
          model = {
            data: await response.arrayBuffer(),
            own: response.headers.get("x-own-uv") === "1",
            unit: +response.headers.get("x-unit-mm"),
          };
          this.models[from] = model;
        } catch (error) {
          this.pane.say(error.message);
          return;
        }
        if (wanted !== this.shaping) return;
      }
      const tiles = modelOf(model.data, model.own);
      this.per = tiles[0].scale / model.unit; // scene units to a millimetre of the model
      details = this.soft ? [tiles, tiles, tiles] : [tiles];
    } else details = DETAIL[this.soft ? "soft" : "card"].map(n => tilesOf(this.kind, fine ? n : Math.min(n, 96)));
    const dropped = new Set(this.details?.flat() || []);
    for (const { geometry } of dropped) geometry.dispose();
    this.body.clear();
    this.details = details.map(tiles =>
      tiles.map(t => {
        const uv = t.geometry.attributes.uv;
        // Rows of the maps run from the top
        if (!t.sized) for (let i = 0; i < uv.count; i++) uv.setXY(i, uv.getX(i) * t.width, (1 - uv.getY(i)) * t.height);
        t.sized = true;
        return t;
      }),
    );
    this.groups = this.details.map(tiles => {
      const group = new THREE.Group();
      for (const t of tiles) group.add(new THREE.Mesh(t.geometry, this.sides[0].material));
      this.body.add(group);
      return group;
    });
    this.span = [this.details[0][0].width, this.details[0][0].height];
    this.stands();
    this.apply();
  }

  // Somebody stands in a room, to be measured by
  stands() {
    this.person?.removeFromParent();
    this.person = null;
    if (!this.form.room) return;
    const unit = 2.6 / (this.set.metres * 1000);
    this.person = person(1750 * unit);
    this.person.position.set(0.62, -0.7, -0.35);
    this.scene.add(this.person);
  }

  // What lies on a model is seen on that model, until another form is picked
  follow() {
    const on = this.state.material && this.state.weave.on,
      name = on ? `${on.model} ${on.uv} ${on.unit} ${on.up}` : "";
    if (name === (this.onModel || "")) return;
    this.onModel = name;
    this.tools.list();
    if (on) this.pick(UNDER);
    else if (this.kind === UNDER) this.pick("flat");
  }

  meshPath() {
    const { on } = this.state.weave;
    if (this.kind !== UNDER || !on) return `/api/models/${this.kind}/mesh`;
    const { uv, unit, up } = on;
    return `/api/models/of/${on.model}/mesh?${new URLSearchParams({ uv, unit, up })}`;
  }

  // How often a map repeats in a scene unit, across and down
  repeats(side) {
    if (this.kind === UNDER) return [0.5, 0.5, this.per]; // its maps are those of the whole square of UVs
    const room = this.form.room && this.set.real,
      unit = room ? 2.6 / (this.set.metres * 1000) : 2 / Math.max(...side.mm);
    let [across, down] = [1 / (side.mm[0] * unit), 1 / (side.mm[1] * unit)];
    if (!room) {
      across *= this.set.across;
      down *= this.set.down;
    }
    if (this.form.whole) across = Math.max(1, Math.round(across * this.span[0])) / this.span[0]; // it must meet itself
    return [across, down, room ? unit : 2 / Math.max(...side.mm) / Math.max(this.set.across, this.set.down)];
  }

  apply() {
    if (!this.renderer || !this.details) return;
    if ((this.set.lift > 0 && !this.set.sunk) !== this.fine) {
      this.shape();
      return;
    }
    const { shared, set, look } = this,
      on = name => (look.off.has(name) ? 0 : 1);
    shared.middle.value = set.middle;
    shared.shift.value = set.roughness;
    shared.sunk.value = set.sunk ? 1 : 0;
    shared.unlit.value = look.unlit ? 1 : 0;
    shared.relief.value = look.relief ? 1 : 0;
    for (const name of ["base", "roughness", "metallic", "specular"]) shared[`${name}On`].value = on(name);
    this.renderer.toneMappingExposure = 2 ** set.exposure;
    this.tools.draw();
    this.draw();
  }

  // A side's own numbers, right before it is drawn
  ready(side) {
    if (!side.there) return false;
    const [across, down, unit] = this.repeats(side),
      on = name => (this.look.off.has(name) ? 0 : 1);
    side.laid(across, down, this.set.normal * on("normal"), this.look.relief ? 0 : on("occlusion"));
    this.shared.lift.value = side.depth * unit * this.set.lift * on("height");
    for (const group of this.groups) for (const mesh of group.children) mesh.material = side.material;
    return true;
  }

  // --- drawing -----------------------------------------------------------------------------------------------
  // Something is being dragged: draw with as many pixels as keep up with the hand, and with all of them at rest.
  moving() {
    this.until = performance.now() + (this.soft ? 330 : 280);
    clearTimeout(this.resting);
    this.resting = setTimeout(() => this.draw(), this.soft ? 345 : 300);
  }

  draw() {
    if (!this.renderer || this.pending) return;
    this.finished(false); // from now on, not from the next frame on: what is seen is no longer what is set
    this.pending = requestAnimationFrame(() => {
      this.pending = 0;
      const box = this.pane.node.getBoundingClientRect();
      if (!box.width || !this.groups) return; // not on screen: drawn once it is
      if (this.surrounded !== this.look.light) return; // drawn once its light is there
      const whole = Math.min(devicePixelRatio, 1.5);
      if (this.renderer.getPixelRatio() !== whole) this.renderer.setPixelRatio(whole);
      const size = this.renderer.getSize(new THREE.Vector2());
      if (size.x !== Math.round(box.width) || size.y !== Math.round(box.height))
        this.renderer.setSize(Math.round(box.width), Math.round(box.height), false);
      this.renderer.setClearColor(new THREE.Color(getComputedStyle(this.pane.node).backgroundColor));
      if (!this.shadersThere()) return;
      this.picture(performance.now() < (this.until || 0));
      this.pane.node.dataset.frame = String(+(this.pane.node.dataset.frame || 0) + 1);
    });
  }

  // --- what hands and tools ask for ---
  // The other side of a thin thing
  around() {
    this.turn = [this.turn[0] > 1.2 ? this.turn[0] - Math.PI : this.turn[0] + Math.PI, this.turn[1]];
    this.moving();
    this.draw();
  }

  flip(map) {
    if (!this.look.off.delete(map)) this.look.off.add(map);
    this.moving();
    this.apply();
  }

  choose(look) {
    const unlit = this.look.unlit;
    Object.assign(this.look, look);
    if (!this.start()) return;
    if ("light" in look) this.lit();
    this.moving();
    this.apply();
    if (this.look.unlit !== unlit) this.ask();
  }

  pick(kind) {
    this.kind = kind;
    this.away = this.form.near;
    this.begun = false;
    this.shape();
    this.moving();
  }

  aim(aspect) {
    const { camera, form } = this,
      away = this.away * Math.max(1, 1 / aspect),
      [yaw, pitch] = this.turn;
    camera.aspect = aspect;
    camera.position.set(
      away * Math.sin(yaw) * Math.cos(pitch),
      -away * Math.sin(form.flat || form.own ? pitch : pitch * 0.6),
      away * Math.cos(yaw) * Math.cos(pitch),
    );
    camera.lookAt(0, form.low || 0, 0);
    camera.updateProjectionMatrix();
    camera.updateMatrixWorld();
    const [lx, ly] = this.light,
      r = Math.min(0.97, Math.hypot(lx, ly)),
      z = Math.sqrt(1 - r * r),
      norm = r / (Math.hypot(lx, ly) || 1);
    this.sun.position
      .set(lx * norm, ly * norm, z)
      .applyQuaternion(camera.quaternion)
      .multiplyScalar(6);
    this.scene.environmentRotation.set(0, yaw + lx * 1.2 + 0.6, 0); // the surroundings turn with the lamp
    this.lamp.firstChild.style.left = `${50 + lx * norm * 42}%`;
    this.lamp.firstChild.style.top = `${50 - ly * norm * 42}%`;
    this.lamp.setAttribute(
      "aria-valuetext",
      `from ${Math.abs(lx) < 0.15 ? "the middle" : lx < 0 ? "the left" : "the right"}, ` +
        `${ly > 0.15 ? "above" : ly < -0.15 ? "below" : "level"}`,
    );
  }
}
