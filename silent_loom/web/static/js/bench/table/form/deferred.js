// The fine grid without a graphics card. A triangle of a pixel or less is shaded four times over where each is lit as
// it is drawn, so the grid is drawn first, only to say for each pixel where it lies, how it faces and what part of
// the maps shows; then every pixel is lit once (deferred shading; Saito & Takahashi, Comprehensible rendering of 3-D
// shapes, 1990).
import * as THREE from "/static/vendor/three/three.module.js";

const VERTEX = `
in float held;
uniform sampler2D displacement;
uniform vec2 repeats;
uniform float lift, middle, sunk;
out vec2 at;
out vec3 facing, place;
void main() {
  at = uv * repeats;
  vec3 p = position;
  if ( sunk < 0.5 ) p += normalize( normal ) * held * ( texture( displacement, at ).x - middle ) * lift;
  vec4 seen = modelViewMatrix * vec4( p, 1.0 );
  place = seen.xyz;
  facing = normalMatrix * normal;
  gl_Position = projectionMatrix * seen;
}`;
const FRAGMENT = `
precision highp float;
layout( location = 0 ) out vec4 one;
layout( location = 1 ) out vec4 other;
in vec2 at;
in vec3 facing, place;
void main() {
  vec3 n = normalize( facing );
  one = vec4( at, n.xy );
  other = vec4( place, ( gl_FrontFacing ? 2.0 : -2.0 ) + ( n.z < 0.0 ? -0.5 : 0.5 ) );
}`;
const UV = ["Map", "NormalMap", "AoMap", "RoughnessMap", "MetalnessMap", "SpecularIntensityMap"];
const WHEN = {
  Map: "USE_MAP",
  NormalMap: "USE_NORMALMAP",
  AoMap: "USE_AOMAP",
  RoughnessMap: "USE_ROUGHNESSMAP",
  MetalnessMap: "USE_METALNESSMAP",
  SpecularIntensityMap: "USE_SPECULAR_INTENSITYMAP",
};

export class Deferred {
  constructor() {
    this.target = new THREE.WebGLRenderTarget(16, 16, {
      count: 2,
      type: THREE.FloatType,
      minFilter: THREE.NearestFilter,
      magFilter: THREE.NearestFilter,
    });
    this.geometry = new THREE.ShaderMaterial({
      glslVersion: THREE.GLSL3,
      vertexShader: VERTEX,
      fragmentShader: FRAGMENT,
      side: THREE.DoubleSide,
      uniforms: {
        displacement: { value: null },
        repeats: { value: new THREE.Vector2() },
        lift: { value: 0 },
        middle: { value: 0.5 },
        sunk: { value: 0 },
      },
    });
    this.buffers = { seenOne: { value: this.target.textures[0] }, seenOther: { value: this.target.textures[1] } };
    const corner = new THREE.BufferGeometry();
    corner.setAttribute("position", new THREE.BufferAttribute(new Float32Array([-1, -1, 0, 3, -1, 0, -1, 3, 0]), 3));
    corner.setAttribute("normal", new THREE.BufferAttribute(new Float32Array([0, 0, 1, 0, 0, 1, 0, 0, 1]), 3));
    corner.setAttribute("uv", new THREE.BufferAttribute(new Float32Array(6), 2));
    corner.setAttribute("held", new THREE.BufferAttribute(new Float32Array(3), 1));
    this.sheet = new THREE.Mesh(corner);
    this.sheet.frustumCulled = false;
    this.sheet.renderOrder = -1;
    this.sheet.visible = false;
  }

  sized(w, h) {
    if (this.target.width !== w || this.target.height !== h) this.target.setSize(w, h);
  }

  // What a side's grid is drawn with
  ready(side, shared) {
    const u = this.geometry.uniforms,
      m = side.textures.displacementMap.matrix.elements;
    u.displacement.value = side.textures.displacementMap;
    u.repeats.value.set(m[0], m[4]);
    for (const name of ["lift", "middle", "sunk"]) u[name].value = shared[name].value;
  }

