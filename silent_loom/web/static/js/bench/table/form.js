// The surface on a form, under a light that can be turned. Shading only: every map comes from the application.
import * as THREE from "/static/vendor/three/three.module.js";
import { el } from "../../base/api.js";
import { Asking } from "../asking.js";

export const FORMS = ["flat", "box", "ball", "cylinder", "draped cloth"];
// From where a form fills its pane
const NEAR = { flat: 2.95, "draped cloth": 3.75 }, OTHERS = 3.35;
const near = (kind) => NEAR[kind] || OTHERS;

// An overcast quay with two lamps, made here: soft enough to judge colour, with edges for the gloss to catch.
function surroundings(renderer) {
  const w = 256, h = 128, data = new Float32Array(w * h * 4);
  const lamp = (u, v, cu, cv, ru, rv) => { let d = Math.abs(u - cu); d = Math.min(d, 1 - d); return d < ru && Math.abs(v - cv) < rv ? 1 : 0; };
  for (let y = 0; y < h; y++) for (let x = 0; x < w; x++) {
    const u = x / w, v = y / h, up = 1 - v; // v = 0 is the top of a texture read from below: keep up = 1 above
    const sky = up > 0.5 ? 0.55 + 0.5 * (up - 0.5) : 0.2 + 0.25 * up;
    const light = 7 * lamp(u, up, 0.18, 0.74, 0.05, 0.1) + 4 * lamp(u, up, 0.62, 0.68, 0.09, 0.05) + 2.2 * lamp(u, up, 0.86, 0.8, 0.03, 0.14);
    const i = (y * w + x) * 4;
    data[i] = sky * (up > 0.5 ? 0.97 : 1.02) + light;
    data[i + 1] = sky + light * 0.98;
    data[i + 2] = sky * (up > 0.5 ? 1.04 : 0.95) + light * 0.95;
    data[i + 3] = 1;
  }
  for (let y = 0; y < h / 2; y++) for (let k = 0; k < w * 4; k++) { const a = y * w * 4 + k, b = (h - 1 - y) * w * 4 + k; [data[a], data[b]] = [data[b], data[a]]; }
  const texture = new THREE.DataTexture(data, w, h, THREE.RGBAFormat, THREE.FloatType);
  texture.mapping = THREE.EquirectangularReflectionMapping;
  texture.magFilter = texture.minFilter = THREE.LinearFilter;
  texture.needsUpdate = true;
  const maker = new THREE.PMREMGenerator(renderer);
  const made = maker.fromEquirectangular(texture).texture;
  texture.dispose();
  maker.dispose();
  return made;
}

// A cloth over a round post: a bell that hangs in folds. Positions only; normals are computed.
function cloth(n) {
  const shape = new THREE.PlaneGeometry(3.1, 3.1, n, n), p = shape.attributes.position;
  for (let i = 0; i < p.count; i++) {
    const x = p.getX(i), y = p.getY(i), r = Math.hypot(x, y), a = Math.atan2(y, x);
    const hang = Math.max(0, r - 0.5), fold = Math.min(1, hang * 1.5);
    const ring = Math.min(r, 0.5) + (1 - Math.exp(-hang * 1.35)) * 0.5 + fold * 0.11 * Math.sin(a * 7 + 0.6) * (0.6 + 0.4 * Math.sin(a * 3));
    const z = 0.62 - 0.18 * Math.min(r, 0.5) ** 2 * 4 - hang * 0.86;
    p.setXYZ(i, ring * Math.cos(a), z, -ring * Math.sin(a));
  }
  shape.computeVertexNormals();
  return shape;
}

// Without a graphics card every vertex and sample is the processor's work.
function drawnInSoftware() {
  const gl = document.createElement("canvas").getContext("webgl2");
  const info = gl?.getExtension("WEBGL_debug_renderer_info");
  const name = info ? String(gl.getParameter(info.UNMASKED_RENDERER_WEBGL)) : "";
  gl?.getExtension("WEBGL_lose_context")?.loseContext();
  return /swiftshader|llvmpipe|software|basic render/i.test(name);
}

