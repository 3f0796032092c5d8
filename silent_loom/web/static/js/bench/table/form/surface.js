// One surface on the form: its textures, as the application made them, and how they answer light.
import * as THREE from "/static/vendor/three/three.module.js";
import { Asking } from "../../asking.js";

// What all surfaces of a form share: one value each, changed in one place
export const uniforms = () => ({
  lift: { value: 0 },
  middle: { value: 0.5 },
  shift: { value: 0 },
  sunk: { value: 0 },
  unlit: { value: 0 },
  relief: { value: 0 },
  baseOn: { value: 1 },
  roughnessOn: { value: 1 },
  metallicOn: { value: 1 },
  specularOn: { value: 1 },
});

const resolved = text =>
  text.replace(/^[ \t]*#include +<([\w\d./]+)>/gm, (_, name) => resolved(THREE.ShaderChunk[name] || ""));

export function patched(shader, shared) {
  Object.assign(shader.uniforms, shared);
  // Held at open edges, around its middle
  shader.vertexShader = `attribute float held;\nuniform float lift, middle, sunk;\n${shader.vertexShader}`.replace(
    "#include <displacementmap_vertex>",
    "#ifdef USE_DISPLACEMENTMAP\n if ( sunk < 0.5 ) transformed += normalize( objectNormal ) * held * ( " +
      "texture2D( displacementMap, vDisplacementMapUv ).x - middle ) * lift;\n#endif",
  );
  let f = shader.fragmentShader
    .replace(
      "#include <color_fragment>",
      "#include <color_fragment>\n diffuseColor.rgb = mix( vec3( 0.18 ), diffuseColor.rgb, baseOn );\n" +
        " if ( relief > 0.5 ) diffuseColor.rgb = vec3( 0.045 );",
    )
    .replace(
      "#include <metalnessmap_fragment>",
      "#include <metalnessmap_fragment>\n" +
        " roughnessFactor = clamp( mix( 0.5, roughnessFactor, roughnessOn ) + shift, 0.0, 1.0 );\n" +
        " metalnessFactor *= metallicOn;\n" +
        " if ( relief > 0.5 ) { roughnessFactor = 0.3; metalnessFactor = 0.0; }",
    )
    .replace(
      "#include <opaque_fragment>",
      "#include <opaque_fragment>\n if ( unlit > 0.5 ) gl_FragColor.rgb = diffuseColor.rgb;",
    )
    .replace("#include <tonemapping_fragment>", "if ( unlit < 0.5 ) {\n#include <tonemapping_fragment>\n}");
  f = resolved(f)
    .replace(/texture2D\(\s*(\w+),\s*v\w*MapUv\s*\)/g, (all, map) =>
      map === "displacementMap" ? all : `texture2D( ${map}, laid )`,
    )
    .replace(
      "specularIntensityFactor *= texture2D( specularIntensityMap, laid ).a",
      "specularIntensityFactor *= mix( 1.0, texture2D( specularIntensityMap, laid ).a, specularOn )",
    );
  // Parallax: the ray goes down through the relief in steps, then between the last two by the line through both (relief
  // mapping; Policarpo, Oliveira & Comba 2005)
  shader.fragmentShader = f.replace(
    "void main() {",
    `
uniform float lift, middle, shift, sunk, unlit, relief, baseOn, roughnessOn, metallicOn, specularOn;
#ifdef USE_DISPLACEMENTMAP
uniform sampler2D displacementMap;
vec2 sunkIn( vec2 at ) {
  vec3 place = -vViewPosition, eye = normalize( vViewPosition );
  vec3 n = normalize( vNormal ) * ( gl_FrontFacing ? 1.0 : -1.0 );
  vec3 px = dFdx( place ), py = dFdy( place ), a = cross( py, n ), b = cross( n, px );
  vec2 ux = dFdx( at ), uy = dFdy( at );
  float area = dot( px, a );
  vec3 gu = ( a * ux.x + b * uy.x ) / area, gv = ( a * ux.y + b * uy.y ) / area;
  vec2 down = -vec2( dot( gu, eye ), dot( gv, eye ) ) * lift / max( 0.2, dot( eye, n ) );
  vec2 from = at - down * ( 1.0 - middle );
  float before = 1.0 - textureLod( displacementMap, from, 0.0 ).x, last = 0.0;
  for ( int i = 1; i <= 28; i ++ ) {
    float deep = float( i ) / 28.0, gap = 1.0 - deep - textureLod( displacementMap, from + down * deep, 0.0 ).x;
    if ( gap <= 0.0 ) { float t = before / max( 1e-5, before - gap ); return from + down * mix( last, deep, t ); }
    before = gap; last = deep;
  }
  return from + down;
}
#endif
vec2 laid;
void main() {
#ifdef USE_MAP
  laid = vMapUv;
#ifdef USE_DISPLACEMENTMAP
  if ( sunk > 0.5 ) laid = sunkIn( vMapUv );
#endif
#endif
`,
  );
}

function same(a, b) {
  const words = d => new Uint32Array(d.buffer, d.byteOffset, d.byteLength >> 2),
    p = words(a),
    q = words(b);
  for (let i = 0; i < p.length; i++) if (p[i] !== q[i]) return false;
  return true;
}

export class Surface {
  /** @type {any} Its shader where there is no graphics card */
  late;
  /** @type {any} */
  working;

  constructor(view, title = "", of = null) {
    this.view = view;
    this.title = title;
    this.material = new THREE.MeshPhysicalMaterial({ roughness: 1, metalness: 1, side: THREE.DoubleSide });
    this.material.defines = { ...this.material.defines };
    this.material.onBeforeCompile = shader => patched(shader, view.shared);
    this.material.customProgramCacheKey = () => "surface";
    this.textures = {};
    this.asking = new Asking(
      view.state,
      a => this.took(a),
      m => view.pane.old(m),
      on => view.busy(this, on),
    );
    if (of) this.asking.of = of;
  }

  ask(more = {}) {
    this.asking.small = this.view.soft; // uploads are the processor's work, too
    const unlit = this.view.look.unlit;
    this.asking.ask("form", { ...(unlit ? { unlit } : {}), ...more }, [256, 512]);
  }

  get there() {
    return !!this.mm;
  }

  took({ data }) {
    if (!this.view.start()) return;
    const head = new DataView(data),
      w = head.getUint32(0, true),
      h = head.getUint32(4, true),
      n = w * h;
    this.mm = [head.getFloat32(8, true), head.getFloat32(12, true)];
    this.depth = head.getFloat32(16, true);
    let at = 20;
    const part = (Type, count) => {
      const made = new Type(data.slice(at, at + count * Type.BYTES_PER_ELEMENT));
      at += made.byteLength;
      return made;
    };
    const base = part(Uint8Array, n * 4),
      orm = part(Uint8Array, n * 4),
      normal = part(Uint16Array, n * 4),
      height = part(Uint16Array, n);
    this.put("map", base, w, h, THREE.RGBAFormat, THREE.UnsignedByteType, THREE.SRGBColorSpace);
    this.put("orm", orm, w, h, THREE.RGBAFormat, THREE.UnsignedByteType);
    this.put("normalMap", normal, w, h, THREE.RGBAFormat, THREE.HalfFloatType);
    this.put("displacementMap", height, w, h, THREE.RedFormat, THREE.HalfFloatType);
    const m = this.material,
      t = this.textures,
      fresh = !m.map;
    m.map = t.map;
    m.aoMap = m.roughnessMap = m.metalnessMap = m.specularIntensityMap = t.orm;
    m.normalMap = t.normalMap;
    m.displacementMap = t.displacementMap;
    let cut = false;
    for (let i = 3; i < base.length && !cut; i += 4) cut = base[i] < 250;
    const test = cut ? 0.5 : 0;
    if (fresh || m.alphaTest !== test) {
      m.alphaTest = test;
      m.needsUpdate = true;
    }
    this.texels = w;
    this.view.arrived(this);
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
      t.generateMipmaps = !(this.view.soft && this.view.state.draft);
      if (!t.generateMipmaps) t.minFilter = THREE.LinearFilter;
      t.anisotropy = this.view.soft ? 1 : 8;
      t.colorSpace = space;
      t.flipY = false;
      t.matrixAutoUpdate = false;
      this.textures[name] = t;
    } else if (same(t.image.data, data))
      return; // nothing to take over: uploading is what costs
    else t.image.data.set(data);
    t.needsUpdate = true;
  }

  // How often its maps repeat in a scene unit, and how strong its slopes are
  laid(across, down, normal, occlusion) {
    for (const t of Object.values(this.textures)) t.matrix.set(across, 0, 0, 0, down, 0, 0, 0, 1);
    // v runs down, so the bitangent does; green up then needs a turned sign
    this.material.normalScale.set(normal, -normal);
    this.material.aoMapIntensity = occlusion;
  }

  dispose() {
    for (const t of Object.values(this.textures)) t.dispose();
    this.material.dispose();
    this.late?.dispose();
  }
}
