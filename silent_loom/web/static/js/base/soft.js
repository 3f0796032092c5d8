// Whether there is a graphics card. Without one the processor draws every picture, and pens that work in plain memory
// are more than twice as quick as those that play a card.
let known;

export function drawnInSoftware() {
  known ??= asked();
  return known;
}

function asked() {
  const gl = document.createElement("canvas").getContext("webgl2");
  const info = gl?.getExtension("WEBGL_debug_renderer_info");
  const name = info ? String(gl.getParameter(info.UNMASKED_RENDERER_WEBGL)) : "";
  gl?.getExtension("WEBGL_lose_context")?.loseContext();
  return !gl || /swiftshader|llvmpipe|software|basic render/i.test(name);
}

// The pen of a canvas that is drawn often
export const penOf = (canvas, how = {}) =>
  canvas.getContext("2d", drawnInSoftware() ? { ...how, willReadFrequently: true } : how);