// What is seen without a graphics card: the scene drawn with few pixels, read back and enlarged by the page, since filling the
// whole canvas takes longer than everything else; and at rest the full picture, once all of it is done. It lies over the canvas
// that is drawn strip by strip, so that nobody ever sees a part of a picture.
class Rough {
  constructor() {
    this.over = el("canvas", { class: "rough", "aria-hidden": true });
    this.pen = this.over.getContext("2d", { alpha: false });
    this.target = new THREE.WebGLRenderTarget(16, 16, { colorSpace: THREE.SRGBColorSpace, internalFormat: "RGBA8" });
    this.target.isXRRenderTarget = true; // asks three for tone and sRGB right here, as on the canvas
    this.hide();
  }

  hide() { this.over.style.display = "none"; }

  // The canvas beneath is finished: show all of it at once
  take(canvas) {
    if (this.over.width !== canvas.width || this.over.height !== canvas.height) { this.over.width = canvas.width; this.over.height = canvas.height; }
    this.pen.drawImage(canvas, 0, 0);
    this.over.style.display = "";
    this.over.dataset.whole = "1";
    this.image = null;
  }

  render(renderer, scene, camera, w, h) {
    if (this.over.width !== w || this.over.height !== h || !this.image) {
      this.target.setSize(w, h);
      this.over.width = w;
      this.over.height = h;
      this.image = new ImageData(w, h);
      this.rows = new Uint8Array(4 * w * h);
    }
    renderer.setRenderTarget(this.target);
    renderer.render(scene, camera);
    renderer.setRenderTarget(null);
    renderer.readRenderTargetPixels(this.target, 0, 0, w, h, this.rows);
    for (let y = 0; y < h; y++) this.image.data.set(this.rows.subarray(4 * w * (h - 1 - y), 4 * w * (h - y)), 4 * w * y); // theirs go up
    this.pen.putImageData(this.image, 0, 0);
    this.over.style.display = "";
    delete this.over.dataset.whole;
  }
}

function same(a, b) {
  const words = (d) => new Uint32Array(d.buffer, d.byteOffset, d.byteLength >> 2), p = words(a), q = words(b);
  for (let i = 0; i < p.length; i++) if (p[i] !== q[i]) return false;
  return true;
}

// detail: 0 as many corners as keep up with a hand without a graphics card, 1 at rest there, 2 with one
function makeForm(kind, fine, detail) {
  const n = fine ? [32, 96, 220][detail] : 2;
  // [geometry, repeats across the form at true size of 1: width and height of the UV square in scene units]
  switch (kind) {
    case "box": return [new THREE.BoxGeometry(1.35, 1.35, 1.35, n / 2, n / 2, n / 2), 1.35, 1.35];
    case "ball": return [new THREE.SphereGeometry(0.98, Math.max(detail ? 64 : 40, n), Math.max(detail ? 48 : 28, n / 2)), 2 * Math.PI * 0.98, Math.PI * 0.98];
    case "cylinder": return [new THREE.CylinderGeometry(0.72, 0.72, 1.75, Math.max(detail ? 64 : 40, n), Math.max(1, n), false), 2 * Math.PI * 0.72, 1.75];
    case "draped cloth": return [cloth([36, 90, 180][detail]), 3.1, 3.1];
    default: return [new THREE.PlaneGeometry(2, 2, n, n), 2, 2];
  }
}