  // The same answer to light as that of a side, of what the grid has said
  lit(side, patched) {
    if (!side.late) {
      side.late = side.material.clone();
      side.late.depthTest = side.late.depthWrite = false;
      side.late.onBeforeCompile = shader => {
        patched(shader);
        Object.assign(shader.uniforms, this.buffers);
        shader.vertexShader = shader.vertexShader
          .replace(
            /#include <project_vertex>/,
            "vec4 mvPosition = vec4( transformed, 1.0 );\ngl_Position = vec4( position.xy, 0.0, 1.0 );",
          )
          .replace(/if \( sunk < 0\.5 \) transformed[^\n]*\n/, "\n");
        shader.fragmentShader = shader.fragmentShader
          .replace(/varying (vec[23]) (vViewPosition|vNormal|v\w*MapUv);/g, "$1 $2;")
          .replace(/dFdx\( (uv|uv\.st|at) \)/g, "seenX")
          .replace(/dFdy\( (uv|uv\.st|at) \)/g, "seenY")
          .replace(/gl_FrontFacing/g, "( seenFront > 0.0 )")
          .replace(
            "void main() {",
            `uniform highp sampler2D seenOne, seenOther;
// How places on the maps change from one pixel to the next. At a border of two islands only one of both neighbours
// lies on the same one: the nearer of them, or a line of the coarsest mip would show there.
vec2 nearer_( ivec2 at, ivec2 by, vec2 uv ) {
 ivec2 last = textureSize( seenOne, 0 ) - 1, on = min( at + by, last ), off = max( at - by, ivec2( 0 ) );
 vec2 one = texelFetch( seenOne, on, 0 ).xy - uv, other = uv - texelFetch( seenOne, off, 0 ).xy;
 bool noOne = texelFetch( seenOther, on, 0 ).w == 0.0, noOther = texelFetch( seenOther, off, 0 ).w == 0.0;
 return noOther || ( ! noOne && dot( one, one ) < dot( other, other ) ) ? one : other;
}
void fetched() {
 ivec2 at = ivec2( gl_FragCoord.xy );
 vec4 a = texelFetch( seenOne, at, 0 ), b = texelFetch( seenOther, at, 0 );
 seenFront = b.w;
 if ( b.w == 0.0 ) discard;
 float out_ = abs( b.w - 1.5 ) < 0.1 || abs( b.w + 2.5 ) < 0.1 ? -1.0 : 1.0;
 vViewPosition = - b.xyz;
 seenX = nearer_( at, ivec2( 1, 0 ), a.xy );
 seenY = nearer_( at, ivec2( 0, 1 ), a.xy );
 // Of a pixel that stands alone on its island no neighbour helps: no direction changes 16 times as fast as the other
 float wide = dot( seenX, seenX ), high = dot( seenY, seenY );
 if ( wide > 256.0 * high ) seenX *= sqrt( 256.0 * high / wide );
 else if ( high > 256.0 * wide ) seenY *= sqrt( 256.0 * wide / high );
 vNormal = vec3( a.zw, out_ * sqrt( max( 0.0, 1.0 - dot( a.zw, a.zw ) ) ) );
${UV.map(name => `#ifdef ${WHEN[name]}\n v${name}Uv = a.xy;\n#endif`).join("\n")}\n}
#undef texture2D
#define texture2D( map_, at_ ) textureGrad( map_, at_, seenX, seenY )
void main() {
 fetched();`,
          );
        shader.fragmentShader = `float seenFront;\nvec2 seenX, seenY;\n${shader.fragmentShader}`;
      };
      side.late.customProgramCacheKey = () => "late";
    }
    const { late, material } = side;
    for (const name of [
      "map",
      "aoMap",
      "roughnessMap",
      "metalnessMap",
      "specularIntensityMap",
      "normalMap",
      "displacementMap",
      "aoMapIntensity",
    ])
      late[name] = material[name];
    late.normalScale.copy(material.normalScale);
    if (late.alphaTest !== material.alphaTest) {
      late.alphaTest = material.alphaTest;
      late.needsUpdate = true;
    }
    return late;
  }
}
