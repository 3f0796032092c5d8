// The model itself: what its layout does to a texture, and what was baked or laid on it. Turned by hand; a press
// picks an island.
import * as THREE from "/static/vendor/three/three.module.js";
import { el } from "../base/api.js";
import { drawnInSoftware } from "../base/soft.js";
import { modelOf } from "../bench/table/form/shapes.js";

const CELLS = 16; // squares of the checker along a side
const SIDE = 1024; // pixels of the texture that shows the layout
const MANY = 120_000; // triangles from which on a lighter stand-in is turned

/** A mesh of few triangles that has about the same shape: corners of one cell of a grid are one
 * (Rossignac & Borrel 1993).
 * @param {any} geometry
 */
function standIn(geometry, cells = 56) {
  const at = geometry.attributes.position.array,
    index = geometry.index.array,
    cell = new Int32Array(at.length / 3),
    first = new Map();
  for (let i = 0; i < cell.length; i++) {
    const [x, y, z] = [0, 1, 2].map(k =>
      Math.min(cells - 1, Math.max(0, Math.floor((at[3 * i + k] / 2 + 0.5) * cells))),
    );
    const key = (x * cells + y) * cells + z;
    if (!first.has(key)) first.set(key, i);
    cell[i] = first.get(key);
  }
  const kept = [];
  for (let t = 0; t < index.length; t += 3) {
    const [a, b, c] = [cell[index[t]], cell[index[t + 1]], cell[index[t + 2]]];
    if (a !== b && b !== c && a !== c) kept.push(a, b, c);
  }
  const made = geometry.clone();
  made.setIndex(new THREE.BufferAttribute(new Uint32Array(kept), 1));
  return made;
}

export class ModelForm {
  /**
   * @param {HTMLElement} node
   * @param {(u: number, v: number) => void} picked
   */
  constructor(node, picked) {
    this.node = node;
    this.picked = picked;
    this.canvas = el("canvas", { tabindex: 0, role: "img", "aria-label": "The model" });
    node.append(this.canvas);
    this.turn = [-0.5, 0.25];
    this.away = 3.4;
    /** @type {any} */
    this.renderer = null;
    /** @type {any} */
    this.mesh = null;
    /** @type {any} */
    this.light = null;
    /** @type {any} */
    this.around = null;
    /** @type {any} What it wore before, to the left of the wipe */
    this.earlier = null;
    this.wipe = 0.5;
    this.per = 1;
    this.asked = 0;
    this.pending = 0;
    this.moving = false;
    this.sheet = document.createElement("canvas");
    this.sheet.width = this.sheet.height = SIDE;
    this.canvas.addEventListener("pointerdown", e => this.drag(e));
    this.canvas.addEventListener("keydown", e => this.key(e));
    this.canvas.addEventListener(
      "wheel",
      e => {
        e.preventDefault();
        this.away = Math.max(1.2, Math.min(9, this.away * 1.0012 ** e.deltaY));
        this.draw();
      },
      { passive: false },
    );
    new ResizeObserver(() => this.draw()).observe(node);
  }

  start() {
    if (this.renderer) return true;
    try {
      this.renderer = new THREE.WebGLRenderer({
        canvas: this.canvas,
        antialias: !drawnInSoftware(),
        preserveDrawingBuffer: true,
      });
    } catch {
      return false;
    }
    this.scene = new THREE.Scene();
    this.camera = new THREE.PerspectiveCamera(36, 1, 0.05, 40);
    this.sun = new THREE.DirectionalLight(0xffffff, 2.2);
    this.scene.add(new THREE.HemisphereLight(0xf4f2ec, 0x6d675d, 1.4), this.sun);
    this.texture = new THREE.CanvasTexture(this.sheet);
    this.texture.colorSpace = THREE.SRGBColorSpace;
    this.texture.wrapS = this.texture.wrapT = THREE.RepeatWrapping;
    this.texture.anisotropy = 4;
    this.material = new THREE.MeshStandardMaterial({ map: this.texture, roughness: 0.75, side: THREE.DoubleSide });
    return true;
  }

  /** Show a model.
   * @param {?string} id
   */
  async load(id) {
    const turn = ++this.asked;
    this.node.dataset.shown = "";
    if (!id || !this.start()) return;
    const response = await fetch(`/api/models/${id}/mesh`);
    if (!response.ok || turn !== this.asked) return;
    const [{ geometry, scale }] = modelOf(await response.arrayBuffer(), response.headers.get("x-own-uv") === "1");
    if (turn !== this.asked) return;
    this.per = scale / (+response.headers.get("x-unit-mm") || 1); // scene units to a millimetre
    this.shell(0);
    for (const old of [this.mesh, this.light])
      if (old) {
        this.scene.remove(old);
        old.geometry.dispose();
      }
    this.mesh = new THREE.Mesh(geometry, this.material);
    const many = geometry.index.count / 3 > MANY;
    this.light = many ? new THREE.Mesh(standIn(geometry), this.material) : null;
    this.scene.add(this.mesh);
    if (this.light) this.scene.add(this.light);
    this.bare();
    this.node.dataset.shown = id;
    this.draw();
  }