export class FormView {
  constructor(pane) {
    this.pane = pane;
    this.state = pane.state;
    this.kind = "flat";
    this.set = { repeats: 1, normal: 1, lift: 1 };
    this.turn = [-0.2, -0.5];
    this.away = near(this.kind);
    this.light = [-0.5, 0.55];
    this.canvas = document.createElement("canvas");
    this.canvas.tabIndex = 0;
    this.canvas.setAttribute("role", "img");
    this.canvas.setAttribute("aria-label", "The surface on a form");
    this.asking = new Asking(this.state, (a) => this.took(a), (m) => pane.say(m), (on) => pane.computing(on));
    this.lamp = el("div", { class: "light", tabindex: 0, role: "slider", "aria-label": "Light direction", "aria-valuetext": "from the upper left", title: "Drag to turn the light" }, el("i"));
    this.lamp.addEventListener("pointerdown", (e) => this.dragLamp(e));
    this.lamp.addEventListener("keydown", (e) => this.key(e, true));
    this.canvas.addEventListener("pointerdown", (e) => this.drag(e));
    this.canvas.addEventListener("contextmenu", (e) => e.preventDefault());
    this.canvas.addEventListener("wheel", (e) => { e.preventDefault(); this.away = Math.max(1.3, Math.min(8, this.away * 1.0012 ** e.deltaY)); this.moving(); this.draw(); }, { passive: false });
    this.canvas.addEventListener("keydown", (e) => this.key(e, e.shiftKey));
    this.tools = this.makeTools();
    this.rough = new Rough();
    this.extra = [this.rough.over, this.lamp, this.tools];
  }

  start() {
    if (this.renderer) return true;
    this.soft = drawnInSoftware();
    try { this.renderer = new THREE.WebGLRenderer({ canvas: this.canvas, antialias: !this.soft, preserveDrawingBuffer: true }); }
    catch { this.pane.say("This browser gives no WebGL: the form cannot be shown. Flat, repeat and half shift work."); return false; }
    this.renderer.outputColorSpace = THREE.SRGBColorSpace;
    this.renderer.toneMapping = THREE.NeutralToneMapping;
    this.scene = new THREE.Scene();
    this.scene.environment = surroundings(this.renderer);
    this.scene.environmentIntensity = 0.95;
    this.camera = new THREE.PerspectiveCamera(38, 1, 0.1, 40);
    this.sun = new THREE.DirectionalLight(0xfff6ea, 3.3);
    this.scene.add(this.sun);
    this.material = new THREE.MeshStandardMaterial({ roughness: 1, metalness: 1, side: THREE.DoubleSide });
    this.material.envMapIntensity = 1;
    // An open edge that is displaced comes loose from what it belongs to: displacement fades out towards it
    this.material.onBeforeCompile = (shader) => {
      shader.vertexShader = `attribute float held;\n${shader.vertexShader}`.replace("#include <displacementmap_vertex>",
        "#ifdef USE_DISPLACEMENTMAP\n transformed += normalize( objectNormal ) * held * ( texture2D( displacementMap, vDisplacementMapUv ).x * displacementScale + displacementBias );\n#endif");
    };
    this.mesh = new THREE.Mesh(new THREE.PlaneGeometry(0.001, 0.001), this.material); // until there is something to show
    this.mesh.visible = false;
    this.scene.add(this.mesh);
    this.textures = {};
    this.shape();
    return true;
  }

  makeTools() {
    const slider = (name, key, low, high, step) => {
      const input = el("input", { type: "range", class: "slide", min: low, max: high, step, value: this.set[key], "aria-label": name,
        oninput: () => { this.set[key] = +input.value; input.style.setProperty("--at", `${((input.value - low) / (high - low)) * 100}%`); this.moving(); this.apply(); } });
      input.style.setProperty("--at", `${((this.set[key] - low) / (high - low)) * 100}%`);
      return el("label", {}, name, input);
    };
    const form = el("select", { "aria-label": "Form", onchange: () => { this.kind = form.value; this.away = near(this.kind); this.shape(); this.moving(); this.apply(); } }, ...FORMS.map((f) => el("option", {}, f)));
    return el("div", { class: "tools" }, el("label", {}, "Form", form), slider("Repeats", "repeats", 0.5, 6, 0.25), slider("Normal", "normal", 0, 3, 0.05), slider("Displace", "lift", 0, 3, 0.05));
  }

  resize() { if (this.start()) this.draw(); this.ask(); }
  ask() {
    if (this.pane.nothing()) return;
    this.asking.small = this.soft; // uploads are the processor's work, too
    this.asking.ask("form", {}, [256, 512]);
  }

