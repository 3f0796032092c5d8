// Forms as patches: each a place for every (s, t) of a square, cut into tiles, so that whatever draws a part of the
// picture touches only the tiles that lie in it. Lengths in scene units: about 2 across.
import * as THREE from "/static/vendor/three/three.module.js";

const TILE = 64; // corners along the side of a tile

// Title, how near the camera stands, where it looks, whether it goes round the form, and patches for a size in metres
export const FORMS = {
  flat: { near: 2.95, flat: true, patches: () => [plane(2, 2)] },
  box: { near: 3.6, patches: () => block(1.35, 0) },
  "rounded block": { near: 3.7, patches: () => block(1.4, 0.2) },
  ball: { near: 3.35, whole: true, patches: () => [ball(0.98)] },
  cylinder: {
    near: 3.5,
    whole: true,
    patches: () =>
      turned(
        [
          [0.72, -0.875],
          [0.72, 0.875],
        ],
        true,
      ),
  },
  vessel: { near: 3.6, whole: true, patches: () => turned(VESSEL, false) },
  "draped cloth": { near: 3.75, low: -0.1, patches: () => [cloth()] },
  corner: { near: 3.9, patches: () => corner() },
  "floor and wall": { near: 5, low: -0.25, room: true, patches: () => room() },
};
// Radius and height of a turned vessel, from the foot to the lip
const VESSEL = [
  [0.42, -0.95],
  [0.46, -0.93],
  [0.4, -0.84],
  [0.55, -0.62],
  [0.78, -0.25],
  [0.82, 0.08],
  [0.68, 0.42],
  [0.4, 0.62],
  [0.36, 0.74],
  [0.44, 0.88],
  [0.5, 0.93],
];

// at(s, t) → [x, y, z]; s to the right, t up, both 0…1. width, height: its size when laid flat, by which repeats are
// counted. open: its edges hang free or meet others, so displacement fades out there; wraps: s = 1 meets s = 0
function plane(w, h, place = (x, y) => [x, y, 0], open = false) {
  return { width: w, height: h, open, at: (s, t) => place((s - 0.5) * w, (t - 0.5) * h) };
}

function block(side, round) {
  const half = side / 2,
    inner = half - round;
  const turns = [
    (x, y) => [x, y, half],
    (x, y) => [half, y, -x],
    (x, y) => [-x, y, -half],
    (x, y) => [-half, y, x],
    (x, y) => [x, half, -y],
    (x, y) => [x, -half, y],
  ];
  return turns.map(turn =>
    plane(
      side,
      side,
      (x, y) => {
        const p = turn(x, y);
        if (!round) return p;
        const core = p.map(v => Math.max(-inner, Math.min(inner, v))),
          d = p.map((v, i) => v - core[i]),
          n = Math.hypot(...d) || 1;
        return core.map((v, i) => v + (d[i] / n) * round);
      },
      true,
    ),
  );
}

function ball(r) {
  return {
    width: 2 * Math.PI * r,
    height: Math.PI * r,
    wraps: true,
    at: (s, t) => {
      const a = 2 * Math.PI * s,
        b = Math.PI * (t - 0.5);
      return [-r * Math.cos(a) * Math.cos(b), r * Math.sin(b), r * Math.sin(a) * Math.cos(b)];
    },
    facing: (s, t) => {
      const a = 2 * Math.PI * s,
        b = Math.PI * (t - 0.5);
      return [-Math.cos(a) * Math.cos(b), Math.sin(b), Math.sin(a) * Math.cos(b)];
    },
  };
}

// A profile turned round; closed with lids where it is a cylinder
function turned(profile, lids) {
  const far = [0];
  for (let i = 1; i < profile.length; i++)
    far.push(far[i - 1] + Math.hypot(profile[i][0] - profile[i - 1][0], profile[i][1] - profile[i - 1][1]));
  const length = far.at(-1),
    widest = Math.max(...profile.map(([r]) => r));
  const smooth = t => {
    // through the points, without corners
    const d = t * length;
    let i = 1;
    while (i < far.length - 1 && far[i] < d) i++;
    const [p0, p1, p2, p3] = [
        profile[Math.max(0, i - 2)],
        profile[i - 1],
        profile[i],
        profile[Math.min(profile.length - 1, i + 1)],
      ],
      u = (d - far[i - 1]) / (far[i] - far[i - 1]);
    return [0, 1].map(k =>
      profile.length < 3
        ? p1[k] + u * (p2[k] - p1[k])
        : 0.5 *
          (2 * p1[k] +
            (p2[k] - p0[k]) * u +
            (2 * p0[k] - 5 * p1[k] + 4 * p2[k] - p3[k]) * u * u +
            (3 * p1[k] - p0[k] - 3 * p2[k] + p3[k]) * u ** 3),
    );
  };
  const side = {
    width: 2 * Math.PI * widest,
    height: length,
    wraps: true,
    ends: lids,
    at: (s, t) => {
      const [r, y] = smooth(t),
        a = 2 * Math.PI * s;
      return [-r * Math.cos(a), y, r * Math.sin(a)];
    },
  };
  if (!lids) return [side];
  const lid = (y, up) =>
    plane(
      2 * widest,
      2 * widest,
      (x, z) => {
        const r = Math.max(Math.abs(x), Math.abs(z)) / widest,
          n = Math.hypot(x, z) || 1; // a square drawn into a circle
        return [(x / n) * r * widest, y, ((up ? -z : z) / n) * r * widest];
      },
      true,
    );
  return [side, lid(profile.at(-1)[1], true), lid(profile[0][1], false)];
}

