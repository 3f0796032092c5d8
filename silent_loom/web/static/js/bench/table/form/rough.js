// What is seen without a graphics card: the scene drawn with few pixels, read back and enlarged by the page, since
// filling the whole canvas takes longer than everything else; and at rest the full picture, once all of it is done.
// It lies over the canvas that is drawn strip by strip, so that nobody ever sees a part of a picture.
import * as THREE from "/static/vendor/three/three.module.js";
import { el } from "../../../base/api.js";

export class Rough {
  constructor() {
    this.over = el("canvas", { class: "rough", "aria-hidden": true });
    this.pen = this.over.getContext("2d", { alpha: false });
    this.target = new THREE.WebGLRenderTarget(16, 16, { colorSpace: THREE.SRGBColorSpace, internalFormat: "RGBA8" });
    this.target.isXRRenderTarget = true; // asks three for tone and sRGB right here, as on the canvas
    this.hide();
  }

  hide() {
    this.over.style.display = "none";
  }

  sized(w, h) {
    if (this.over.width !== w || this.over.height !== h) {
      this.over.width = w;
      this.over.height = h;
      this.image = null;
    }
  }

  // The canvas beneath is finished: show all of it at once
  take(canvas) {
    this.sized(canvas.width, canvas.height);
    this.pen.drawImage(canvas, 0, 0);
    this.over.style.display = "";
    this.over.dataset.whole = "1";
    this.image = null;
  }

  // Pixels of what `draw` draws, row by row from above
  pixels(renderer, w, h, draw) {
    this.target.setSize(w, h);
    const rows = new Uint8Array(4 * w * h),
      out = new Uint8ClampedArray(4 * w * h);
    renderer.setRenderTarget(this.target);
    draw();
    renderer.setRenderTarget(null);
    renderer.readRenderTargetPixels(this.target, 0, 0, w, h, rows);
    for (let y = 0; y < h; y++) out.set(rows.subarray(4 * w * (h - 1 - y), 4 * w * (h - y)), 4 * w * y); // theirs go up
    return out;
  }

  show(w, h, pixels, whole = false) {
    this.sized(w, h);
    this.image ??= new ImageData(w, h);
    this.image.data.set(pixels);
    this.pen.putImageData(this.image, 0, 0);
    this.over.style.display = "";
    if (whole) this.over.dataset.whole = "1";
    else delete this.over.dataset.whole;
  }
}