  took({ data }) {
    if (!this.start()) return;
    const head = new DataView(data), w = head.getUint32(0, true), h = head.getUint32(4, true), n = w * h;
    this.mm = [head.getFloat32(8, true), head.getFloat32(12, true)];
    this.depth = head.getFloat32(16, true);
    let at = 20;
    const part = (Type, count) => { const made = new Type(data.slice(at, at + count * Type.BYTES_PER_ELEMENT)); at += made.byteLength; return made; };
    const base = part(Uint8Array, n * 4), orm = part(Uint8Array, n * 4), normal = part(Uint16Array, n * 4), height = part(Uint16Array, n);
    this.put("map", base, w, h, THREE.RGBAFormat, THREE.UnsignedByteType, THREE.SRGBColorSpace);
    this.put("orm", orm, w, h, THREE.RGBAFormat, THREE.UnsignedByteType);
    this.put("normalMap", normal, w, h, THREE.RGBAFormat, THREE.HalfFloatType);
    this.put("displacementMap", height, w, h, THREE.RedFormat, THREE.HalfFloatType);
    const m = this.material, t = this.textures, fresh = !m.map;
    m.map = t.map; m.aoMap = m.roughnessMap = m.metalnessMap = t.orm; m.normalMap = t.normalMap; m.displacementMap = t.displacementMap;
    if (fresh) m.needsUpdate = true;
    this.mesh.visible = true;
    if (this.state.draft) this.moving();
    this.apply();
    this.pane.painted(this, w);
  }

  // A texture keeps its place on the graphics card while its size stays; the old picture stays until the new one is in.
  put(name, data, w, h, format, type, space = THREE.NoColorSpace) {
    let t = this.textures[name];
    if (!t || t.image.width !== w || t.image.height !== h) {
      t?.dispose();
      t = new THREE.DataTexture(data, w, h, format, type);
      t.wrapS = t.wrapT = THREE.RepeatWrapping;
      t.magFilter = THREE.LinearFilter;
      t.minFilter = THREE.LinearMipmapLinearFilter;
      t.generateMipmaps = !(this.soft && this.state.draft);
      if (!t.generateMipmaps) t.minFilter = THREE.LinearFilter;
      t.anisotropy = this.soft ? 1 : 8;
      t.colorSpace = space;
      t.flipY = false;
      this.textures[name] = t;
    } else if (same(t.image.data, data)) return; // nothing to take over: uploading is what costs
    else t.image.data.set(data);
    t.needsUpdate = true;
  }

  shape() {
    if (!this.renderer) return;
    this.fine = this.set.lift > 0;
    for (const old of this.shapes || []) old.geometry.dispose();
    // Rows of the maps run from the top, texture rows from the bottom: v is turned where it is laid, not in the maps
    this.shapes = (this.soft ? [1, 0] : [2]).map((detail) => {
      const [geometry, width, height] = makeForm(this.kind, this.fine, detail);
      this.span = [width, height];
      const uv = geometry.attributes.uv, held = new Float32Array(uv.count).fill(1);
      if (this.kind === "draped cloth") for (let i = 0; i < uv.count; i++) held[i] = Math.min(1, Math.min(uv.getX(i), 1 - uv.getX(i), uv.getY(i), 1 - uv.getY(i)) / 0.06);
      geometry.setAttribute("held", new THREE.BufferAttribute(held, 1));
      return { geometry, uv: geometry.attributes.uv.array.slice() };
    });
    this.mesh.geometry = this.shapes[0].geometry;
  }

