// Talking to the application: one place for errors.
export class Failure extends Error {
  constructor(status, body) {
    super(body.error || `The application answered ${status}.`);
    this.status = status;
    this.body = body;
  }
}

async function check(response) {
  if (response.ok) return response;
  let body = {};
  try {
    body = await response.json();
  } catch {
    /* not JSON: the status says enough */
  }
  if (Array.isArray(body.detail)) body.error = body.detail.map(d => `${d.loc.slice(1).join(".")}: ${d.msg}`).join("; ");
  throw new Failure(response.status, body);
}

async function call(path, options) {
  try {
    return await check(await fetch(path, options));
  } catch (error) {
    if (error instanceof Failure || error.name === "AbortError") throw error;
    throw new Failure(0, { error: "The application does not answer. Is it still running?" });
  }
}

const posted = (body, more = {}) => ({
  ...more,
  method: "POST",
  headers: { "content-type": "application/json" },
  body: JSON.stringify(body),
});

export const get = async path => (await call(path)).json();
export const post = async (path, body = {}, more = {}) => (await call(path, posted(body, more))).json();
export const put = async (path, body) => (await call(path, { ...posted(body, {}), method: "PUT" })).json();
export const send = async (path, form) => (await call(path, { method: "POST", body: form })).json();
// Raw bytes; null when a newer question of the same view came in meanwhile.
export async function bytes(path, body) {
  const response = await call(path, posted(body));
  if (response.status === 204) return null;
  return { headers: response.headers, data: await response.arrayBuffer() };
}

// What is seen beside the work goes through a narrow door, two at a time: a browser keeps six lines to one host, and a
// change must never wait for a free one. Whatever nobody wants any more when its turn comes is not asked for.
const door = { free: 2, waiting: [] };

// Nothing of it begins while a hand is at work: pictures would be drawn and maps made at the cost of what the hand
// waits for
const REST = 400; // milliseconds
let touched = -REST;
for (const kind of ["input", "pointerdown", "pointermove", "wheel", "keydown"])
  globalThis.addEventListener?.(
    // tests import this without a page
    kind,
    event => {
      if (kind !== "pointermove" || /** @type {PointerEvent} */ (event).buttons) touched = performance.now();
    },
    { capture: true, passive: true },
  );
async function handRests() {
  for (let left; (left = touched + REST - performance.now()) > 0;) await new Promise(go => setTimeout(go, left));
}

export async function beside(work, wanted = () => true) {
  if (door.free) door.free--;
  else await new Promise(go => door.waiting.push(go));
  try {
    await handRests();
    return wanted() ? await work() : null;
  } finally {
    const next = door.waiting.shift();
    if (next) next();
    else door.free++;
  }
}
// A picture by its address, through the same door; null when it is not wanted any more.
export const picture = (address, wanted) =>
  beside(
    () =>
      new Promise((done, fail) => {
        const image = new Image();
        image.alt = "";
        image.onload = () => done(image);
        image.onerror = () => fail(new Failure(0, { error: "A picture could not be made." }));
        image.src = address;
      }),
    wanted,
  );

export const since = iso => {
  const seconds = Math.max(0, (Date.now() - Date.parse(iso)) / 1000);
  if (seconds < 60) return "just now";
  if (seconds < 3600) return `${Math.round(seconds / 60)} min ago`;
  if (seconds < 86400) return `${Math.round(seconds / 3600)} h ago`;
  return new Date(iso).toLocaleDateString();
};
export { length as cm } from "./units.js";
export const icon = name => {
  const svg = document.createElementNS("http://www.w3.org/2000/svg", "svg");
  svg.setAttribute("class", "icon");
  svg.setAttribute("aria-hidden", "true");
  const use = document.createElementNS("http://www.w3.org/2000/svg", "use");
  use.setAttribute("href", `#icon-${name}`);
  svg.append(use);
  return svg;
};
export function el(tag, attributes = {}, ...children) {
  const node = document.createElement(tag);
  for (const [key, value] of Object.entries(attributes)) {
    if (key.startsWith("on")) node.addEventListener(key.slice(2), value);
    else if (key.startsWith("aria-")) {
      if (value != null) node.setAttribute(key, String(value));
    } else if (value === true) node.setAttribute(key, "");
    else if (value !== false && value != null) node.setAttribute(key, value);
  }
  node.append(...children.filter(c => c != null));
  return node;
}
export function svg(tag, attributes = {}, ...children) {
  const node = document.createElementNS("http://www.w3.org/2000/svg", tag);
  for (const [key, value] of Object.entries(attributes)) if (value != null) node.setAttribute(key, value);
  node.append(...children);
  return node;
}
