// Light settings, all made here by code: a lamp that is turned by hand, and surroundings painted around the form.
import * as THREE from "/static/vendor/three/three.module.js";

const lamp = (u, v, cu, cv, ru, rv) => {
  let d = Math.abs(u - cu);
  d = Math.min(d, 1 - d);
  return d < ru && Math.abs(v - cv) < rv ? 1 : 0;
};
const soft = (u, v, cu, cv, r) => {
  let d = Math.abs(u - cu);
  d = Math.min(d, 1 - d);
  return Math.exp(-((d * 2) ** 2 + (v - cv) ** 2) / (r * r));
};
const mixed = (a, b, t) => a.map((v, i) => v + (b[i] - v) * t);
const plus = (a, b, k) => a.map((v, i) => v + b[i] * k);

// sun: colour and strength of the lamp; around(u, up): light from there, u round the form, up 0…1 from below; share
// of it
export const LIGHTS = {
  quay: {
    title: "Quay, overcast",
    sun: [0xfff6ea, 3.3],
    share: 0.95,
    around: (u, up) => {
      // Soft enough to judge colour, with edges for the gloss to catch
      const sky = up > 0.5 ? 0.55 + 0.5 * (up - 0.5) : 0.2 + 0.25 * up;
      const light =
        7 * lamp(u, up, 0.18, 0.74, 0.05, 0.1) +
        4 * lamp(u, up, 0.62, 0.68, 0.09, 0.05) +
        2.2 * lamp(u, up, 0.86, 0.8, 0.03, 0.14);
      return [
        sky * (up > 0.5 ? 0.97 : 1.02) + light,
        sky + light * 0.98,
        sky * (up > 0.5 ? 1.04 : 0.95) + light * 0.95,
      ];
    },
  },
  lamp: { title: "One lamp, nothing else", sun: [0xffffff, Math.PI], share: 0, around: () => [0, 0, 0] },
  evening: {
    title: "Low evening sun",
    sun: [0xffc68a, 4.4],
    share: 0.8,
    around: (u, up) => {
      const sky =
        up > 0.5
          ? mixed([0.95, 0.62, 0.4], [0.2, 0.3, 0.52], Math.min(1, (up - 0.5) * 2.6))
          : mixed([0.12, 0.1, 0.09], [0.3, 0.22, 0.17], up * 2);
      return plus(sky, [9, 5, 2.2], soft(u, up, 0.3, 0.54, 0.09));
    },
  },
  workshop: {
    title: "Workshop, strip lamps",
    sun: [0xf4f7ff, 1.2],
    share: 1,
    around: (u, up) => {
      const wall = 0.16 + 0.1 * up,
        strips = up > 0.7 && up < 0.94 && Math.floor(u * 16) % 4 === 1 ? 9 : 0,
        window_ = 5 * lamp(u, up, 0.05, 0.58, 0.045, 0.12);
      return [
        wall * 1.04 + strips * 0.97 + window_ * 0.9,
        wall + strips + window_,
        wall * 0.94 + strips * 0.98 + window_ * 1.1,
      ];
    },
  },
  deck: {
    title: "Night deck, two lamps",
    sun: [0xffb066, 2.6],
    share: 1,
    around: (u, up) => {
      const night = up > 0.5 ? [0.02, 0.028, 0.05] : [0.012, 0.012, 0.014];
      return plus(
        plus(night, [16, 9, 3.6], lamp(u, up, 0.2, 0.66, 0.03, 0.05)),
        [2.2, 5.5, 8],
        lamp(u, up, 0.66, 0.6, 0.02, 0.09),
      );
    },
  },
  even: { title: "Even white room", sun: [0xffffff, 0], share: 1, around: () => [1, 1, 1] },
};

const made = new WeakMap();

/** Surroundings of a setting, blurred for every roughness. Without a graphics card that takes seconds, so those of
 * tools/surroundings.py are fetched.
 * @returns {Promise<any>}
 */
export function surroundings(renderer, name, soft) {
  const known = made.get(renderer) || made.set(renderer, {}).get(renderer);
  return (known[name] ??= soft
    ? fetched(renderer, name).catch(() => painted(renderer, LIGHTS[name].around, 128).texture)
    : Promise.resolve(painted(renderer, LIGHTS[name].around, 256).texture));
}

const SIDE = 64; // texels of a face of fetched surroundings at their sharpest; each level is half as wide
const ROUGHEST = 8; // and of the roughest level

/** Faces of a cube, level by level, as tools/surroundings.py writes them.
 * @param {any} renderer
 * @param {string} name
 */
async function fetched(renderer, name) {
  const response = await fetch(`/static/lights/${name}.half`);
  if (!response.ok) throw new Error(response.statusText);
  const codes = new Uint16Array(await response.arrayBuffer());
  const target = new THREE.WebGLCubeRenderTarget(SIDE, {
    minFilter: THREE.LinearMipmapLinearFilter,
    type: THREE.HalfFloatType,
    colorSpace: THREE.LinearSRGBColorSpace,
    depthBuffer: false,
  });
  for (let side = SIDE; side >= ROUGHEST; side /= 2) target.texture.mipmaps.push({ width: side, height: side });
  target.texture.isPMREMTexture = true;
  renderer.initRenderTarget(target);
  const gl = renderer.getContext();
  gl.bindTexture(gl.TEXTURE_CUBE_MAP, renderer.properties.get(target.texture).__webglTexture);
  gl.pixelStorei(gl.UNPACK_FLIP_Y_WEBGL, false);
  gl.pixelStorei(gl.UNPACK_ALIGNMENT, 1);
  let at = 0;
  for (let side = SIDE, level = 0; side >= ROUGHEST; side /= 2, level++)
    for (let face = 0; face < 6; face++, at += 3 * side * side) {
      const texels = new Uint16Array(4 * side * side).fill(THREE.DataUtils.toHalfFloat(1));
      for (let i = 0; i < side * side; i++) texels.set(codes.subarray(at + 3 * i, at + 3 * i + 3), 4 * i);
      const where = gl.TEXTURE_CUBE_MAP_POSITIVE_X + face;
      gl.texSubImage2D(where, level, 0, 0, side, side, gl.RGBA, gl.HALF_FLOAT, texels);
    }
  renderer.resetState();
  return target.texture;
}

/** A setting's surroundings as a target of the renderer, from a picture of that width. */
export function painted(renderer, around, w) {
  const h = w / 2,
    data = new Float32Array(w * h * 4);
  // A texture's rows go up
  for (let y = 0; y < h; y++)
    for (let x = 0; x < w; x++) data.set([...around(x / w, (y + 0.5) / h), 1], (y * w + x) * 4);
  const texture = new THREE.DataTexture(data, w, h, THREE.RGBAFormat, THREE.FloatType);
  texture.mapping = THREE.EquirectangularReflectionMapping;
  texture.magFilter = texture.minFilter = THREE.LinearFilter;
  texture.needsUpdate = true;
  const maker = new THREE.PMREMGenerator(renderer),
    found = maker.fromEquirectangular(texture);
  texture.dispose();
  maker.dispose();
  return found;
}