  apply() {
    if (!this.renderer || !this.mm) return;
    if (this.set.lift > 0 !== this.fine) this.shape();
    // At repeats = 1 the longer side of one repeat is as long as the flat form
    const unit = 2 / Math.max(...this.mm) / this.set.repeats; // scene units per millimetre
    const whole = this.kind === "ball" || this.kind === "cylinder";
    let across = this.span[0] / (this.mm[0] * unit);
    const down = this.span[1] / (this.mm[1] * unit);
    if (whole) across = Math.max(1, Math.round(across));
    for (const shape of this.shapes) {
      const uv = shape.geometry.attributes.uv, laid = `${across} ${down}`;
      if (shape.laid === laid) continue;
      for (let i = 0; i < uv.count; i++) uv.setXY(i, shape.uv[2 * i] * across, (0.5 - shape.uv[2 * i + 1]) * down + 0.5 * down);
      uv.needsUpdate = true;
      shape.laid = laid;
    }
    const lift = this.depth * unit * this.set.lift;
    this.material.displacementScale = lift;
    this.material.displacementBias = -lift / 2;
    // v runs down, so the bitangent does; green up then needs a turned sign
    this.material.normalScale.set(this.set.normal, -this.set.normal);
    this.draw();
  }

  // Something is being dragged: draw with as many pixels as keep up with the hand, and with all of them at rest.
  moving() {
    this.until = performance.now() + (this.soft ? 480 : 280);
    clearTimeout(this.resting);
    this.resting = setTimeout(() => this.draw(), this.soft ? 500 : 300);
  }

  draw() {
    if (!this.renderer || this.pending) return;
    this.finished(false); // from now on, not from the next frame on: what is seen is no longer what is set
    this.pending = requestAnimationFrame(() => {
      this.pending = 0;
      const box = this.pane.node.getBoundingClientRect();
      if (!box.width) return; // not on screen: drawn once it is
      const whole = Math.min(devicePixelRatio, 1.5);
      if (this.renderer.getPixelRatio() !== whole) this.renderer.setPixelRatio(whole);
      const size = this.renderer.getSize(new THREE.Vector2());
      if (size.x !== Math.round(box.width) || size.y !== Math.round(box.height)) this.renderer.setSize(Math.round(box.width), Math.round(box.height), false);
      this.renderer.setClearColor(new THREE.Color(getComputedStyle(this.pane.node).backgroundColor));
      this.camera.aspect = box.width / box.height;
      const away = this.away * Math.max(1, 1 / this.camera.aspect), [yaw, pitch] = this.turn;
      this.camera.position.set(away * Math.sin(yaw) * Math.cos(pitch), -away * Math.sin(pitch), away * Math.cos(yaw) * Math.cos(pitch));
      if (this.kind !== "flat") this.camera.position.y = away * Math.sin(-pitch * 0.6);
      this.camera.lookAt(0, this.kind === "draped cloth" ? -0.1 : 0, 0);
      this.camera.updateProjectionMatrix();
      const [lx, ly] = this.light, r = Math.min(0.97, Math.hypot(lx, ly)), z = Math.sqrt(1 - r * r), norm = r / (Math.hypot(lx, ly) || 1);
      this.sun.position.set(lx * norm, ly * norm, z).applyQuaternion(this.camera.quaternion).multiplyScalar(6);
      this.lamp.firstChild.style.left = `${50 + lx * norm * 42}%`;
      this.lamp.firstChild.style.top = `${50 - ly * norm * 42}%`;
      this.picture(performance.now() < (this.until || 0));
      this.pane.node.dataset.frame = String(+(this.pane.node.dataset.frame || 0) + 1);
    });
  }