  /** Show the shell that rays start from, so many millimetres around the model; none at 0.
   * @param {number} mm
   */
  shell(mm) {
    if (this.around) {
      this.scene.remove(this.around);
      this.around.geometry.dispose();
      this.around = null;
    }
    this.node.dataset.shell = String(mm);
    if (mm > 0 && this.mesh) {
      const made = this.mesh.geometry.clone(),
        at = made.attributes.position.array,
        facing = made.attributes.normal.array,
        sums = new Map();
      const place = i => [0, 1, 2].map(k => Math.round(1e5 * at[3 * i + k])).join();
      for (let i = 0; i < at.length / 3; i++) {
        const sum = sums.get(place(i)) || sums.set(place(i), [0, 0, 0]).get(place(i));
        for (let k = 0; k < 3; k++) sum[k] += facing[3 * i + k];
      }
      const out = new Float32Array(at.length);
      for (let i = 0; i < at.length / 3; i++) {
        const sum = sums.get(place(i)),
          length = Math.hypot(...sum) || 1;
        for (let k = 0; k < 3; k++) out[3 * i + k] = at[3 * i + k] + (sum[k] / length) * mm * this.per;
      }
      made.setAttribute("position", new THREE.BufferAttribute(out, 3));
      this.around = new THREE.Mesh(
        made,
        new THREE.MeshBasicMaterial({ color: 0x2f6f9f, transparent: true, opacity: 0.28, depthWrite: false }),
      );
      this.scene.add(this.around);
    }
    this.draw();
  }

  /** Hold what the model came with against what it wears: that to the left of the wipe, this to the right.
   * @param {?string} address of the earlier base colour; null takes it away
   */
  async hold(address) {
    if (!this.start()) return;
    this.earlier = null;
    if (address) {
      const map = await new THREE.TextureLoader().loadAsync(address);
      map.colorSpace = THREE.SRGBColorSpace;
      this.earlier = new THREE.MeshStandardMaterial({ map, roughness: 0.75, side: THREE.DoubleSide });
    }
    this.node.dataset.wipe = address ? String(this.wipe) : "";
    this.draw();
  }

  /** Take off what was laid on: the layout shows again. */
  bare() {
    if (!this.material) return;
    this.hold(null);
    Object.assign(this.material, {
      map: this.texture,
      normalMap: null,
      roughnessMap: null,
      metalnessMap: null,
      aoMap: null,
    });
    Object.assign(this.material, { roughness: 0.75, metalness: 0 });
    this.material.needsUpdate = true;
    this.node.dataset.wears = "";
    this.draw();
  }

  /** Wear maps that a job made.
   * @param {Record<string, string>} maps addresses by map: base, normal, occlusion, packed
   */
  async wear(maps) {
    if (!this.start()) return;
    this.earlier = null;
    const loader = new THREE.TextureLoader();
    const taken = {};
    for (const [name, address] of Object.entries(maps)) {
      const texture = await loader.loadAsync(address);
      texture.colorSpace = name === "base" ? THREE.SRGBColorSpace : THREE.NoColorSpace;
      texture.anisotropy = 4;
      taken[name] = texture;
    }
    const packed = taken.packed || null;
    Object.assign(this.material, {
      map: taken.base || null,
      normalMap: taken.normal || null,
      roughnessMap: packed,
      metalnessMap: packed,
      aoMap: packed || taken.occlusion || null,
      roughness: packed ? 1 : 0.75,
      metalness: packed ? 1 : 0,
    });
    this.material.needsUpdate = true;
    this.node.dataset.wears = Object.keys(maps).sort().join(" ");
    this.draw();
  }

  /** Draw the layout on the texture: islands in their colours, those that are meant, squares with letters over them.
   * @param {SVGPathElement[]} paths
   */
  layout(paths) {
    const pen = this.sheet.getContext("2d");
    pen.setTransform(1, 0, 0, 1, 0, 0);
    pen.fillStyle = "#b9b5ac";
    pen.fillRect(0, 0, SIDE, SIDE);
    pen.setTransform(SIDE, 0, 0, SIDE, 0, 0);
    for (const path of paths) {
      pen.fillStyle = path.classList.contains("meant") ? "#c2522d" : path.style.fill;
      pen.fill(new Path2D(path.getAttribute("d")), "evenodd");
    }
    pen.setTransform(1, 0, 0, 1, 0, 0);
    const step = SIDE / CELLS;
    pen.font = `600 ${Math.round(step * 0.42)}px Figtree, sans-serif`;
    pen.textAlign = "center";
    pen.textBaseline = "middle";
    for (let y = 0; y < CELLS; y++)
      for (let x = 0; x < CELLS; x++) {
        pen.fillStyle = (x + y) % 2 ? "rgba(255, 255, 255, .34)" : "rgba(0, 0, 0, .16)";
        pen.fillRect(x * step, y * step, step, step);
        pen.fillStyle = "rgba(20, 20, 18, .62)";
        pen.fillText(String.fromCharCode(65 + x) + (y + 1), (x + 0.5) * step, (y + 0.54) * step);
      }
    if (this.texture) this.texture.needsUpdate = true;
    this.draw();
  }