// A cloth over a round post: a bell that hangs in folds
function cloth() {
  return plane(
    3.1,
    3.1,
    (x, y) => {
      const r = Math.hypot(x, y),
        a = Math.atan2(y, x),
        hang = Math.max(0, r - 0.5),
        fold = Math.min(1, hang * 1.5);
      const ring =
        Math.min(r, 0.5) +
        (1 - Math.exp(-hang * 1.35)) * 0.5 +
        fold * 0.11 * Math.sin(a * 7 + 0.6) * (0.6 + 0.4 * Math.sin(a * 3));
      return [ring * Math.cos(a), 0.62 - 0.18 * Math.min(r, 0.5) ** 2 * 4 - hang * 0.86, -ring * Math.sin(a)];
    },
    true,
  );
}

// Two walls that meet at an outer corner, as one surface that goes round it
function corner() {
  const w = 1.7,
    h = 2,
    bend = 0.05,
    straight = w - (Math.PI / 4) * bend,
    total = 2 * straight + (Math.PI / 2) * bend;
  return [
    plane(
      total,
      h,
      (x, y) => {
        const d = Math.abs(x) - (Math.PI / 4) * bend,
          sign = Math.sign(x) || 1;
        if (d <= 0) {
          const a = x / bend;
          return [bend * Math.sin(a), y, bend * Math.cos(a) + 0.35];
        }
        const q = Math.SQRT1_2;
        return [sign * (bend * q + d * q), y, bend * q - d * q + 0.35];
      },
      true,
    ),
  ];
}

function room() {
  return [plane(2.6, 1.7, (x, y) => [x, y + 0.15, -0.8]), plane(2.6, 2.2, (x, y) => [x, -0.7, 0.3 - y])];
}

// Tiles of a patch with a number of corners along the longer side
function tiles(patch, fine) {
  const longer = Math.max(patch.width, patch.height),
    along = v => Math.max(1, Math.round((fine * v) / longer)),
    nu = along(patch.width),
    nv = along(patch.height);
  const made = [];
  for (let j = 0; j < nv; j += TILE)
    for (let i = 0; i < nu; i += TILE)
      made.push(tile(patch, nu, nv, i, j, Math.min(nu, i + TILE), Math.min(nv, j + TILE)));
  return made;
}

function tile(patch, nu, nv, i0, j0, i1, j1) {
  const w = i1 - i0 + 1,
    h = j1 - j0 + 1,
    at = new Float32Array(3 * w * h),
    facing = new Float32Array(3 * w * h),
    uv = new Float32Array(2 * w * h),
    held = new Float32Array(w * h);
  const e = 1e-3,
    clamp = v => Math.max(0, Math.min(1, v));
  for (let j = 0; j < h; j++)
    for (let i = 0; i < w; i++) {
      const s = (i0 + i) / nu,
        t = (j0 + j) / nv,
        k = j * w + i;
      at.set(patch.at(s, t), 3 * k);
      let n = patch.facing?.(s, t);
      if (!n) {
        const round = v => (patch.wraps ? v : clamp(v));
        const a = patch.at(round(s - e), t),
          b = patch.at(round(s + e), t),
          c = patch.at(s, clamp(t - e)),
          d = patch.at(s, clamp(t + e));
        const u = b.map((v, q) => v - a[q]),
          v = d.map((x, q) => x - c[q]);
        n = [u[1] * v[2] - u[2] * v[1], u[2] * v[0] - u[0] * v[2], u[0] * v[1] - u[1] * v[0]];
      }
      const l = Math.hypot(...n) || 1;
      facing.set(
        n.map(v => v / l),
        3 * k,
      );
      uv[2 * k] = s;
      uv[2 * k + 1] = t;
      // An open edge that is displaced comes loose from what it belongs to: displacement fades out towards it
      const across = patch.wraps ? 1 : Math.min(s, 1 - s),
        down = patch.wraps && !patch.ends ? 1 : Math.min(t, 1 - t);
      held[k] = patch.open || patch.ends ? Math.min(1, Math.min(across, down) / 0.04) : 1;
    }
  const index = new Uint32Array(6 * (w - 1) * (h - 1));
  for (let j = 0, q = 0; j < h - 1; j++)
    for (let i = 0; i < w - 1; i++, q += 6) {
      const a = j * w + i;
      index.set([a, a + 1, a + w + 1, a, a + w + 1, a + w], q);
    }
  return geometryOf(at, facing, uv, held, index);
}