  // While something moves, and always first where there is no graphics card: as many pixels as keep up, enlarged.
  // At rest there the full picture comes in strips, one a frame, so that the hand never waits for more than one.
  picture(moving) {
    clearTimeout(this.strips);
    this.finished(false);
    const renderer = this.renderer, size = renderer.getDrawingBufferSize(new THREE.Vector2());
    const share = this.share ?? (this.soft ? 0.3 : 1);
    if (this.soft ? moving || !this.begun : moving && share < 1) {
      this.begun = this.mesh.visible; // nothing of the surface was drawn yet: all of it at once, however rough
      const part = (n) => Math.max(32, 16 * Math.round((n * share) / 16));
      this.mesh.geometry = this.shapes.at(-1).geometry;
      this.timed(share, () => this.rough.render(renderer, this.scene, this.camera, part(size.x), part(size.y)));
      this.mesh.geometry = this.shapes[0].geometry;
      if (moving) return;
    } else if (!this.soft) {
      const all = () => { renderer.render(this.scene, this.camera); this.rough.hide(); this.finished(!moving); };
      if (moving) this.timed(1, () => { all(); this.wait(); });
      else all();
      return;
    }
    let top = 0;
    const strip = () => {
      if (!this.renderer || performance.now() < (this.until || 0)) return;
      const ratio = renderer.getPixelRatio(), began = performance.now();
      this.high ??= 40;
      renderer.setScissorTest(true);
      renderer.setScissor(0, (size.y - top - this.high) / ratio, size.x / ratio, this.high / ratio);
      renderer.render(this.scene, this.camera);
      renderer.setScissorTest(false);
      this.wait();
      top += this.high;
      this.high = Math.max(12, Math.min(size.y, Math.round(this.high * Math.min(2, 60 / Math.max(4, performance.now() - began)))));
      if (top < size.y) this.strips = setTimeout(strip, 0);
      else { this.rough.take(this.canvas); this.finished(true); }
    };
    this.strips = setTimeout(strip, 0);
  }

  // For whoever looks on from outside: the picture is whole and nothing moves
  finished(is) { this.pane.node.dataset.still = is ? "yes" : "no"; }

  // How long a picture takes says how many pixels the next one may have
  timed(share, make) {
    const began = performance.now();
    make();
    this.share = Math.max(0.18, Math.min(1, share * Math.sqrt(42 / Math.max(4, performance.now() - began))));
  }

  // Reading one pixel waits for the picture
  wait() {
    const gl = this.renderer.getContext();
    gl.readPixels(0, 0, 1, 1, gl.RGBA, gl.UNSIGNED_BYTE, new Uint8Array(4));
  }

  drag(event) {
    this.pane.activate();
    const light = event.button === 2 || event.altKey || event.shiftKey;
    let last = [event.clientX, event.clientY];
    const move = (e) => {
      const dx = e.clientX - last[0], dy = e.clientY - last[1];
      last = [e.clientX, e.clientY];
      if (light) this.light = [this.light[0] + dx / 120, this.light[1] - dy / 120].map((v) => Math.max(-1, Math.min(1, v)));
      else this.turn = [this.turn[0] - dx / 160, Math.max(-1.5, Math.min(1.5, this.turn[1] - dy / 160))];
      this.moving();
      this.draw();
    };
    this.canvas.setPointerCapture(event.pointerId);
    this.canvas.addEventListener("pointermove", move);
    this.canvas.addEventListener("pointerup", () => this.canvas.removeEventListener("pointermove", move), { once: true });
  }

  dragLamp(event) {
    event.preventDefault();
    const move = (e) => {
      const box = this.lamp.getBoundingClientRect();
      this.light = [((e.clientX - box.left) / box.width) * 2 - 1, 1 - ((e.clientY - box.top) / box.height) * 2].map((v) => Math.max(-1, Math.min(1, v)));
      this.moving();
      this.draw();
    };
    this.lamp.setPointerCapture(event.pointerId);
    this.lamp.addEventListener("pointermove", move);
    this.lamp.addEventListener("pointerup", () => this.lamp.removeEventListener("pointermove", move), { once: true });
    move(event);
  }

  key(event, light) {
    const by = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, 1], ArrowDown: [0, -1] }[event.key];
    if (by && light) this.light = [this.light[0] + by[0] * 0.1, this.light[1] + by[1] * 0.1].map((v) => Math.max(-1, Math.min(1, v)));
    else if (by) this.turn = [this.turn[0] + by[0] * 0.12, Math.max(-1.5, Math.min(1.5, this.turn[1] + by[1] * 0.12))];
    else if (event.key === "+" || event.key === "=") this.away = Math.max(1.3, this.away * 0.85);
    else if (event.key === "-") this.away = Math.min(8, this.away / 0.85);
    else if (event.key === "0") { this.away = near(this.kind); this.turn = [-0.2, -0.5]; }
    else return;
    event.preventDefault();
    this.draw();
  }
}