  draw() {
    if (!this.renderer || !this.mesh || this.pending) return;
    this.pending = requestAnimationFrame(() => {
      this.pending = 0;
      const box = this.node.getBoundingClientRect();
      if (!box.width || !box.height) return;
      const still = !(this.moving && this.light); // a stand-in is turned with a quarter of the pixels
      this.renderer.setPixelRatio(drawnInSoftware() ? (still ? 1 : 0.5) : Math.min(devicePixelRatio, 2));
      this.renderer.setSize(box.width, box.height, false);
      this.renderer.setClearColor(new THREE.Color(getComputedStyle(this.node).backgroundColor));
      const [yaw, pitch] = this.turn;
      const away = this.away * Math.max(1, box.height / box.width);
      this.camera.aspect = box.width / box.height;
      this.camera.position.set(
        away * Math.sin(yaw) * Math.cos(pitch),
        away * Math.sin(pitch),
        away * Math.cos(yaw) * Math.cos(pitch),
      );
      this.camera.lookAt(0, 0, 0);
      this.camera.updateProjectionMatrix();
      this.sun.position.set(-2, 3, 4).applyQuaternion(this.camera.quaternion);
      if (this.light) [this.light.visible, this.mesh.visible] = [this.moving, !this.moving];
      this.render(box);
      this.node.dataset.wipe = this.earlier ? this.wipe.toFixed(2) : "";
      this.node.dataset.frames = String(+(this.node.dataset.frames || 0) + 1);
    });
  }

  render(box) {
    if (!this.earlier) {
      this.renderer.render(this.scene, this.camera);
      return;
    }
    const at = Math.round(this.wipe * box.width);
    this.renderer.setScissorTest(true);
    for (const [left, width, material] of [
      [0, at - 1, this.earlier],
      [at + 1, box.width - at - 1, this.material],
    ]) {
      for (const mesh of [this.mesh, this.light]) if (mesh) mesh.material = material;
      this.renderer.setScissor(left, 0, width, box.height);
      this.renderer.render(this.scene, this.camera);
    }
    for (const mesh of [this.mesh, this.light]) if (mesh) mesh.material = this.material;
    this.renderer.setScissorTest(false);
  }

  drag(event) {
    let last = [event.clientX, event.clientY],
      far = 0;
    const move = e => {
      const [dx, dy] = [e.clientX - last[0], e.clientY - last[1]];
      far += Math.abs(dx) + Math.abs(dy);
      last = [e.clientX, e.clientY];
      if (far < 4) return;
      this.moving = true;
      this.turn = [this.turn[0] - dx / 140, Math.max(-1.5, Math.min(1.5, this.turn[1] + dy / 140))];
      this.draw();
    };
    const up = e => {
      this.canvas.removeEventListener("pointermove", move);
      if (far < 4) this.pick(e);
      this.moving = false;
      this.draw();
    };
    this.canvas.setPointerCapture(event.pointerId);
    this.canvas.addEventListener("pointermove", move);
    this.canvas.addEventListener("pointerup", up, { once: true });
  }

  key(event) {
    const by = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, 1], ArrowDown: [0, -1] }[event.key];
    if (by) this.turn = [this.turn[0] + by[0] * 0.15, Math.max(-1.5, Math.min(1.5, this.turn[1] + by[1] * 0.15))];
    else if (event.key === "+") this.away = Math.max(1.2, this.away * 0.85);
    else if (event.key === "-") this.away = Math.min(9, this.away / 0.85);
    else return;
    event.preventDefault();
    this.draw();
  }

  // Which place of the layout lies under the pointer
  pick(event) {
    if (!this.mesh) return;
    const box = this.canvas.getBoundingClientRect();
    const at = new THREE.Vector2(
      ((event.clientX - box.left) / box.width) * 2 - 1,
      1 - ((event.clientY - box.top) / box.height) * 2,
    );
    const ray = new THREE.Raycaster();
    ray.setFromCamera(at, this.camera);
    const [hit] = ray.intersectObject(this.mesh, false);
    if (hit?.uv) this.picked(hit.uv.x, hit.uv.y);
  }
}