function geometryOf(at, facing, uv, held, index) {
  const made = new THREE.BufferGeometry();
  made.setAttribute("position", new THREE.BufferAttribute(at, 3));
  made.setAttribute("normal", new THREE.BufferAttribute(facing, 3));
  made.setAttribute("uv", new THREE.BufferAttribute(uv, 2));
  made.setAttribute("held", new THREE.BufferAttribute(held, 1));
  made.setIndex(new THREE.BufferAttribute(index, 1));
  made.computeBoundingSphere();
  made.boundingSphere.radius += 0.3; // room for displacement
  return made;
}

// All tiles of a form. uv run over 0…1 of each patch: the size of the patch says how often a map repeats on it
export function tilesOf(kind, fine) {
  const patches = FORMS[kind].patches(),
    longest = Math.max(...patches.map(p => Math.max(p.width, p.height)));
  return patches.flatMap(p =>
    tiles(p, Math.max(2, Math.round((fine * Math.max(p.width, p.height)) / longest))).map(geometry => ({
      geometry,
      width: p.width,
      height: p.height,
    })),
  );
}

// Name of the form that is the model which the material lies on
export const UNDER = "the model";

// A model of the artist's own, brought to the size of the other forms. Its uv count repeats; where it brought none
// they were laid in its own unit
export function modelOf(data, own) {
  const head = new DataView(data),
    n = head.getUint32(0, true),
    m = head.getUint32(4, true);
  let from = 8;
  const part = (Type, count) => {
    const made = new Type(data.slice(from, from + 4 * count));
    from += 4 * count;
    return made;
  };
  const at = part(Float32Array, 3 * n),
    facing = part(Float32Array, 3 * n),
    uv = part(Float32Array, 2 * n),
    index = part(Uint32Array, 3 * m);
  const low = [Infinity, Infinity, Infinity],
    high = [-Infinity, -Infinity, -Infinity];
  for (let i = 0; i < at.length; i++) {
    low[i % 3] = Math.min(low[i % 3], at[i]);
    high[i % 3] = Math.max(high[i % 3], at[i]);
  }
  const span = Math.max(1e-12, ...high.map((v, k) => v - low[k])),
    scale = 1.9 / span;
  for (let i = 0; i < at.length; i++) at[i] = (at[i] - (low[i % 3] + high[i % 3]) / 2) * scale;
  if (!own) for (let i = 0; i < uv.length; i++) uv[i] /= span / 2;
  return [{ geometry: geometryOf(at, facing, uv, heldAt(at, uv), index), width: 2, height: 2, scale }];
}

// How far displacement may move each corner: not at all where a corner of another island lies at the same place, as
// both would go different ways and the surface would gape
function heldAt(at, uv) {
  const first = new Map(),
    firsts = new Uint32Array(uv.length / 2),
    torn = new Uint8Array(uv.length / 2);
  for (let i = 0; i < firsts.length; i++) {
    const place = [0, 1, 2].map(k => Math.round(1e4 * at[3 * i + k])).join();
    if (!first.has(place)) first.set(place, i);
    const k = (firsts[i] = first.get(place));
    if (Math.hypot(uv[2 * i] - uv[2 * k], uv[2 * i + 1] - uv[2 * k + 1]) > 1e-5) torn[k] = 1;
  }
  return Float32Array.from(firsts, k => 1 - torn[k]);
}

// Somebody of 1.75 m, drawn together from a few round pieces; height in scene units
export function person(tall) {
  const group = new THREE.Group(),
    cloth = new THREE.MeshStandardMaterial({ color: 0x50535a, roughness: 0.8 });
  const piece = (r, length, x, y) => {
    const m = new THREE.Mesh(new THREE.CapsuleGeometry(r * tall, length * tall, 6, 14), cloth);
    m.position.set(x * tall, y * tall, 0);
    group.add(m);
    return m;
  };
  piece(0.042, 0.42, -0.05, 0.25);
  piece(0.042, 0.42, 0.05, 0.25);
  piece(0.088, 0.2, 0, 0.665).scale.z = 0.65;
  piece(0.105, 0.06, 0, 0.755).scale.set(1, 0.5, 0.55);
  piece(0.03, 0.33, -0.118, 0.62).rotation.z = -0.07;
  piece(0.03, 0.33, 0.118, 0.62).rotation.z = 0.07;
  piece(0.03, 0.05, 0, 0.85);
  piece(0.056, 0.03, 0, 0.93);
  return group;
}
